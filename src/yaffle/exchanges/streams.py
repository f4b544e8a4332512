"""The bytes of one side of a connection, put in order from what was captured; holes where something is missing."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s, Uint8s, Uint16s
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.kernels import helper, int64, kernel
from yaffle.protocols.message import Run
from yaffle.transport.segments import Segments

MOST_BYTES = 256 << 20  # Of one side; what comes after is not decoded.


@helper
def _unowned(free: Int64s, k: int) -> int:
    """The first stretch from k on that has no owner."""
    while free[k] != k:
        free[k] = free[free[k]]
        k = free[k]
    return k


@kernel
def _first_owners(at: Int64s, end: Int64s, edges: Int64s) -> Int64s:
    """For each stretch between two edges, the first of some spans that covers it; -1 none. at, end: in order of
    time.
    """
    owner = np.full(edges.size, -1, np.int64)
    free = np.arange(edges.size)
    for i in range(at.size):
        k = _unowned(free, np.searchsorted(edges, at[i]))
        while edges[k] < end[i]:
            owner[k] = i
            free[k] = k + 1
            k = _unowned(free, k + 1)
    return owner


@kernel
def pieces_of(
    g: Segments, side: int, packets: Columns, start: Int64s, size: Int64s, segment: Int64s, skip: Int64s
) -> int:
    """Bytes of a side without overlap, in order of place: where each piece begins, its size, its segment, how much of
    that is skipped.

    Of several copies of a byte the one that passed first is taken, so that what follows in time changes nothing.
    Returns how many pieces: at most twice as many as segments.
    """
    n = 0
    for i in range(g.size):
        if g[i].d == side and g[i].n > 0:
            n += 1
    at, end, row = np.empty(n, np.int64), np.empty(n, np.int64), np.empty(n, np.int64)
    n = 0
    rising = True
    for i in range(g.size):
        if g[i].d == side and g[i].n > 0:
            p = g[i].row
            kept = min(g[i].n, max(int64(0), int64(packets.captured_bytes[p]) - int64(packets.payload_at[p])))
            if kept > 0:
                at[n], end[n], row[n] = g[i].s, g[i].s + kept, i
                rising = rising and (n == 0 or at[n] >= at[n - 1])
                n += 1
    at, end = at[:n], end[:n]
    count = 0
    if rising:
        high = int64(-(1 << 62))
        for k in range(n):
            if end[k] <= high:
                continue
            begin = max(at[k], high)
            start[count], size[count], segment[count], skip[count] = begin, end[k] - begin, row[k], begin - at[k]
            high = end[k]
            count += 1
        return count
    edges = np.unique(np.concatenate((at, end)))
    owner = _first_owners(at, end, edges)
    last = int64(-1)
    for k in range(edges.size - 1):
        i = owner[k]
        if i >= 0 and i == last:
            size[count - 1] += edges[k + 1] - edges[k]
        elif i >= 0:
            start[count], size[count], segment[count] = edges[k], edges[k + 1] - edges[k], row[i]
            skip[count] = edges[k] - at[i]
            count += 1
        last = i
    return count


@kernel
def _copy(source: Uint8s, position: Int64s, size: Int64s, at: Int64s, out: Uint8s) -> None:
    for k in range(position.size):
        for b in range(size[k]):
            if position[k] + b < source.size:
                out[at[k] + b] = source[position[k] + b]


@dataclass(frozen=True)
class Stream:
    """Pieces of one side in order of place, between which bytes may be missing.

    start, end: places (bytes); segment: index of the segment that brought each piece; source, position: the file that
    holds it, and where in that.
    """

    start: Int64s
    end: Int64s
    segment: Int64s
    source: Uint16s
    position: Int64s
    payload: Payload

    def runs(self, begin: int | None = None, stop: int | None = None) -> list[Run]:
        """The bytes between holes, from a place on and up to one."""
        first = 0 if begin is None else int(np.searchsorted(self.end, begin, "right"))
        last = self.end.size if stop is None else int(np.searchsorted(self.start, stop, "left"))
        if first >= last:
            return []
        start, end, position = self.start[first:last], self.end[first:last], self.position[first:last]
        source = self.source[first:last]
        skipped = np.maximum(0, begin - start) if begin is not None else np.zeros_like(start)
        start, position = start + skipped, position + skipped
        end = end if stop is None else np.minimum(end, stop)
        size = end - start
        total = np.cumsum(size)
        out = np.zeros(int(total[-1]), np.uint8)
        for number in np.unique(source).tolist():
            own = source == number
            _copy(self.payload.sources[number], position[own], size[own], (total - size)[own], out)
        data = out.tobytes()
        breaks = np.flatnonzero(start[1:] != end[:-1]) + 1
        firsts, lasts = np.append(0, breaks), np.append(breaks, start.size) - 1
        return [
            Run(int(start[a]), data[int(total[a] - size[a]) : int(total[b])])
            for a, b in zip(firsts.tolist(), lasts.tolist(), strict=True)
        ]

    @property
    def begin(self) -> int | None:
        """The place of the first byte."""
        return int(self.start[0]) if self.start.size else None

    @property
    def whole_to(self) -> int | None:
        """The place of the first hole, or behind the last byte."""
        holes = np.flatnonzero(self.start[1:] != self.end[:-1])
        return int(self.end[holes[0]] if holes.size else self.end[-1]) if self.end.size else None

    def segments_of(self, places: Int64s) -> Int64s:
        """Indices of the segments that brought the bytes at some places."""
        return self.segment[np.maximum(0, np.searchsorted(self.start, places, "right") - 1)]


def stream_of(g: Segments, side: int, payload: Payload, most_bytes: int = MOST_BYTES) -> Stream:
    """One side of a connection. g: its segments, as gathered."""
    start, size, segment, skip = (np.empty(2 * g.size, np.int64) for _ in range(4))
    count = pieces_of(g, side, payload.packets, start, size, segment, skip)
    total = np.cumsum(size[:count])
    if count and total[-1] > most_bytes:
        count = int(np.searchsorted(total, most_bytes)) + 1
    start, size, segment, skip = (column[:count] for column in (start, size, segment, skip))
    rows, packets = g["row"][segment], payload.packets
    source = packets.source[rows]
    if any(payload.sources[number] is None for number in np.unique(source).tolist()):
        nothing = start[:0]
        return Stream(nothing, nothing, nothing, source[:0], nothing, payload)
    position = packets.position[rows] + packets.payload_at[rows] + skip
    return Stream(start, start + size, segment, source, position, payload)
