"""Whether two interfaces see the same packets: the kernel against its plain twin."""

import itertools

import numpy as np
import pytest

from yaffle.capture.packets import PacketTable
from yaffle.capture.shared_conversations import _FLOWS_COMPARED, _LIKE_ENOUGH, _SAME_MOMENT_NS, compare_pairs


def identities(packets, rows):
    head = packets.head[rows]
    parts = head["seq"].astype(np.uint64) << np.uint64(32) | head["ack"].astype(np.uint64)
    parts ^= head["ip_id"].astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    parts ^= (head["payload"].astype(np.uint64) << np.uint64(16)) ^ head["tsval"].astype(np.uint64) * np.uint64(
        0xBF58476D1CE4E5B9
    )
    return parts


def plainly(packets, rows_of, pairs):
    """The definition: packets are the same by their identity, the first of each counts."""
    shared = same = seen = 0
    copies = []
    for index, (first, second) in enumerate(pairs):
        if index >= _FLOWS_COMPARED and same * 2 < shared:
            break
        a, b = rows_of[first], rows_of[second]
        if not a.size or not b.size:
            continue
        ids_a, ids_b = identities(packets, a), identities(packets, b)
        if np.unique(ids_a).size * 2 < a.size and a.size >= _LIKE_ENOUGH and abs(a.size - b.size) * 10 <= a.size:
            ids_a, ids_b = np.arange(a.size), np.arange(b.size)
        _, at_a, at_b = np.intersect1d(ids_a, ids_b, return_indices=True)
        seen += min(a.size, b.size)
        shared += at_a.size
        near = np.abs(packets.time_ns[a[at_a]] - packets.time_ns[b[at_b]]) <= _SAME_MOMENT_NS
        near &= packets.ttl[a[at_a]] == packets.ttl[b[at_b]]
        same += int(near.sum())
        copies.append(b[at_b[near]])
    return shared, same, seen, np.concatenate([np.empty(0, np.int64), *copies])


@pytest.mark.parametrize("seed", range(40))
def test_the_kernel_does_what_its_twin_does(seed):
    random = np.random.default_rng(seed)
    count, packets = int(random.integers(2, 60)), None
    sizes = random.integers(0, 30, count)
    starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    packets = PacketTable(int(starts[-1])).window(0, int(starts[-1]))
    for name in ("seq", "ack", "ip_id", "payload", "tsval"):
        packets.head[name] = random.integers(0, random.choice([1, 2, 9]), starts[-1])
    packets.time_ns[:] = random.integers(0, 3 * _SAME_MOMENT_NS, starts[-1])
    packets.ttl[:] = random.integers(63, 63 + random.choice([1, 2]), starts[-1])
    rows = random.permutation(int(starts[-1]))
    pairs = random.integers(0, count, (int(random.integers(1, 50)), 2))
    copies = np.empty(int(np.diff(starts)[pairs[:, 1]].sum()), np.int64)
    shared, same, seen, found = compare_pairs(packets, rows, starts, pairs, np.uint64(2 * seed + 1), copies)
    rows_of = [rows[a:b] for a, b in itertools.pairwise(starts)]
    expected = plainly(packets, rows_of, pairs.tolist())
    assert (shared, same, seen) == expected[:3]
    assert sorted(copies[:found].tolist()) == sorted(expected[3].tolist())
