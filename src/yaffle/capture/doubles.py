"""The same packet taken twice by one capture: on several devices of a host, or by a mirror of both directions.

Copies that a capture takes come all the time and at once; copies that a network makes are rare. Where the copies
differ by a hop, both sides of a router were seen: those are two observation points.
"""

from collections.abc import Callable

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.conversations import Rows
from yaffle.capture.draft import Draft
from yaffle.capture.packets import MARK_FRAGMENT, MARK_FROM_B, MARK_LATER_FRAGMENT, Columns
from yaffle.kernels import int64, kernel, uint64
from yaffle.units import share

_AT_ONCE_NS = 5_000_000  # A copy that a device or a mirror takes follows within this.
_WITHOUT_NUMBER_NS = 500_000  # Where no identification tells packets apart.
_SYSTEMATIC = 0.3  # So much of all packets are second copies where a capture takes everything twice: at most half.
_LEAST = 4  # Fewer copies in a conversation prove nothing by themselves.
_SLOTS = 1 << 16
_MOST_TIMES = 16  # Nothing takes a packet more often: then its number never changes.
TCP = 6
_BLOCK, _EVERY = 1 << 14, 16  # Of so many packets, one block in so many is looked at first.
_SUSPECT = 3
_A_STEP = 1 << 20  # Packets between two looks at whether to go on.


@kernel
def _find(
    packets: Columns, begin: int, end: int, at_once_ns: int, without_number_ns: int, seen: Int64s2, partner: Int64s
) -> int:
    """Sets partner[i] to the packet of which packet i is a copy, -1 without; returns how many.

    seen: int64 (SLOTS, 2).
    """
    count = 0
    mask = seen.shape[0] - 1
    for i in range(begin, end):
        partner[i - begin] = -1
        if packets.flow[i] < 0 or packets.head[i].marks & (MARK_FRAGMENT | MARK_LATER_FRAGMENT):
            continue  # Fragments of one datagram bear one number.
        h = packets.head[i]
        if h.ip_id == 0 and packets.protocol[i] != TCP:
            continue  # Nothing in its header tells it from the one before it.
        key = uint64(h.seq) << uint64(32) | uint64(h.ack)
        key ^= (uint64(h.ip_id) << uint64(40)) ^ (uint64(h.payload) << uint64(20)) ^ uint64(h.tsval)
        key ^= uint64(h.flags | h.marks & MARK_FROM_B) << uint64(48)
        key ^= (uint64(h.window) << uint64(8)) ^ uint64(packets.flow[i])
        key *= uint64(0x9E3779B97F4A7C15)
        key ^= key >> uint64(29)
        key *= uint64(0xBF58476D1CE4E5B9)
        key ^= key >> uint64(32)
        slot = int64(key & uint64(mask))
        tag = int64(key >> uint64(1))
        before = seen[slot, 1]
        if seen[slot, 0] == tag and begin <= before < i and packets.flow[before] == packets.flow[i]:
            b = packets.head[before]
            alike = b.seq == h.seq and b.ack == h.ack and b.flags == h.flags and b.payload == h.payload
            alike = alike and (b.marks ^ h.marks) & MARK_FROM_B == 0
            alike = alike and b.window == h.window and b.tsval == h.tsval and b.ip_id == h.ip_id
            numbered = h.ip_id != 0
            apart = packets.time_ns[i] - packets.time_ns[before]
            if alike and 0 <= apart <= (at_once_ns if numbered else without_number_ns):
                partner[i - begin] = before
                count += 1
        seen[slot, 0], seen[slot, 1] = tag, i
    return count


def _room() -> Int64s2:
    seen = np.empty((_SLOTS, 2), np.int64)
    seen[:] = -1
    return seen


def _suspected(packets: Columns) -> bool:
    """Whether some blocks of packets hold more than one or two copies."""
    size, found, partner = packets.time_ns.size, 0, np.empty(_BLOCK, np.int64)
    for begin in range(0, size, _BLOCK * _EVERY):
        found += _find(packets, begin, min(size, begin + _BLOCK), _AT_ONCE_NS, _WITHOUT_NUMBER_NS, _room(), partner)
        if found >= _SUSPECT:
            return True
    return False


def drop_doubles(capture: Draft, go_on: Callable[[], None] = lambda: None) -> None:
    """Counts each packet once that a capture took several times; splits points that stood on both sides of a router.

    go_on: asked between two steps; it raises Cancelled to stop.
    """
    packets, flows = capture.packets, capture.conversations
    if not packets.time_ns.size or not _suspected(packets):
        return
    partner = np.empty(packets.time_ns.size, np.int64)
    seen = _room()
    for begin in range(0, partner.size, _A_STEP):
        end = min(partner.size, begin + _A_STEP)
        _find(packets, begin, end, _AT_ONCE_NS, _WITHOUT_NUMBER_NS, seen, partner[begin:end])
        go_on()
    second = np.flatnonzero(partner >= 0)
    if not second.size:
        return
    count = flows.point.size
    # Bare acknowledgements without a number look alike where losses make a host repeat them: the rest tells what is
    # systematic.
    telling = (packets.flow >= 0) & ((packets.head["ip_id"] > 0) | (packets.payload_bytes > 0))
    copies = np.bincount(packets.flow[second[telling[second]]], minlength=count)
    packets_of = np.maximum(1, np.bincount(packets.flow[telling], minlength=count))
    points = int(flows.point.max(initial=0)) + 1
    of_point = np.bincount(flows.point, copies, points) / np.maximum(1, np.bincount(flows.point, packets_of, points))
    systematic = (of_point[flows.point] >= _SYSTEMATIC) | ((copies >= _LEAST) & (copies / packets_of >= _SYSTEMATIC))
    other_tag = packets.vlan[second] != packets.vlan[partner[second]]
    second = second[systematic[packets.flow[second]] | other_tag]
    same_hop = packets.ttl[second] == packets.ttl[partner[second]]
    hops = second[~same_hop]
    go_on()
    surplus = _surplus(packets, second, partner)
    go_on()
    _split_points(capture, hops, partner[hops])
    _note(capture, surplus)
    drop_packets(capture, surplus)


def _surplus(packets: Columns, second: Int64s, partner: Int64s) -> Int64s:
    """The copies of the capture's making: what it took k times as a rule and m times here passed m / k times."""
    first = np.arange(partner.size)
    first[second] = partner[second]
    while not np.array_equal(earlier := first[first], first):
        first = earlier
    own = np.flatnonzero(np.isin(first, first[second]))
    key = first[own] * 256 + packets.ttl[own]  # A hop further on is another point's.
    order = np.argsort(key, kind="stable")
    own, key = own[order], key[order]
    starts = np.flatnonzero(np.concatenate([[True], np.diff(key) != 0]))
    sizes = np.diff(np.append(starts, key.size))
    rank = np.arange(key.size) - np.repeat(starts, sizes)
    sizes_told = np.where(sizes > _MOST_TIMES, 1, sizes)
    counts = np.bincount(sizes_told)
    usual = int(counts[2:].argmax()) + 2 if counts.size > 2 else 2
    kept = np.where(sizes > _MOST_TIMES, sizes, -(-sizes // usual))
    return np.sort(own[rank >= np.repeat(kept, sizes)])


def _note(capture: Draft, rows: Int64s) -> None:
    """Says of each source how much of it were copies."""
    counts = np.bincount(capture.packets.source[rows], minlength=len(capture.sources))
    for number, (source, n) in enumerate(zip(capture.sources, counts.tolist(), strict=True)):
        if n:
            of_all = share(n / max(1, source.packets))
            twice = (
                "were captured more than once (several devices, or a mirror of both directions) and are counted once"
            )
            capture.sources[number] = source.noting(f"{n:,} duplicate packets ({of_all}) {twice}")


def drop_packets(capture: Draft, rows: Int64s) -> None:
    """Takes packets away, and out of the counts of their conversations."""
    if not rows.size:
        return
    keep = np.ones(capture.packets.time_ns.size, bool)
    keep[rows] = False
    capture.packets = Columns._make(column[keep] for column in capture.packets)
    capture.shared = frozenset()
    capture.quotes = capture.quotes[keep[capture.quotes["packet"]]]
    capture.quotes["packet"] = (np.cumsum(keep) - 1)[capture.quotes["packet"]]
    capture.dropped_copies += int(rows.size)
    capture.conversations = counted_again(capture.packets, capture.conversations)


def counted_again(packets: Columns, flows: Rows) -> Rows:
    """Conversations with packets, bytes and period of each by its packets."""
    own = packets.flow >= 0
    flow, time = packets.flow[own], packets.time_ns[own]
    count = flows.point.size
    packets_of = np.bincount(flow, minlength=count).astype(flows.packets.dtype)
    octets = np.bincount(flow, packets.wire_bytes[own], count).astype(flows.octets.dtype)
    first, last = np.full(count, np.iinfo(np.int64).max), np.full(count, np.iinfo(np.int64).min)
    np.minimum.at(first, flow, time)
    np.maximum.at(last, flow, time)
    some = packets_of > 0
    first, last = np.where(some, first, flows.first_ns), np.where(some, last, flows.last_ns)
    return flows._replace(packets=packets_of, octets=octets, first_ns=first, last_ns=last)


def _split_points(capture: Draft, later: Int64s, earlier: Int64s) -> None:
    """Gives the far side of a router, where both sides were captured as one, a point of its own.

    later, earlier: packets that are the same one hop apart. From `a` to `b` the earlier copy was seen nearer to `a`,
    from `b` to `a` the later one; a packet without its other copy is told by its hops.
    """
    chosen = np.unique(capture.packets.flow[later])
    if not chosen.size:
        return
    capture.own("flow")
    packets, flows = capture.packets, capture.conversations
    far = np.zeros(packets.time_ns.size, bool)
    for flow in chosen.tolist():
        own = np.flatnonzero(packets.flow == flow)
        pairs = packets.flow[later] == flow
        for direction in (0, 1):
            mine = pairs & (packets.direction[later] == direction)
            of_far = later[mine] if direction == 0 else earlier[mine]
            if of_far.size:
                values, counts = np.unique(packets.ttl[of_far], return_counts=True)
                ttl = values[np.argmax(counts)]
                far[own[(packets.direction[own] == direction) & (packets.ttl[own] == ttl)]] = True
    base = len(capture.points)
    old = np.unique(flows.point[chosen]).tolist()
    for point in old:
        name = capture.points[point]
        capture.points[point] = f"{name}, first side"
        capture.points.append(f"{name}, one hop on")
    added = {name: getattr(flows, name)[chosen].copy() for name in Rows._fields}
    added["point"] = np.array([base + old.index(p) for p in flows.point[chosen].tolist()], flows.point.dtype)
    capture.conversations = Rows(*(np.concatenate([getattr(flows, name), added[name]]) for name in Rows._fields))
    number = np.full(flows.point.size, -1, np.int32)
    number[chosen] = flows.point.size + np.arange(chosen.size, dtype=np.int32)
    packets.flow[far] = number[packets.flow[far]]
    capture.conversations = counted_again(packets, capture.conversations)
