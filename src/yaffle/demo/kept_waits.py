"""How long the desks waited over the four weeks, drawn from what their flow records say: exchanges by the bytes that a
service carried, queuing by how full the site's line was in those ten minutes.

It is a draw from assumed distributions, not a simulation of packets: the morning's captures are that.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from yaffle.demo.weeks import HOUR_NS, LAN, SERVICES, SITES, START_NS, HourOfSite

STEP_NS = 600 * 10**9
ROUND_TRIP_MS = {"Northpoint": 8.0, "Saltmarsh": 14.0, "Isle of Wren": 21.0, "Quay House": 0.6}
_SERVED = {  # bytes of an answer, its processing in ms, round trips
    "ticket desk": (48_000, 85.0, 3), "ticket database": (9_000, 11.0, 1), "timetable": (30_000, 22.0, 2),
    "manifest": (70_000, 60.0, 3),
}  # fmt: skip
_FULL, _QUEUE_MS = 0.85, 210.0  # of a line's rate, from which on its queue stands; the queue's delay then
_LOST, _TIMEOUT_MS, _FAILED = 0.03, 260.0, 0.0008
_MOST = 400  # exchanges that are drawn for a service in an hour; each stands for as many as there were more
PARTS = (("server", "processing"), ("network", "round-trip"), ("network", "rate"), ("network", "queueing"),
         ("network", "loss"))  # fmt: skip


@dataclass(frozen=True)
class Drawn:
    """Exchanges of one service with one site in one hour. waits_ns: (exchanges, PARTS)."""

    start_ns: int
    site: str
    service: str
    waits_ns: np.ndarray
    began_ns: np.ndarray
    client: np.ndarray  # IPv4 address as a number
    failures: int
    lost: int
    each: int  # for how many exchanges one stands


def fill_of(hour: HourOfSite, line_bps: int) -> np.ndarray:
    """How full the line was in each step, by the fuller direction."""
    flows, steps = hour.flows, HOUR_NS // STEP_NS
    step = (flows["first_ns"] - hour.start_ns) // STEP_NS
    out = flows["ingress"] == LAN
    ways = [np.bincount(step[way], flows["octets"][way], steps) for way in (out, ~out)]
    return np.asarray(np.stack(ways).max(axis=0) * 8 / (STEP_NS / 1e9) / line_bps)


def drawn(hour: HourOfSite) -> Iterator[Drawn]:
    """What desks of one site waited in one hour."""
    site, (_, _, line_bps) = next((name, one) for name, one in SITES.items() if one[1] == hour.router)
    rng = np.random.default_rng((hour.start_ns - START_NS) // HOUR_NS * len(SITES) + list(SITES).index(site))
    fill = fill_of(hour, line_bps)
    flows = hour.flows
    for service, (octets, processing_ms, trips) in _SERVED.items():
        port = SERVICES[service][1]
        rows = np.flatnonzero((flows["src_port"] == port) & (flows["ingress"] != LAN))
        count = np.maximum(1, flows["octets"][rows] // octets)
        each = int(max(1, count.sum() // _MOST))
        owner = np.repeat(rows, np.maximum(1, count // each))
        if not owner.size:
            continue
        n = owner.size
        began = flows["first_ns"][owner] + rng.random(n) * (flows["last_ns"][owner] - flows["first_ns"][owner])
        full = fill[((flows["first_ns"][owner] - hour.start_ns) // STEP_NS).astype(np.int64)]
        waits = np.zeros((n, len(PARTS)))
        waits[:, 0] = processing_ms * rng.lognormal(0, 0.5, n)
        waits[:, 1] = trips * ROUND_TRIP_MS[site]
        waits[:, 2] = octets * 8 / line_bps * 1e3
        standing = np.where(full > _FULL, _QUEUE_MS, 2.0 * full**4 * ROUND_TRIP_MS[site])
        waits[:, 3] = trips * standing * rng.gamma(4.0, 0.25, n)
        lost = (full > _FULL) & (rng.random(n) < _LOST)
        waits[:, 4] = np.where(lost, _TIMEOUT_MS * rng.lognormal(0, 0.2, n), 0.0)
        yield Drawn(
            hour.start_ns, site, service, (waits * 1e6).astype(np.int64), began.astype(np.int64), flows["dst"][owner],
            int(rng.binomial(n * each, _FAILED)), int(lost.sum()), each,
        )  # fmt: skip
