"""Where the clock of a capture was set while it ran, told by the clocks of the hosts in it (TCP timestamps, RFC 7323).

Time of capture less timestamp is a sender's delay plus a constant. When the clock of the capture is set, this moves for
all senders by as much, both ways and for good. A queue or an outage passes, a longer way moves one direction, a host
that stood still moves its own packets alone.
"""

from collections import Counter
from dataclasses import replace

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.captured import Capture
from yaffle.capture.doubles import counted_again
from yaffle.capture.packets import MARK_TIMESTAMPS, Columns
from yaffle.kernels import int32, int64, kernel, uint32
from yaffle.room import Room
from yaffle.transport.host_clock import tick_ns
from yaffle.units import duration, moment

_LEAST_STEP_NS = 100_000_000  # Less is a delay as well as a step.
_NEAR = 1 << 26  # A power of two below it.
_AT_ONCE = 4096  # packets
_BLUR_NS, _BLUR_SHARE = 20_000_000, 0.05  # Delays differ from packet to packet.
_RATE_NS = 1_000_000_000  # Spans up to this tell the rate of a sender's clock.
_AROUND = 1 << 16  # So many packets on either side tell whether it moved for good.
# So long it must last. What an outage held back comes all at once: the later it was sent, the less late it is.
_LASTS_NS = 100_000_000
_AGREE = 0.8  # Of the senders.
_MOST_JUMPS, _MOST_TRIED = 4096, 32
_MOST_STEPS = 16


@kernel
def _may_step(time_ns: Int64s) -> bool:
    """Whether two packets that follow each other lie so far apart, either way, that a step can hide there."""
    for begin in range(1, time_ns.size, _AT_ONCE):
        end = min(time_ns.size, begin + _AT_ONCE)
        # Of steps below the power of two no bit but the lower ones is set, once it is added: several are told at once.
        bits, before, after = int64(0), time_ns[begin - 1 : end - 1], time_ns[begin:end]
        for i in range(after.size):
            bits |= after[i] - before[i] + _NEAR
        if 0 <= bits < 2 * _NEAR:
            continue
        for i in range(after.size):
            if abs(after[i] - before[i]) >= _LEAST_STEP_NS:
                return True
    return False


@kernel
def sender_ticks(packets: Columns, ticks: Int64s) -> None:
    """Fills ticks, the tick of each sender's clock in ns, 0 unknown. A sender: conversation * 2 + whether its end b."""
    last = np.full(ticks.size, -1, np.int64)
    spans, counts = np.zeros(ticks.size, np.int64), np.zeros(ticks.size, np.int64)
    longest, its_count = np.zeros(ticks.size, np.int64), np.zeros(ticks.size, np.int64)  # A step may hide in it.
    for i in range(packets.time_ns.size):
        h = packets.head[i]
        if packets.flow[i] < 0 or not h.marks & MARK_TIMESTAMPS:
            continue
        sender = 2 * packets.flow[i] + packets.direction[i]
        j = last[sender]
        last[sender] = i
        if j >= 0:
            span = packets.time_ns[i] - packets.time_ns[j]
            ticked = int64(int32(uint32(h.tsval) - uint32(packets.head[j].tsval)))
            if 0 < span < _RATE_NS and ticked >= 0:
                spans[sender] += span
                counts[sender] += ticked
                if span > longest[sender]:
                    longest[sender], its_count[sender] = span, ticked
    for sender in range(ticks.size):
        ticks[sender] = tick_ns(spans[sender] - longest[sender], counts[sender] - its_count[sender])


@kernel
def jumps_in(packets: Columns, ticks: Int64s, out: Int64s2) -> int:
    """Fills out (row before, row after, jump ns): where capture time went further than the sender's clock, or less far.

    Returns how many.
    """
    last = np.full(ticks.size, -1, np.int64)
    found = 0
    for i in range(packets.time_ns.size):
        h = packets.head[i]
        if packets.flow[i] < 0 or not h.marks & MARK_TIMESTAMPS:
            continue
        sender = 2 * packets.flow[i] + packets.direction[i]
        j = last[sender]
        last[sender] = i
        if j < 0 or ticks[sender] == 0 or packets.source[i] != packets.source[j]:
            continue
        ticked = int64(int32(uint32(h.tsval) - uint32(packets.head[j].tsval)))
        jump = packets.time_ns[i] - packets.time_ns[j] - ticked * ticks[sender]
        if abs(jump) >= _LEAST_STEP_NS:
            out[found, 0], out[found, 1], out[found, 2] = j, i, jump
            found += 1
            if found == out.shape[0]:
                break
    return found


@kernel
def moved_at(packets: Columns, ticks: Int64s, row: int, moved: Int64s) -> None:
    """Fills moved: by how much the least delay of each sender differs after this row from before, ns.

    0 where it cannot be told; 1 where it did not last. Looks at _AROUND packets of the same capture on either side.
    """
    none = int64(1) << 62
    before, after = np.full(ticks.size, none), np.full(ticks.size, none)
    origin, began, first = (
        np.zeros(ticks.size, np.uint32),
        np.zeros(ticks.size, np.int64),
        np.zeros(ticks.size, np.int64),
    )
    moved[:] = 0
    for i in range(max(0, row + 1 - _AROUND), min(packets.time_ns.size, row + 1 + _AROUND)):
        if (
            packets.flow[i] < 0
            or not packets.head[i].marks & MARK_TIMESTAMPS
            or packets.source[i] != packets.source[row]
        ):
            continue
        h = packets.head[i]
        sender = 2 * packets.flow[i] + packets.direction[i]
        if ticks[sender] == 0:
            continue
        if before[sender] == none and after[sender] == none:
            origin[sender] = h.tsval
        ticked = int64(int32(uint32(h.tsval) - origin[sender]))
        delay = packets.time_ns[i] - packets.time_ns[row] - ticked * ticks[sender]
        if i <= row:
            before[sender] = min(before[sender], delay)
        else:
            sent = ticked * ticks[sender]
            if after[sender] == none:
                began[sender], first[sender] = sent, delay
            after[sender] = min(after[sender], delay)
            if before[sender] < none and sent - began[sender] >= _LASTS_NS:
                moved[sender] = after[sender] - before[sender] if first[sender] - after[sender] <= _BLUR_NS else 1


def _places(packets: Columns, jumps: Int64s2) -> list[int]:
    """Rows after which the clock may have been set, those that most jumps agree on first."""
    votes: Counter[int] = Counter()
    order = np.argsort(jumps[:, 1] - jumps[:, 0], kind="stable")
    for before, after, jump in jumps[order].tolist():
        if after - before > _AROUND:
            break
        steps = np.diff(packets.time_ns[before : after + 1])
        votes[before + int(steps.argmax() if jump > 0 else steps.argmin())] += 1
    return [row for row, n in votes.most_common(_MOST_TRIED) if n >= 2]


def _step(packets: Columns, ticks: Int64s, row: int) -> int:
    """By how much the clock jumped ahead after this row, ns; 0 where it was not set."""
    moved = np.empty(ticks.size, np.int64)
    moved_at(packets, ticks, row, moved)
    told = np.flatnonzero(moved)
    both = np.isin(told ^ 1, told)  # Ends of conversations of which both tell: no host alone can have stood still.
    if both.sum() < 2:
        return 0
    step = float(np.median(moved[told[both]]))
    agree = np.abs(moved[told] - step) <= _BLUR_NS + _BLUR_SHARE * abs(step)
    if abs(step) < _LEAST_STEP_NS - _BLUR_NS or agree.mean() < _AGREE:
        return 0
    gap = int(packets.time_ns[row + 1] - packets.time_ns[row])
    return 0 if gap < step - _BLUR_NS - _BLUR_SHARE * abs(step) else min(round(step), gap)


def without_clock_steps(capture: Capture, room: Room | None = None) -> Capture:
    """With the times before a step put to the clock after it, which somebody set because it was right, and a note.

    room: where times are put.
    """
    packets, flows = capture.packets, capture.conversations
    if packets.time_ns.size < 2 or not _may_step(packets.time_ns):
        return capture
    ticks = np.zeros(2 * flows.point.size, np.int64)
    sender_ticks(packets, ticks)
    jumps = np.empty((_MOST_JUMPS, 3), np.int64)
    jumps = jumps[: jumps_in(packets, ticks, jumps)]
    steps: list[tuple[int, int]] = []
    for row in _places(packets, jumps):
        if len(steps) < _MOST_STEPS and (step := _step(packets, ticks, row)):
            steps.append((row, step))
    if not steps:
        return capture
    times: Int64s = (room or Room()).empty(packets.time_ns.size, np.int64)
    times[:] = packets.time_ns
    found = replace(capture.with_columns(time_ns=times), sources=[*capture.sources], revised=True)
    for row, step in sorted(steps, reverse=True):
        _put_right(found, row, step)
    return replace(found, conversations=counted_again(found.packets, flows))


def _put_right(capture: Capture, row: int, step_ns: int) -> None:
    """Undoes one step in a capture whose times and sources are its own."""
    packets, flows = capture.packets, capture.conversations
    number = int(packets.source[row])
    points = np.unique(flows.point[packets.flow[(packets.source == number) & (packets.flow >= 0)]])
    own = np.isin(flows.point, points)
    of_point = np.zeros(flows.point.size + 1, bool)
    of_point[:-1] = own
    at = int(packets.time_ns[row + 1])
    earlier = [
        k
        for k, other in enumerate(capture.sources)
        if k != number and other.packets and other.last_ns < at and of_point[packets.flow[packets.source == k]].any()
    ]
    before = np.isin(packets.source, earlier)
    before[: row + 1] |= packets.source[: row + 1] == number
    packets.time_ns[before] += step_ns
    for k in (number, *earlier):
        times = packets.time_ns[packets.source == k]
        capture.sources[k] = replace(capture.sources[k], first_ns=int(times.min()), last_ns=int(times.max()))
    side = "forward" if step_ns > 0 else "back"
    capture.sources[number] = capture.sources[number].noting(
        f"the capture clock was set {side} by about {duration(abs(step_ns))} at {moment(at)} (by the TCP timestamps of"
        " the hosts): earlier times are corrected to the clock after it"
    )
