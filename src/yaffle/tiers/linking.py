"""Links of all hosts: each call to the request behind whose answer it lies, with a certainty."""

from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Float64s, Int32s2, Int64s
from yaffle.tiers.drawing import draw, draw_piece, sweeps_of
from yaffle.tiers.hops import Hops
from yaffle.tiers.host_calls import host_calls
from yaffle.tiers.learning import learn
from yaffle.tiers.watch import Watch
from yaffle.tiers.weighing import SAMPLES, Weighing

_NOTHING = 1e-4  # certainty up to which a link is none


@dataclass(frozen=True)
class Links:
    """What lies behind what. A link is a pair of hops: the call, and the one behind whose answer it lies."""

    call: Int64s  # hop
    front: Int64s  # hop
    certainty: Float64s  # 0 to 1
    samples: Int32s2  # (SAMPLES, hops): in each state, the hop behind whose answer each lies, or -1


def _weighings(hops: Hops, watch: Watch, pool: ThreadPoolExecutor) -> list[Weighing]:
    """One for each host that owed answers while it asked others."""
    count = 1 + max(hops.client.max(initial=-1), hops.server.max(initial=-1))
    both = np.bincount(hops.client, minlength=count) * np.bincount(hops.server, minlength=count)

    def weighing(number: int, host: int) -> Weighing | None:
        evidence = host_calls(hops, np.flatnonzero(hops.server == host), np.flatnonzero(hops.client == host))
        return Weighing(evidence, number + 1, watch) if evidence.owners.size else None

    hosts = np.flatnonzero(both).tolist()
    return [one for one in pool.map(weighing, range(len(hosts)), hosts) if one is not None]


def _work(weighing: Weighing) -> int:
    """How often a possible owner will be weighed."""
    learning = weighing.effort.chains * weighing.effort.learning
    return weighing.host.owners.size * (learning + sweeps_of(weighing))


def link(hops: Hops, watch: Watch | None = None) -> Links:
    """All links of all hosts that answer and ask."""
    watch = watch or Watch()
    with ThreadPoolExecutor(2) as pool:
        weighings = _weighings(hops, watch, pool)
        watch.begin(sum(map(_work, weighings)))
        learning = {pool.submit(learn, weighing): weighing for weighing in weighings}
        drawn = []
        for learnt in as_completed(learning):  # What is learnt first is drawn while others are learnt.
            weighing, habit = learning[learnt], learnt.result()
            if weighing.large:
                pieces = range(len(weighing.pieces))
                drawn += [pool.submit(draw_piece, weighing, habit, number) for number in pieces]
            else:
                drawn.append(pool.submit(draw, weighing, habit))
        for one in drawn:
            one.result()
    samples = np.full((SAMPLES, hops.exchange.size), -1, np.int32)
    found = []
    for weighing in weighings:
        host, calls = weighing.host, weighing.host.calls
        samples[:, calls["hop"]] = weighing.found
        likely = np.flatnonzero(weighing.shares > _NOTHING)
        call = np.searchsorted(calls["owners_end"], likely, "right")
        found.append((calls["hop"][call], host.fronts["hop"][host.owners["front"][likely]], weighing.shares[likely]))
    none = np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0)
    call, front, certainty = (np.concatenate(columns) for columns in zip(none, *found, strict=True))
    return Links(call, front, certainty, samples)
