"""When stations were held up on the air: frames sent again until they were heard, moves between access points; and
which connections came by which station.
"""

from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Structs
from yaffle.capture.packets import Columns
from yaffle.radio import frame_scan as f
from yaffle.radio.frames import GROUP, Frames

RETRIES, MOVE = 0, 1
SPAN = np.dtype([("station", np.int32), ("kind", np.int8), ("from_ns", np.int64), ("to_ns", np.int64)])
_IP = (0x0800, 0x86DD)
_LONGEST_NS = 1_000_000_000  # The same number after so long is another frame.


@dataclass
class HeldUp:
    """spans: rows of SPAN; carried: station by conversation; answered: those in which the station answers."""

    spans: Structs = field(default_factory=lambda: np.zeros(0, SPAN))
    carried: dict[int, int] = field(default_factory=dict)
    answered: frozenset[int] = frozenset()


def held_up(frames: Frames, packets: Columns, place: dict[int, int], moves: list[tuple[int, int, int]]) -> HeldUp:
    """place: number of each station by its address; moves: (station, from, to)."""
    rows = frames.rows
    data = (rows[:, f.TYPE] == f.DATA) & (rows[:, f.RECEIVER] & GROUP == 0) & (rows[:, f.LENGTH] > 0)
    up = rows[:, f.FLAGS] & (f.TO_DS | f.FROM_DS) == f.TO_DS
    address = np.where(up, rows[:, f.SENDER], rows[:, f.RECEIVER])
    known = np.array(sorted(place), np.int64)
    if not known.size:
        return HeldUp()
    at = np.minimum(np.searchsorted(known, address), known.size - 1)
    numbers = np.array([place[one] for one in known.tolist()])
    station = np.where(data & (known[at] == address), numbers[at], -1)
    mine = np.flatnonzero(station >= 0)
    spans = [_retries(frames, mine, station), _moves(moves)]
    return HeldUp(np.concatenate(spans), *_carried(rows, packets, mine, station))


def _retries(frames: Frames, mine: Int64s, station: Int64s) -> Structs:
    """From the first time that each frame was heard to the last, of those sent more than once; by the host's clock, as
    connections are.
    """
    rows = frames.rows
    order = mine[np.lexsort((frames.time_ns[mine], rows[mine, f.TID], rows[mine, f.RECEIVER], rows[mine, f.SENDER]))]
    a, b = order[:-1], order[1:]
    same = frames.time_ns[b] - frames.time_ns[a] <= _LONGEST_NS
    for column in (f.SENDER, f.RECEIVER, f.TID, f.SEQUENCE, f.FRAGMENT):
        same &= rows[a, column] == rows[b, column]
    same &= rows[b, f.FLAGS] & f.RETRY > 0
    begins = np.flatnonzero(np.concatenate([[True], ~same])) if order.size else np.zeros(0, np.int64)
    ends = np.concatenate([begins[1:], [order.size]]) - 1 if order.size else begins
    several = ends > begins
    first, last = order[begins[several]], order[ends[several]]
    found = np.zeros(first.size, SPAN)
    found["station"], found["kind"] = station[first], RETRIES
    found["from_ns"], found["to_ns"] = frames.noted_ns[first], frames.noted_ns[last]
    return found


def _moves(moves: list[tuple[int, int, int]]) -> Structs:
    found = np.zeros(len(moves), SPAN)
    for k, (station, from_ns, to_ns) in enumerate(moves):
        found[k] = station, MOVE, from_ns, to_ns
    return found


def _carried(rows: Int64s2, packets: Columns, mine: Int64s, station: Int64s) -> tuple[dict[int, int], frozenset[int]]:
    """Of each conversation in open frames, the station that it came by; those in which the station answers."""
    own = mine[np.isin(rows[mine, f.ETHERTYPE], _IP)]
    flow = packets.flow[rows[own, f.ROW]]
    own, flow = own[flow >= 0], flow[flow >= 0]
    kinds, first = np.unique(flow, return_index=True)
    by_station = rows[own[first], f.FLAGS] & (f.TO_DS | f.FROM_DS) == f.TO_DS
    answers = by_station != (packets.direction[rows[own[first], f.ROW]] == 0)
    found = dict(zip(kinds.tolist(), station[own[first]].tolist(), strict=True))
    return found, frozenset(kinds[answers].tolist())
