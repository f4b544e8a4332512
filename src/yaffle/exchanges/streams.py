"""The bytes of one side of a connection, put in order from what was captured; holes where something is missing."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.payload import Payload
from yaffle.kernels import kernel
from yaffle.protocols.message import Run

MOST_BYTES = 256 << 20  # Of one side; what comes after is not decoded.


@kernel
def pieces_of(g, side, packets, start, size, segment, skip):  # type: ignore[no-untyped-def]
    """Bytes of a side without overlap, in order of place: where each piece begins, its size, its segment, how much of
    that is skipped.

    The first copy that passed is taken. Returns how many pieces.
    """
    n = 0
    for i in range(g.size):
        if g[i].d == side and g[i].n > 0:
            n += 1
    at, row = np.empty(n, np.int64), np.empty(n, np.int64)
    n = 0
    rising = True
    for i in range(g.size):
        if g[i].d == side and g[i].n > 0:
            at[n], row[n] = g[i].s, i
            rising = rising and (n == 0 or at[n] >= at[n - 1])
            n += 1
    order = np.arange(n) if rising else np.argsort(at, kind="mergesort")
    count = 0
    high = np.int64(-(1 << 62))
    for k in range(n):
        i = row[order[k]]
        p = g[i].row
        kept = min(g[i].n, max(np.int64(0), np.int64(packets.captured_bytes[p]) - np.int64(packets.payload_at[p])))
        s = g[i].s
        if s + kept <= high or kept <= 0:
            continue
        over = max(np.int64(0), high - s)
        start[count], size[count], segment[count], skip[count] = s + over, kept - over, i, over
        high = s + kept
        count += 1
    return count


@kernel
def _copy(source, position, size, at, out):  # type: ignore[no-untyped-def]
    for k in range(position.size):
        for b in range(size[k]):
            if position[k] + b < source.size:
                out[at[k] + b] = source[position[k] + b]


@dataclass(frozen=True)
class Stream:
    """Pieces in order of place; `runs` are the bytes between holes."""

    start: Array
    end: Array
    segment: Array  # index of the segment that brought each piece
    runs: list[Run]

    def segment_of(self, place: int) -> int:
        """Index of the segment that brought the byte at a place."""
        return int(self.segment[max(0, int(np.searchsorted(self.start, place, "right")) - 1)])


def stream_of(g: Array, side: int, payload: Payload, most_bytes: int = MOST_BYTES) -> Stream:
    """One side of a connection. g: its segments, as gathered."""
    start, size, segment, skip = (np.empty(g.size, np.int64) for _ in range(4))
    count = pieces_of(g, side, payload.packets, start, size, segment, skip)
    start, size, segment, skip = start[:count], size[:count], segment[:count], skip[:count]
    total = np.cumsum(size)
    if count and total[-1] > most_bytes:
        count = int(np.searchsorted(total, most_bytes)) + 1
        start, size, segment, skip, total = start[:count], size[:count], segment[:count], skip[:count], total[:count]
    if not count:
        return Stream(start, start, segment, [])
    rows = g["row"][segment]
    packets = payload.packets
    position = packets.position[rows] + packets.payload_at[rows] + skip
    out = np.zeros(int(total[-1]), np.uint8)
    sources = packets.source[rows]
    for number in np.unique(sources).tolist():
        source = payload.sources[number]
        if source is None:
            return Stream(start[:0], start[:0], segment[:0], [])
        own = sources == number
        _copy(source, position[own], size[own], (total - size)[own], out)
    data = out.tobytes()
    breaks = np.flatnonzero(start[1:] != (start + size)[:-1]) + 1
    firsts, lasts = np.append(0, breaks), np.append(breaks, count) - 1
    runs = [
        Run(int(start[a]), data[int(total[a] - size[a]) : int(total[b])])
        for a, b in zip(firsts.tolist(), lasts.tolist(), strict=True)
    ]
    return Stream(start, start + size, segment, runs)
