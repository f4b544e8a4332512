"""What the edges of an IOAM domain wrote for each other: edge-to-edge options (RFC 9197, section 4.6: sequence numbers,
times of entry) and options that ask nodes to export directly (RFC 9326: flow and sequence numbers).

Sequence numbers count the packets of one flow, or all that one edge sends in a namespace: whichever leaves fewer gaps.
The clock of the edge need not be the capture's, so that delay is told above its least.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int32s, Int64s, Int64s2
from yaffle.capture.captured import Capture
from yaffle.hops import trace_scan as t
from yaffle.hops.flow_keys import flows_of
from yaffle.hops.visits import FlowKey
from yaffle.quantiles import median, p95

EDGE_TO_EDGE, DIRECT_EXPORT = "edge to edge", "direct export"
_KINDS = {t.EDGE_OPTION: EDGE_TO_EDGE, t.EXPORT_OPTION: DIRECT_EXPORT}
_WRAP = 1 << 32
_BACK = 1000  # A number so far back is late; one further back began anew.
_S = 10**9


@dataclass(frozen=True)
class EdgeFlow:
    """One direction of a conversation as its edges marked it. -1 where a figure cannot be had."""

    kind: str
    namespace: int
    key: FlowKey
    packets: int
    lost: int  # by gaps in sequence numbers
    reordered: int  # that came behind a later one
    doubled: int
    alone: bool  # whether the sequence numbers count this flow, not all of the namespace
    over_ns: tuple[float, float, float]  # median, 95th percentile, most above the least delay; NaN without times
    flow_id: int  # of direct export
    asked: int  # the trace type whose fields nodes are to export; -1 of edge-to-edge options


def edge_flows(capture: Capture, rows: Int64s2) -> list[EdgeFlow]:
    """What edges wrote, by flow, in order of the first packet. rows: of `trace_scan`, (n, EDGE_COLUMNS)."""
    if not rows.shape[0]:
        return []
    rows = rows[np.lexsort((rows[:, t.EDGE_PACKET], capture.packets.time_ns[rows[:, t.EDGE_PACKET]]))]
    flow, keys = flows_of(capture, rows[:, t.EDGE_PACKET])
    found = []
    for kind in _KINDS:
        for namespace in np.unique(rows[rows[:, t.EDGE_KIND] == kind, t.EDGE_NAMESPACE]).tolist():
            own = np.flatnonzero((rows[:, t.EDGE_KIND] == kind) & (rows[:, t.EDGE_NAMESPACE] == namespace))
            found += _of_namespace(capture, rows[own], flow[own], keys)
    first = {key: k for k, key in reversed(list(enumerate(keys[number] for number in flow.tolist())))}
    return sorted(found, key=lambda one: first[one.key])


def _of_namespace(capture: Capture, rows: Int64s2, flow: Int32s, keys: list[FlowKey]) -> list[EdgeFlow]:
    """Flows of one namespace: numbers of their own, or of all flows together."""
    numbers = rows[:, t.EDGE_SEQUENCE]
    by_flow = [np.flatnonzero(flow == number) for number in np.unique(flow).tolist()]
    alone = sum(_gaps(numbers[own])[0] for own in by_flow) <= _gaps(numbers)[0]
    # Of numbers that count all flows, what is missing belongs to the flow that shows the gap.
    together = None if alone else _lost_before(numbers)
    found = []
    for own in by_flow:
        lost, reordered, doubled = _gaps(numbers[own])
        if together is not None:
            lost, (_, reordered, doubled) = int(together[own].sum()), _gaps(numbers[own])
        if (numbers[own] < 0).any():
            lost = reordered = doubled = -1
        first = rows[own[0]]
        found.append(
            EdgeFlow(
                _KINDS[int(first[t.EDGE_KIND])], int(first[t.EDGE_NAMESPACE]), keys[int(flow[own[0]])], own.size, lost,
                reordered, doubled, alone, _over(capture, rows[own]), int(first[t.EDGE_FLOW]), int(first[t.EDGE_ASKED]),
            )
        )  # fmt: skip
    return found


def _steps(numbers: Int64s) -> Int64s:
    """From each number to the next, through wraps of 32 bits."""
    steps = np.diff(numbers)
    return (steps + _WRAP // 2) % _WRAP - _WRAP // 2 if numbers.size and numbers.max() < _WRAP else steps


def _gaps(numbers: Int64s) -> tuple[int, int, int]:
    """(lost, reordered, doubled) of a series of sequence numbers in order of arrival."""
    if numbers.size < 2 or (numbers < 0).any():
        return 0, 0, 0
    at = np.concatenate([[0], np.cumsum(_steps(numbers))])
    began = np.concatenate([[0], np.cumsum(np.diff(np.maximum.accumulate(at) - at) > _BACK)])
    lost = reordered = doubled = 0
    for part in np.split(at, np.flatnonzero(np.diff(began)) + 1):
        different, first = np.unique(part, return_index=True)
        doubled += part.size - different.size
        lost += int(different[-1] - different[0]) + 1 - different.size
        reordered += int((part[first] < np.maximum.accumulate(part)[first]).sum())
    return lost, reordered, doubled


def _lost_before(numbers: Int64s) -> Int64s:
    """How many numbers are missing before each, of a series in order of arrival."""
    order = np.argsort(numbers, kind="stable")
    found = np.zeros(numbers.size, np.int64)
    found[order[1:]] = np.maximum(0, np.diff(numbers[order]) - 1)
    return found


def _over(capture: Capture, rows: Int64s2) -> tuple[float, float, float]:
    """How much longer packets took than the quickest, from the edge's time to the capture's."""
    seconds, fraction = rows[:, t.EDGE_SECONDS], rows[:, t.EDGE_FRACTION]
    timed = fraction >= 0
    if timed.sum() < 2:
        return float("nan"), float("nan"), float("nan")
    most = int(fraction[timed].max())
    unit = fraction[timed] * 1000 if most < 1_000_000 else fraction[timed]
    part = (fraction[timed] * _S) >> 32 if most >= _S else unit
    whole = np.where(seconds[timed] >= 0, seconds[timed] % _WRAP, 0) * _S
    delay = capture.packets.time_ns[rows[timed, t.EDGE_PACKET]] - whole - part
    if (seconds[timed] < 0).any():
        delay = (delay - delay[0] + _S // 2) % _S
    over = delay - delay.min()
    return float(median(over)), float(p95(over)), float(over.max())
