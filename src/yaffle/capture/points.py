"""Which interfaces are one observation point (RFC 7011 section 2), and which see the same packets elsewhere.

Files that follow each other in time, or that share no packet, are taken for one point: a ring of files, or the two
sides of a tap. Interfaces that see the same packets at the same moments are one point too, and the copies are dropped.
Those that see the same packets at other moments are points of their own.
"""

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.captured import Capture
from yaffle.capture.conversations import SYN_FROM_A, Rows
from yaffle.capture.doubles import drop_packets
from yaffle.capture.packets import HEAD_FROM_B
from yaffle.capture.records import Interface
from yaffle.kernels import helper, kernel

_SAME_MOMENT_NS = 2_000
_FLOWS_COMPARED = 24
_LIKE_ENOUGH = 8  # Packets of a conversation, without which their number alone says nothing.


def conversation_keys(flows: Rows) -> Array:
    """One number for the two ends, whoever sent first and wherever it was seen."""

    def mix(high: Array, low: Array, port: Array) -> Array:
        x = (high ^ (low * np.uint64(0x9E3779B97F4A7C15))) + port.astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F)
        x = (x ^ (x >> np.uint64(29))) * np.uint64(0xBF58476D1CE4E5B9)
        return np.asarray(x ^ (x >> np.uint64(32)))

    return np.asarray(
        mix(flows.a_hi, flows.a_lo, flows.a_port)
        + mix(flows.b_hi, flows.b_lo, flows.b_port)
        + flows.protocol.astype(np.uint64)
    )


@kernel
def _put_rows(flow, number, place, out):  # type: ignore[no-untyped-def]
    """Fills out with the rows of some conversations, one conversation after another, in order of capture.

    number: of each conversation its place among those, -1 for others; place: where its next row goes.
    """
    for i in range(flow.size):
        f = flow[i]
        if f >= 0 and number[f] >= 0:
            out[place[number[f]]] = i
            place[number[f]] += 1


@helper
def _identity(head):  # type: ignore[no-untyped-def]
    """A number for a packet that stays the same along the path (and is the same for repeats)."""
    own = np.uint64(head.seq) << np.uint64(32) | np.uint64(head.ack)
    own ^= np.uint64(head.ip_id) * np.uint64(0x9E3779B97F4A7C15)
    return own ^ np.uint64(head.payload) << np.uint64(16) ^ np.uint64(head.tsval) * np.uint64(0xBF58476D1CE4E5B9)


@kernel
def compare_pairs(packets, rows, starts, pairs, copies):  # type: ignore[no-untyped-def]
    """Of pairs of conversations of two interfaces: packets that both saw, those of them at the same moment, and packets
    of the shorter of each pair. Fills copies with the rows of the second that are copies; their number comes last.

    rows: packets of conversation number k: rows[starts[k]:starts[k + 1]]; pairs: int64 (n, 2) of such numbers.
    """
    shared = same = seen = found = 0
    for index in range(pairs.shape[0]):
        if index >= _FLOWS_COMPARED and same * 2 < shared:
            break
        a = rows[starts[pairs[index, 0]] : starts[pairs[index, 0] + 1]]
        b = rows[starts[pairs[index, 1]] : starts[pairs[index, 1] + 1]]
        if a.size == 0 or b.size == 0:
            continue
        ids_a, ids_b = np.empty(a.size, np.uint64), np.empty(b.size, np.uint64)
        for i in range(a.size):
            ids_a[i] = _identity(packets.head[a[i]])
        for i in range(b.size):
            ids_b[i] = _identity(packets.head[b[i]])
        in_a, in_b = np.argsort(ids_a, kind="mergesort"), np.argsort(ids_b, kind="mergesort")
        kinds = 0
        for i in range(a.size):
            kinds += 1 if i == 0 or ids_a[in_a[i]] != ids_a[in_a[i - 1]] else 0
        if kinds * 2 < a.size and a.size >= _LIKE_ENOUGH and abs(a.size - b.size) * 10 <= a.size:
            # All look alike to their headers: the first is taken for the first.
            ids_a, ids_b = np.arange(a.size).astype(np.uint64), np.arange(b.size).astype(np.uint64)
            in_a, in_b = np.arange(a.size), np.arange(b.size)
        seen += min(a.size, b.size)
        i = j = 0
        while i < a.size and j < b.size:
            one, two = ids_a[in_a[i]], ids_b[in_b[j]]
            if one == two:
                shared += 1
                first, second = a[in_a[i]], b[in_b[j]]
                apart = abs(packets.time_ns[first] - packets.time_ns[second])
                if apart <= _SAME_MOMENT_NS and packets.ttl[first] == packets.ttl[second]:
                    same += 1
                    copies[found] = second
                    found += 1
            low = min(one, two)
            while i < a.size and ids_a[in_a[i]] == low:
                i += 1
            while j < b.size and ids_b[in_b[j]] == low:
                j += 1
    return shared, same, seen, found


class _RowsOf:
    """The packets of conversations that two interfaces saw, gathered in one pass when they are first asked for."""

    def __init__(self, capture: Capture, wanted: Array) -> None:
        self._capture = capture
        sizes = capture.conversations.packets[wanted]
        self._starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        self._number = np.full(capture.conversations.point.size, -1, np.int32)
        self._number[wanted] = np.arange(wanted.size)
        self._rows: Array | None = None

    def compare(self, pairs: list[tuple[int, int]]) -> tuple[int, int, int, Array]:
        """As `compare_pairs`; the copies come last."""
        if self._rows is None:
            self._rows = np.empty(int(self._starts[-1]), np.int64)
            _put_rows(self._capture.packets.flow, self._number, self._starts[:-1].copy(), self._rows)
        numbers = self._number[np.array(pairs, np.int64).reshape(-1, 2)].astype(np.int64)
        copies = np.empty(int((self._starts[numbers[:, 1] + 1] - self._starts[numbers[:, 1]]).sum()), np.int64)
        shared, same, seen, found = compare_pairs(self._capture.packets, self._rows, self._starts, numbers, copies)
        return int(shared), int(same), int(seen), copies[:found]


@kernel
def _renumber(packets, number, swap):  # type: ignore[no-untyped-def]
    """Gives packets the new number of their conversation; swap: 1 where its ends change places."""
    for i in range(packets.flow.size):
        old = packets.flow[i]
        if old >= 0:
            packets.flow[i] = number[old]
            if swap[old]:
                packets.direction[i] ^= 1
                packets.head[i].flags ^= HEAD_FROM_B


def merge_points(capture: Capture) -> None:
    """Sets the points and their names; joins conversations that go on in the next file; drops copies."""
    labels: list[str] = []
    for source in capture.sources:
        faces: list[Interface | None] = [*source.interfaces] or [None]
        for face in faces:
            labels.append(
                source.name if len(faces) == 1 or face is None else f"{source.name} {face.name or len(labels)}"
            )
    if len(labels) == 1:
        capture.points = labels
        return
    flows = capture.conversations
    spans = [(np.inf, -np.inf)] * len(labels)
    for point in range(len(labels)):
        own = flows.point == point
        if own.any():
            spans[point] = (int(flows.first_ns[own].min()), int(flows.last_ns[own].max()))
    keys = conversation_keys(flows)
    order = np.argsort(keys, kind="stable")
    by_pair: dict[tuple[int, int], list[tuple[int, int]]] = {}
    at_odds: dict[
        tuple[int, int], list[tuple[int, int]]
    ] = {}  # the same ends at other times: another point, if its clock is wrong
    for group in np.split(order, np.flatnonzero(np.diff(keys[order])) + 1):
        if group.size < 2 or np.unique(flows.point[group]).size < 2:
            continue
        for i, first in enumerate(group[:16]):
            for second in group[i + 1 : 16]:
                p, q = int(flows.point[first]), int(flows.point[second])
                if p != q:
                    together = (
                        flows.first_ns[first] <= flows.last_ns[second] + 10**9
                        and flows.first_ns[second] <= flows.last_ns[first] + 10**9
                    )
                    (by_pair if together else at_odds).setdefault((min(p, q), max(p, q)), []).append(
                        (first, second) if p < q else (second, first)
                    )
    parent = list(range(len(labels)))

    def root(point: int) -> int:
        while parent[point] != point:
            point = parent[point]
        return point

    shared = [flow for pairs in (*by_pair.values(), *at_odds.values()) for pair in pairs for flow in pair]
    rows = _RowsOf(capture, np.unique(np.array(shared, np.int64)))
    apart: set[tuple[int, int]] = set()
    copies: list[Array] = []
    for p in range(len(labels)):
        for q in range(p + 1, len(labels)):
            pairs = by_pair.get((p, q), [])
            kind, extra = _compare(rows, pairs)
            if kind == "nothing shared" and _compare(rows, at_odds.get((p, q), []))[0] == "elsewhere":
                kind = "elsewhere"
            if kind == "nothing shared" and other_sequences(flows, pairs).any():
                kind = "elsewhere"
            overlap = spans[p][0] <= spans[q][1] and spans[q][0] <= spans[p][1]
            if kind == "elsewhere" or (kind == "nothing shared" and overlap and not pairs):
                apart.add((p, q))
            else:
                copies.append(extra)
    for p in range(len(labels)):
        for q in range(p + 1, len(labels)):
            groups = {root(p), root(q)}
            clash = any(
                (min(a, b), max(a, b)) in apart
                for a in range(len(labels))
                if root(a) == root(p)
                for b in range(len(labels))
                if root(b) == root(q)
            )
            if (p, q) not in apart and len(groups) == 2 and not clash:
                parent[max(groups)] = min(groups)
    roots = sorted({root(p) for p in range(len(labels))})
    number = np.array([roots.index(root(p)) for p in range(len(labels))], np.uint16)
    flows.point[:] = number[flows.point]
    capture.points = [labels[r] for r in roots]
    drop_packets(capture, np.concatenate(copies) if copies else np.empty(0, np.int64))
    _join(capture, keys, order)


def other_sequences(flows: Rows, pairs: list[tuple[int, int]]) -> Array:
    """Which pairs of conversations of the same ends began with other sequence numbers while both lived: something
    between answers itself. bool (n,).
    """
    if not pairs:
        return np.zeros(0, bool)
    one, two = np.array(pairs, np.int64).T
    opening = np.maximum(flows.syn_seq, flows.syn_seq_b)  # Of the one side that sent a SYN, as a rule.
    opened = (flows.state & (SYN_FROM_A | SYN_FROM_A << 1)) > 0
    both = np.minimum(flows.last_ns[one], flows.last_ns[two]) - np.maximum(flows.first_ns[one], flows.first_ns[two])
    shorter = np.minimum(flows.last_ns[one] - flows.first_ns[one], flows.last_ns[two] - flows.first_ns[two])
    return np.asarray(
        (flows.protocol[one] == 6) & opened[one] & opened[two] & (opening[one] != opening[two]) & (both * 2 > shorter)
    )


def _compare(rows: _RowsOf, pairs: list[tuple[int, int]]) -> tuple[str, Array]:
    """How two interfaces relate, from conversations both saw; and the rows of the second that are copies."""
    nothing = np.empty(0, np.int64)
    if not pairs:
        return "nothing shared", nothing
    shared, same, seen, copies = rows.compare(pairs)
    if shared * 10 < seen or shared == 0:
        return "nothing shared", nothing
    return ("elsewhere", nothing) if same * 2 < shared else ("same place", copies)


def _join(capture: Capture, keys: Array, order: Array) -> None:
    """Conversations of one point over the same ports become one, unless the later began with a SYN of its own."""
    flows, packets = capture.conversations, capture.packets
    target = np.arange(flows.point.size, dtype=np.int32)
    opening = np.maximum(flows.syn_seq, flows.syn_seq_b)  # Of the one side that sent a SYN, as a rule.
    swap = np.zeros(flows.point.size, np.int8)
    for group in np.split(order, np.flatnonzero(np.diff(keys[order])) + 1):
        if group.size < 2:
            continue
        latest: dict[int, int] = {}
        for row in sorted(group, key=lambda r: int(flows.first_ns[r])):
            point = int(flows.point[row])
            before = latest.get(point)
            opened = flows.state[row] & (SYN_FROM_A | SYN_FROM_A << 1) and not (
                (before is not None and opening[before] == opening[row])
                or (before is not None and not flows.state[before] & 3)
            )
            if before is None or opened:
                latest[point] = int(row)
                continue
            target[row] = before
            swap[row] = int(flows.a_lo[row] != flows.a_lo[before] or flows.a_port[row] != flows.a_port[before])
            state = int(flows.state[row])
            if swap[row]:
                state = (
                    (state & 16)
                    | (state & 1) << 1
                    | (state & 2) >> 1
                    | (state & 4) << 1
                    | (state & 8) >> 1
                    | (state & 32) << 1
                    | (state & 64) >> 1
                )
            flows.state[before] |= state
            flows.packets[before] += flows.packets[row]
            flows.octets[before] += flows.octets[row]
            flows.last_ns[before] = max(flows.last_ns[before], flows.last_ns[row])
    if not (target != np.arange(target.size)).any():
        return
    kept = np.flatnonzero(target == np.arange(target.size))
    number = np.full(target.size, -1, np.int32)
    number[kept] = np.arange(kept.size, dtype=np.int32)
    _renumber(packets, number[target], swap)
    capture.conversations = Rows(*(column[kept] for column in flows))
