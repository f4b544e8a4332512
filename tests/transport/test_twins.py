"""The kernels of transport against their plain twins, on connections made up at random and on simulated ones."""

import random
from collections import defaultdict

import numpy as np
import pytest

from tests.frames import ACK, SYN, C, S, ether, pcap, tcp
from tests.ledger.test_simulated import simulate
from tests.oracles.plain_transport import PlainClasses, plain_extra_delays, plain_gather, plain_round_trips
from yaffle.analysis import analyse
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.transport import kinds
from yaffle.transport.host_clock import extra_delays


def made_up(seed):
    """Packets of one connection whose numbers, timestamps and order jump about, near where 32 bits end."""
    rnd = random.Random(seed)
    seq, stamp, packets = [2**32 - 3000, 2**31 - 500], [2**32 - 40, 90], []
    scales = [rnd.choice((None, 0, 3, 7)), rnd.choice((None, 2, 14))]
    opened = rnd.random() < 0.7
    for k in range(rnd.randrange(2, 80)):
        d = k if k < 2 else rnd.randrange(2)
        first = k < 2 and opened
        n = 0 if first else rnd.choice((0, 0, 1, 500, 1448))
        back = 0 if first or rnd.random() < 0.8 else rnd.choice((-1, 700, 1448))
        stamp[d] += rnd.randrange(4)
        flags = (SYN if d == 0 else SYN | ACK) if first else ACK
        timed = rnd.random() < 0.9
        packets.append(
            {
                "t": k * MS + (rnd.randrange(-2, 3) * MS if k > 3 else 0),
                "d": d,
                "flags": flags,
                "seq": (seq[d] - back) % 2**32,
                "ack": (seq[1 - d]) % 2**32,
                "window": rnd.randrange(65536),
                "n": n,
                "tsval": stamp[d] % 2**32 if timed else None,
                "tsecr": stamp[1 - d] % 2**32 if timed else None,
                "scale": scales[d],
            }
        )
        seq[d] += n + first
    return sorted(packets, key=lambda p: p["t"])


def frame_of(p):
    ends = ((C, 40000, S, 80), (S, 80, C, 40000))[p["d"]]
    options = bytes([1, 3, 3, p["scale"]]) if p["flags"] & SYN and p["scale"] is not None else b""
    stamps = None if p["tsval"] is None else (p["tsval"], p["tsecr"])
    return ether(tcp(*ends, p["seq"], p["ack"], p["flags"], b"x" * p["n"], p["window"], options, ts=stamps))


@pytest.mark.parametrize("seed", range(30))
def test_gathered_segments_are_those_of_the_twin(tmp_path, seed):
    packets = made_up(seed)
    connection = Connection(
        Evidence(analyse([pcap(tmp_path / "a.pcap", [(p["t"] + 10**9, frame_of(p)) for p in packets])])), 0
    )
    swapped = connection.client_port == 80
    if swapped:
        pytest.skip("the ends were taken the other way round: nothing tells them apart")
    wanted = plain_gather(packets)
    for name in ("d", "s", "e", "a", "n", "tsv", "tse", "w"):
        assert connection.segments[name].tolist() == [row[name] for row in wanted], name


def simulated(tmp_path, seed, near, jitter_ns=0):
    rnd = random.Random(seed)
    calls = [
        Request(rnd.randrange(1, 3000), rnd.randrange(60) * MS, rnd.randrange(1, 40_000), rnd.randrange(100) * MS)
        for _ in range(3)
    ]
    path, _ = simulate(
        tmp_path / "a.pcapng",
        calls,
        delay_ms=rnd.choice((1, 8, 30)),
        loss=rnd.choice((0, 0.03, 0.1)),
        near_client=near,
        seed=seed,
        rate_bps=20_000_000,
        jitter_ns=jitter_ns,
    )
    return Connection(Evidence(analyse([path])), 0)


def by_moment(g):
    rows = defaultdict(list)
    for i, row in enumerate(g):
        rows[int(row["d"]), int(row["t"])].append(i)
    return rows


def sack_rows(connection):
    rows = [[] for _ in range(connection.segments.size)]
    sent = by_moment(connection.segments)
    for side in (0, 1):
        for t, left, right in zip(*connection.sack_blocks(side), strict=True):
            rows[sent[1 - side, int(t)][0]].append((int(left), int(right)))
    return rows


@pytest.mark.parametrize("near", [True, False])
@pytest.mark.parametrize("seed", range(8))
def test_segments_are_told_apart_as_by_the_twin(tmp_path, seed, near):
    connection = simulated(tmp_path, seed, near, seed % 2 * 4 * MS)
    g, twin = connection.segments, PlainClasses(connection.segments, sack_rows(connection))
    for i in range(g.size):
        kind = int(g["kind"][i])
        base = kind & kinds.KIND_MASK
        word = twin.word(i)
        if kind & kinds.FIRST_UNSEEN and word == "data":
            # Nothing was seen of these bytes before: only the identifications, which skipped, can tell.
            own = g["id"][:i][g["d"][:i] == g["d"][i]]
            assert np.diff(np.append(own, g["id"][i])).max() > 1
            continue
        expected = {
            "copy": (kinds.COPY,),
            "late": (kinds.OUT_OF_ORDER,),
            "data": (kinds.DATA, kinds.CLOSE),
            "probe": (kinds.KEEP_ALIVE, kinds.WINDOW_PROBE),
            "duplicate": (kinds.DUPLICATE_ACK,),
            "repeat": tuple(range(kinds.REPEAT_TIMEOUT, kinds.REPEAT_CLOSE + 1)),
            "other": (
                kinds.PURE_ACK,
                kinds.WINDOW_UPDATE,
                kinds.OPEN,
                kinds.OPEN_ANSWER,
                kinds.RESET,
                kinds.REPEAT_OPEN,
                kinds.KEEP_ALIVE_ANSWER,
                kinds.WINDOW_PROBE_ANSWER,
            ),
        }[word]
        assert base in expected, (i, word, kinds.in_words(kind))


@pytest.mark.parametrize("near", [True, False])
@pytest.mark.parametrize("seed", range(8))
def test_acknowledgements_flight_and_samples_are_those_of_the_twin(tmp_path, seed, near):
    connection = simulated(tmp_path, seed, near, seed % 2 * 4 * MS)
    g, twin = connection.segments, PlainClasses(connection.segments, sack_rows(connection))
    for i in range(g.size):
        base = int(g["kind"][i]) & kinds.KIND_MASK
        if g["n"][i] and base in (kinds.DATA, kinds.OUT_OF_ORDER):
            assert int(g["done"][i]) == twin.done(i), i
        if not twin.copy[i]:
            top, acked = twin.reached(i + 1, int(g["d"][i]))
            if top is not None and acked is not None:
                assert int(g["flight"][i]) == top - acked, i
    sent = by_moment(g)
    for sample in connection.samples:
        side = int(sample["side"])
        assert sent[side, int(sample["t"])]
        firsts = sent[1 - side, int(sample["t"] - sample["rtt"])]
        if sample["way"] in (1, 2):  # Karn's rule: bytes that had been sent once when they were acknowledged.
            assert any(twin.done(i) == sample["t"] and twin.sent_once(i, int(sample["t"])) for i in firsts)


@pytest.mark.parametrize("seed", range(6))
def test_extra_delays_and_quantiles_are_those_of_the_twin(tmp_path, seed):
    connection = simulated(tmp_path, seed, True, 4 * MS)
    out = np.empty((2, connection.segments.size), np.int64)
    extra_delays(connection.segments, out)
    assert out.tolist() == plain_extra_delays(connection.segments)
    account = connection.evidence.analysis.account
    for side, name in ((0, "to_client"), (1, "to_server")):
        found = [
            int(account.fact(f"{name}_{which}")[0]) for which in ("min_ns", "median_ns", "p95_ns", "max_ns", "samples")
        ]
        assert found == plain_round_trips(connection.samples, side)
