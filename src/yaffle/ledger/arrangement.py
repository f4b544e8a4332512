"""TCP connections with their packets side by side, told which end is the client."""

from dataclasses import dataclass, replace

import numpy as np

from yaffle.arrays import Bools, Int8s, Int32s, Int64s
from yaffle.capture.captured import Capture
from yaffle.capture.conversations import Rows
from yaffle.halves import in_halves
from yaffle.kernels import kernel
from yaffle.ledger.orientation import orient
from yaffle.prefetch import prefetch
from yaffle.room import Room

_TURNED = (
    ("a_hi", "b_hi"),
    ("a_lo", "b_lo"),
    ("a_port", "b_port"),
    ("outer_a_hi", "outer_b_hi"),
    ("outer_a_lo", "outer_b_lo"),
    ("syn_seq", "syn_seq_b"),
)  # columns of both ends


@dataclass(frozen=True)
class Arrangement:
    """TCP connections and their packets."""

    flow: Int64s  # conversation row of each connection
    starts: Int64s  # packets of connection c: order[starts[c]:starts[c + 1]]
    order: Int32s  # packet rows, in order of capture within each connection
    how: Int8s  # per conversation: how its client was told
    of: Int32s  # conversation of each packet of the capture

    def goes_on(self, of: Int32s, tcp: Int64s) -> bool:
        """Whether it is that of the first packets of a capture: conversations of its packets stand in the same memory,
        and connections had the same numbers. tcp: the rows of those now.
        """
        return self.of.ctypes.data == of.ctypes.data and np.array_equal(tcp[: self.flow.size], self.flow)


def arrange(
    capture: Capture, room: Room | None = None, former: Arrangement | None = None
) -> tuple[Capture, Arrangement]:
    """Puts the packets of each connection together; the capture with `a` the client everywhere, and directions as from
    the client.

    former: of the same capture when it was shorter, from which it goes on where it can.
    """
    room = room or Room()
    packets, flows = capture.packets, capture.conversations
    b_client, how = orient(flows)
    tcp = np.flatnonzero(flows.protocol == 6)
    number = np.full(flows.point.size, -1, np.int32)
    number[tcp] = np.arange(tcp.size, dtype=np.int32)
    known = former if former is not None and former.goes_on(packets.flow, tcp) else None
    begin = known.of.size if known is not None else 0
    new = packets.flow[begin:]
    of_halves = in_halves(lambda half: _packets_of_each(new[half], flows.point.size)[tcp], new.size)
    counts = np.sum(of_halves, axis=0)
    if known is not None:
        counts[: known.flow.size] += np.diff(known.starts)
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    place = starts[:-1].copy()
    order = room.empty(int(starts[-1]), np.int32 if packets.flow.size < 1 << 31 else np.int64)
    if known is not None:
        _take_over(known.starts, known.order, place, order)
    later = place + of_halves[0]  # where the second half goes on
    in_halves(
        lambda half: _lay_out(new[half], begin + half.start, number, later if half.start else place, order), new.size
    )
    direction = packets.direction
    if b_client.any():
        direction = room.empty(packets.flow.size, np.int8)
        turn(packets.flow, packets.direction, b_client, direction)
    turned = replace(capture.with_columns(direction=direction), conversations=swapped_ends(flows, b_client))
    return turned, Arrangement(tcp.astype(np.int64), starts, order, how, packets.flow)


def swapped_ends(flows: Rows, swap: Bools) -> Rows:
    """Conversations, the ends of some of which change places."""
    columns = {}
    for one, other in _TURNED:
        a, b = getattr(flows, one), getattr(flows, other)
        columns[one], columns[other] = np.where(swap, b, a), np.where(swap, a, b)
    state = flows.state.astype(np.int64)
    turned = (state & 16) | (state & 0b0100101) << 1 & 0b1001010 | (state & 0b1001010) >> 1 & 0b0100101
    return flows._replace(**columns, state=np.where(swap, turned, state).astype(flows.state.dtype))


@kernel
def _packets_of_each(flow: Int32s, conversations: int) -> Int64s:
    counts = np.zeros(conversations, np.int64)
    for i in range(flow.size):
        if flow[i] >= 0:
            counts[flow[i]] += 1
    return counts


@kernel
def _take_over(starts: Int64s, former: Int32s, place: Int64s, order: Int32s) -> None:
    """Lays the packets that connections had where theirs begin now, and moves the places behind them."""
    for c in range(starts.size - 1):
        count = starts[c + 1] - starts[c]
        order[place[c] : place[c] + count] = former[starts[c] : starts[c + 1]]
        place[c] += count


@kernel
def _lay_out(flow: Int32s, begin: int, number: Int32s, place: Int64s, order: Int32s) -> None:
    """Sorts packet rows by connection, in order of capture.

    flow: conversation of the packets from row `begin` on; number: connection of each conversation, -1 for none; place:
    where the next packet of each connection goes.
    """
    last = flow.size - 1
    for i in range(flow.size):
        if flow[i] < 0:
            continue
        soon = flow[min(i + 16, last)]
        if soon >= 0 and number[soon] >= 0:
            prefetch(order, place[number[soon]])
        c = number[flow[i]]
        if c >= 0:
            order[place[c]] = begin + i
            place[c] += 1


@kernel
def turn(flow: Int32s, direction: Int8s, turned: Bools, from_client: Int8s) -> None:
    """Gives each packet its direction as from the client. turned: whether end `b` is the client."""
    for i in range(flow.size):
        from_client[i] = direction[i] ^ (flow[i] >= 0 and turned[flow[i]])
