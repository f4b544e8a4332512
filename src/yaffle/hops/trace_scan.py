"""IOAM traces in IPv6 packets (RFC 9197 data fields, RFC 9486 options), read where they lie in the capture.

Pre-allocated and incremental traces; every field of the trace type, short and wide, with opaque snapshots. Edge-to-edge
options are read for sequence numbers and times, those of direct export (RFC 9326) for what they ask; proof of transit
and what is unknown is passed over by its length.
"""

from yaffle.arrays import Int64s, Int64s2, Uint8s
from yaffle.capture.octets import half, word
from yaffle.kernels import helper, int64, kernel

# Columns of a row: the packet's place among those asked for, the node's place in the trace (0: the newest), what is
# told of the trace, then what the node wrote; -1 where the trace has no such field or the node did not fill it.
PACKET, PLACE, NAMESPACE, FLAGS, TYPE, HOP_LIMIT, NODE, WIDE, INGRESS, EGRESS, WIDE_INGRESS, WIDE_EGRESS, SECONDS, \
    FRACTION, TRANSIT, QUEUE, BUFFER = range(17)  # fmt: skip
COLUMNS = 17
# Columns of what edges wrote: the packet, the option and its namespace, then what stands there; -1 where it does not.
EDGE_PACKET, EDGE_KIND, EDGE_NAMESPACE, EDGE_SEQUENCE, EDGE_SECONDS, EDGE_FRACTION, EDGE_FLOW, EDGE_ASKED = range(8)
EDGE_COLUMNS = 8
EDGE_OPTION, EXPORT_OPTION = 3, 4  # types of IOAM options
OVERFLOW = 8  # flag: a node found no room
_ETHERNET, _SLL, _SLL2 = 1, 113, 276
_RAW = (12, 101, 228, 229)
_IPV6 = 0x86DD
_HOP_BY_HOP, _ROUTING, _DESTINATION = 0, 43, 60
_OPTIONS = (0x11, 0x31)
_PREALLOCATED, _INCREMENTAL = 0, 1
_ONES = 0xFFFFFFFF
_SNAPSHOT = 22
_MOST_HEADERS = 8


@helper
def ip_begin(data: Uint8s, at: int, stop: int, link: int) -> int:
    """Where the IP header of a packet begins that lies from `at` to `stop`; -1 where it is none."""
    if link == _ETHERNET:
        here = at + 12
        for _ in range(4):
            if here + 2 > stop:
                return -1
            kind = half(data, here)
            if kind == 0x8100 or kind == 0x88A8 or kind == 0x9100:
                here += 4
                continue
            return here + 2 if kind == _IPV6 or kind == 0x0800 else -1
        return -1
    if link == _SLL:
        return at + 16
    if link == _SLL2:
        return at + 20
    for raw in _RAW:
        if link == raw:
            return at
    return -1


@helper
def _unknown(value: int, bits: int) -> int:
    """-1 where all bits are set: the node did not fill the field."""
    return -1 if value == (int64(1) << bits) - 1 else value


@helper
def _words_of(kind: int) -> int:
    """Words that each node writes of a trace type, its snapshot apart; bit 0 is the highest of 24."""
    words = 0
    for bit in range(_SNAPSHOT):
        if kind >> (23 - bit) & 1:
            words += 2 if 8 <= bit <= 10 else 1
    return words


@helper
def _node(data: Uint8s, at: int, kind: int, out: Int64s2, row: int) -> None:
    """The fields of one node, as its trace type orders them."""
    for bit in range(_SNAPSHOT):
        if not kind >> (23 - bit) & 1:
            continue
        told = word(data, at)
        if bit == 0:
            out[row, HOP_LIMIT], out[row, NODE] = told >> 24, _unknown(told & 0xFFFFFF, 24)
        elif bit == 1:
            out[row, INGRESS], out[row, EGRESS] = _unknown(told >> 16, 16), _unknown(told & 0xFFFF, 16)
        elif bit == 2:
            out[row, SECONDS] = _unknown(told, 32)
        elif bit == 3:
            out[row, FRACTION] = _unknown(told, 32)
        elif bit == 4:
            out[row, TRANSIT] = _unknown(told, 32)
        elif bit == 6:
            out[row, QUEUE] = _unknown(told, 32)
        elif bit == 8:
            out[row, HOP_LIMIT] = told >> 24
            out[row, WIDE] = _unknown((told & 0xFFFFFF) << 32 | word(data, at + 4), 56)
        elif bit == 9:
            out[row, WIDE_INGRESS], out[row, WIDE_EGRESS] = _unknown(told, 32), _unknown(word(data, at + 4), 32)
        elif bit == 11:
            out[row, BUFFER] = _unknown(told, 32)
        at += 8 if 8 <= bit <= 10 else 4


@helper
def _trace(data: Uint8s, at: int, stop: int, incremental: bool, packet: int, out: Int64s2, row: int) -> int:
    """Rows of one trace, whose option's data lies from `at` to `stop`; the next free row. Rows beyond `out` are only
    counted.
    """
    if at + 8 > stop:
        return row
    name, packed, kind = half(data, at), half(data, at + 2), word(data, at + 4) >> 8
    words, flags, left = packed >> 11, packed >> 7 & 15, packed & 0x7F
    if words == 0 or words != _words_of(kind):
        return row
    here = at + 8 + (0 if incremental else 4 * left)
    place = 0
    while here + 4 * words <= stop:
        if row < out.shape[0]:
            for column in range(COLUMNS):
                out[row, column] = -1
            out[row, PACKET], out[row, PLACE], out[row, NAMESPACE] = packet, place, name
            out[row, FLAGS], out[row, TYPE] = flags, kind
            _node(data, here, kind, out, row)
        row += 1
        place += 1
        here += 4 * words
        if kind >> (23 - _SNAPSHOT) & 1:
            if here + 4 > stop:
                break
            here += 4 + 4 * int64(data[here])
    return row


@kernel
def scan_traces(
    data: Uint8s, position: Int64s, captured: Int64s, link: Int64s, packet: Int64s, out: Int64s2, edges: Int64s2
) -> tuple[int, int]:
    """Rows of all traces of some packets into `out` (n, COLUMNS), and of options of edges into `edges` (m,
    EDGE_COLUMNS); how many of each there are, also where there is no room.
    """
    row, edge = 0, 0
    for i in range(position.size):
        begin = position[i]
        stop = min(begin + captured[i], data.size)
        at = ip_begin(data, begin, stop, link[i])
        if at < 0 or at + 40 > stop or data[at] >> 4 != 6:
            continue
        following = data[at + 6]
        at += 40
        for _ in range(_MOST_HEADERS):
            if following != _HOP_BY_HOP and following != _ROUTING and following != _DESTINATION:
                break
            if at + 8 > stop:
                break
            end = min(at + 8 * (int64(data[at + 1]) + 1), stop)
            options = following != _ROUTING
            following = data[at]
            here = at + 2
            while options and here + 2 <= end:
                if data[here] == 0:
                    here += 1
                    continue
                size = int64(data[here + 1])
                own = here + 2
                if own + size > end:
                    break
                if (data[here] == _OPTIONS[0] or data[here] == _OPTIONS[1]) and size >= 2:
                    kind = data[own + 1]
                    if kind == _PREALLOCATED or kind == _INCREMENTAL:
                        row = _trace(data, own + 2, own + size, kind == _INCREMENTAL, packet[i], out, row)
                    elif kind == EDGE_OPTION or kind == EXPORT_OPTION:
                        edge = _edge(data, own + 2, own + size, kind, packet[i], edges, edge)
                here = own + size
            at = end
    return row, edge


@helper
def _edge(data: Uint8s, at: int, stop: int, option: int, packet: int, edges: Int64s2, edge: int) -> int:
    """The row of an option of edges: edge to edge (RFC 9197, section 4.6), or direct export (RFC 9326, section 3.1)."""
    if at + (4 if option == EDGE_OPTION else 8) > stop:
        return edge
    name, kind = half(data, at), half(data, at + 2)
    sequence, seconds, fraction, flow, asked = int64(-1), int64(-1), int64(-1), int64(-1), int64(-1)
    if option == EXPORT_OPTION:
        asked = word(data, at + 4) >> 8
        at += 8
        if kind >> 7 & 1 and at + 4 <= stop:
            flow = word(data, at)
            at += 4
        if kind >> 6 & 1 and at + 4 <= stop:
            sequence = word(data, at)
    else:
        at += 4
        if kind >> 15 & 1 and at + 8 <= stop:
            sequence = (word(data, at) & 0x7FFFFFFF) << 32 | word(data, at + 4)
            at += 8
        if kind >> 14 & 1 and at + 4 <= stop:
            sequence = word(data, at)
            at += 4
        if kind >> 13 & 1 and at + 4 <= stop:
            seconds = word(data, at)
            at += 4
        if kind >> 12 & 1 and at + 4 <= stop:
            fraction = word(data, at)
    if edge < edges.shape[0]:
        edges[edge, EDGE_PACKET], edges[edge, EDGE_KIND], edges[edge, EDGE_NAMESPACE] = packet, option, name
        edges[edge, EDGE_SEQUENCE], edges[edge, EDGE_SECONDS], edges[edge, EDGE_FRACTION] = sequence, seconds, fraction
        edges[edge, EDGE_FLOW], edges[edge, EDGE_ASKED] = flow, asked
    return edge + 1
