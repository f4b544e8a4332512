"""Packets laid part by part, so that what is worked on in turn lies side by side.

A part is the packets of conversations that follow each other in order of their first packets, in order of capture. A
conversation's packets keep their order; what belongs to no conversation comes last.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from yaffle.arrays import Array, Int32s, Int64s
from yaffle.capture.captured import Capture
from yaffle.capture.packets import SCHEMA, Columns
from yaffle.kernels import helper, kernel
from yaffle.progress import Progress, step
from yaffle.room import Room

PART_PACKETS = 4 << 20
_STEP = 1 << 20  # Packets between two looks at whether to go on.
_WORDS = "laying packets of one conversation together"


def parts_of(packets_of: Int64s, most: int) -> Int64s:
    """The part of each conversation: as many in turn as hold about `most` packets, each whole. int64.

    packets_of: packets of each conversation, in order.
    """
    return (np.cumsum(packets_of) - packets_of) // most


@helper
def _part(flow: int, part_of: Int64s) -> int:
    """The part of a packet of a conversation; that of what belongs to none stands last."""
    return part_of[flow] if flow >= 0 else part_of[part_of.size - 1]


@kernel
def _lay(
    flow: Int32s,
    part_of: Int64s,
    begin: int,
    end: int,
    place: Int64s,
    source: Array,
    target: Array,
) -> None:
    """Puts rows begin to end of one column where the next of their part goes; place: per part, moved on.

    part_of: of each conversation, and as its last that of packets without one.
    """
    for i in range(begin, end):
        part = _part(flow[i], part_of)
        target[place[part]] = source[i]
        place[part] += 1


@kernel
def _count(flow: Int32s, part_of: Int64s, counts: Int64s) -> None:
    for i in range(flow.size):
        counts[_part(flow[i], part_of)] += 1


@kernel
def _new_rows(flow: Int32s, part_of: Int64s, place: Int64s, rows: Int64s, out: Int64s) -> None:
    """Fills out with where some rows go; rows: sorted."""
    k = 0
    for i in range(flow.size):
        while k < rows.size and rows[k] == i:
            out[k] = place[_part(flow[i], part_of)]
            k += 1
        place[_part(flow[i], part_of)] += 1


def laid_by_part(capture: Capture, room: Room, progress: Progress, most: int = 0) -> Capture:
    """With its packets laid anew, about `most` to a part (0: PART_PACKETS).

    Raises Cancelled when `progress` says so.
    """
    packets = capture.packets
    flow = packets.flow
    most = most or PART_PACKETS
    if flow.size <= most:
        return capture
    counts = np.zeros(capture.conversations.point.size + 1, np.int64)
    _count(flow, np.append(np.arange(counts.size - 1), counts.size - 1), counts)
    part_of = parts_of(counts, most)
    part_of[-1] = part_of.max() + 1
    sizes = np.zeros(int(part_of[-1]) + 1, np.int64)
    np.add.at(sizes, part_of, counts)
    starts = np.cumsum(sizes) - sizes
    quotes = capture.quotes.copy()
    quoted = capture.quotes["packet"]
    order, moved = np.argsort(quoted, kind="stable"), np.empty(quoted.size, np.int64)
    _new_rows(flow, part_of, starts.copy(), quoted[order], moved)
    quotes["packet"][order] = moved

    def laid(number: int) -> Array:
        name, dtype, _ = SCHEMA[number]
        source, place = getattr(packets, name), starts.copy()
        target = room.empty(flow.size, dtype, number)
        one, other = (_plain(column) for column in (source, target))
        for begin in range(0, flow.size, _STEP):
            _lay(flow, part_of, begin, min(flow.size, begin + _STEP), place, one, other)
            step(progress, number / len(SCHEMA), _WORDS)
        return target

    with ThreadPoolExecutor(2) as pool:
        return replace(capture, packets=Columns(*pool.map(laid, range(len(SCHEMA)))), quotes=quotes)


def _plain(column: Array) -> Array:
    """The same memory as unsigned integers of the same width, or rows of them: one kernel a width."""
    size = column.dtype.itemsize
    if column.dtype.fields is None:
        return column.view(np.dtype(f"u{size}"))
    return column.view(np.uint64).reshape(-1, size // 8)
