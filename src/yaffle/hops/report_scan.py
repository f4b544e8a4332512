"""INT reports (P4.org: Telemetry Report Format 2.0 and 1.0; INT 2.1 stacks in the packets that they hold).

Lengths of a report count words of 4 octets behind its first 4; those of its metadata count the metadata alone.
"""

from yaffle.arrays import Int64s, Int64s2, Uint8s
from yaffle.capture.octets import half, long_word, word
from yaffle.kernels import helper, int64, kernel

# Columns of a row: datagram, report, place (0: the switch that reports; from 1 on the stack, newest first), what that
# switch told, and the packet it is about; -1 where it is not told.
DATAGRAM, REPORT, PLACE, NODE, INGRESS, EGRESS, LATENCY, QUEUE, ARRIVED, LEFT, FLAGS, REASON, TTL, OCTETS, PROTOCOL, \
    SRC_HI, SRC_LO, DST_HI, DST_LO, PORTS, IDENTITY, IPV6 = range(22)  # fmt: skip
COLUMNS = 22
DROPPED, QUEUED, TRACKED, INTERMEDIATE = 8, 4, 2, 1  # D, Q, F, I
_ONES = 0xFFFFFFFF
_TCP, _UDP = 6, 17
_ETHERNET, _IPV4, _IPV6 = 3, 4, 5


@helper
def _told(value: int) -> int:
    return int64(-1) if value == _ONES else value


@helper
def _metadata(data: Uint8s, at: int, stop: int, bits: int, first: int, out: Int64s2, row: int) -> None:
    """Metadata from `at` on, whose highest bit of `bits` is number `first` of the order that reports and stacks share
    (1 interfaces, 2 latency, 3 queue, 4 and 5 times, 6 level 2 interfaces, 7 utilization, 8 buffer; 15 drop reason).
    """
    for number in range(first, 16):
        if not bits >> (15 - number) & 1:
            continue
        size = 8 if 4 <= number <= 6 else 4
        if at + size > stop:
            return
        told = word(data, at)
        if number == 1:
            out[row, INGRESS], out[row, EGRESS] = told >> 16, told & 0xFFFF
        elif number == 2:
            out[row, LATENCY] = _told(told)
        elif number == 3:
            out[row, QUEUE] = -1 if told & 0xFFFFFF == 0xFFFFFF else told & 0xFFFFFF
        elif number == 4:
            out[row, ARRIVED] = long_word(data, at)
        elif number == 5:
            out[row, LEFT] = long_word(data, at)
        elif number == 15:
            out[row, REASON] = told >> 16 & 0xFF
        at += size


@helper
def _inner(data: Uint8s, at: int, stop: int, kind: int, out: Int64s2, row: int) -> tuple[int, int]:
    """The packet that a report is about; where its transport's payload begins (its end for none), and its DSCP."""
    if kind == _ETHERNET:
        at += 12
        if at + 2 > stop:
            return stop, -1
        ethertype = half(data, at)
        at += 2
        while (ethertype == 0x8100 or ethertype == 0x88A8) and at + 4 <= stop:
            ethertype = half(data, at + 2)
            at += 4
        kind = _IPV4 if ethertype == 0x0800 else _IPV6 if ethertype == 0x86DD else 0
    if kind == _IPV4 and at + 20 <= stop and data[at] >> 4 == 4:
        marking = int64(data[at + 1]) >> 2
        out[row, OCTETS], out[row, TTL], out[row, PROTOCOL] = half(data, at + 2), data[at + 8], data[at + 9]
        out[row, SRC_HI], out[row, DST_HI], out[row, IPV6] = 0, 0, 0
        out[row, SRC_LO], out[row, DST_LO] = word(data, at + 12), word(data, at + 16)
        out[row, IDENTITY] = half(data, at + 4)
        at += 4 * (int64(data[at]) & 15)
    elif kind == _IPV6 and at + 40 <= stop and data[at] >> 4 == 6:
        marking = half(data, at) >> 6 & 63
        out[row, OCTETS], out[row, TTL], out[row, PROTOCOL] = half(data, at + 4) + 40, data[at + 7], data[at + 6]
        out[row, SRC_HI], out[row, SRC_LO] = long_word(data, at + 8), long_word(data, at + 16)
        out[row, DST_HI], out[row, DST_LO], out[row, IPV6] = long_word(data, at + 24), long_word(data, at + 32), 1
        out[row, IDENTITY] = 0
        at += 40
    else:
        return stop, -1
    if at + 8 > stop or not (out[row, PROTOCOL] == _TCP or out[row, PROTOCOL] == _UDP):
        return stop, marking
    out[row, PORTS] = word(data, at)
    if out[row, PROTOCOL] == _UDP:
        out[row, IDENTITY] = out[row, IDENTITY] << 32 | word(data, at + 4)
        return at + 8, marking
    if at + 20 > stop:
        return stop, marking
    out[row, IDENTITY] = out[row, IDENTITY] << 32 | word(data, at + 4)
    return at + 4 * (int64(data[at + 12]) >> 4), marking


@helper
def _stack(data: Uint8s, at: int, stop: int, out: Int64s2, row: int, own: int) -> int:
    """Rows of an INT-MD stack behind a transport header, as copies of row `own`; the next free row."""
    if at + 16 > stop or data[at] >> 4 != 1:
        return row
    end = min(stop, at + 4 + 4 * int64(data[at + 1]))
    head = word(data, at + 4)
    words, bits = head >> 8 & 31, half(data, at + 8)
    if head >> 28 != 2 or words == 0:
        return row
    here, place = at + 16, 1
    while here + 4 * words <= end:
        if row < out.shape[0]:
            for column in range(COLUMNS):
                out[row, column] = out[own, column]
            for column in range(NODE, LEFT + 1):
                out[row, column] = -1
            out[row, PLACE], out[row, REASON], out[row, TTL] = place, -1, -1
            at_bits = here
            if bits >> 15 & 1:
                out[row, NODE] = word(data, here)
                at_bits += 4
            _metadata(data, at_bits, here + 4 * words, bits, 1, out, row)
        row += 1
        place += 1
        here += 4 * words
    return row


@helper
def _blank(out: Int64s2, row: int, datagram: int, report: int, node: int) -> None:
    for column in range(COLUMNS):
        out[row, column] = -1
    out[row, DATAGRAM], out[row, REPORT], out[row, PLACE], out[row, NODE] = datagram, report, 0, node


@helper
def _version2(
    data: Uint8s, at: int, stop: int, datagram: int, report: int, int_dscp: int, out: Int64s2, row: int
) -> tuple[int, int]:
    """Rows of a datagram of report groups; (next free row, next report)."""
    node = word(data, at + 4)
    here = at + 8
    while here + 4 <= stop:
        kind, inner = data[here] >> 4, data[here] & 15
        end = here + 4 + 4 * int64(data[here + 1])
        size, flags = 4 * int64(data[here + 2]), int64(data[here + 3]) >> 4
        if end > stop:
            break
        begin, bits = here + 4, int64(0)
        if kind != 0:
            if begin + 8 + size > end:
                break
            bits = half(data, begin)
            begin += 8 + size
        if row + 1 >= out.shape[0]:
            # Without room only counted: so many words hold at most so many nodes.
            row += 1 + (end - begin) // 4
        else:
            own = row
            _blank(out, own, datagram, report, node)
            out[own, FLAGS] = flags
            if kind != 0:
                _metadata(data, here + 12, here + 12 + size, bits, 1, out, own)
            payload, marking = _inner(data, begin, end, inner, out, own)
            row += 1
            if marking == int_dscp:
                row = _stack(data, payload, end, out, row, own)
        here = end
        report += 1
    return row, report


@helper
def _version1(data: Uint8s, at: int, stop: int, datagram: int, report: int, out: Int64s2, row: int) -> tuple[int, int]:
    """The row of a datagram of format 1.0: one report, its optional fields by six bits."""
    if at + 16 > stop:
        return row, report
    head = word(data, at)
    size, inner, bits, flags = head >> 24 & 15, head >> 21 & 7, head >> 15 & 63, head >> 12 & 7
    if row < out.shape[0]:
        _blank(out, row, datagram, report, word(data, at + 4))
        out[row, FLAGS] = (flags & 4) << 1 | (flags & 2) << 1 | (flags & 1) << 1
        out[row, ARRIVED] = word(data, at + 12)
        here = at + 16
        for number in range(6):
            if bits >> (5 - number) & 1 and here + 4 <= stop:
                told = word(data, here)
                if number == 0:
                    out[row, INGRESS], out[row, EGRESS] = told >> 16, told & 0xFFFF
                elif number == 1:
                    out[row, LATENCY] = _told(told)
                elif number == 2:
                    out[row, QUEUE] = told & 0xFFFFFF
                elif number == 3:
                    out[row, LEFT] = told
                elif number == 4:
                    out[row, REASON] = told >> 16 & 0xFF
                here += 4
        _inner(data, max(here, at + 4 * size), stop, _ETHERNET + inner, out, row)
    return row + 1, report + 1


@kernel
def scan_reports(data: Uint8s, at: Int64s, size: Int64s, int_dscp: int, out: Int64s2, heads: Int64s2) -> int:
    """Rows of all reports of some datagrams, whose payload lies at `at`, into `out` (n, COLUMNS), and of each datagram
    version, node, hardware part and sequence number into `heads` (m, 4; version 0: none). How many rows there are, at
    most, where there is no room.
    """
    row, report = 0, 0
    for i in range(at.size):
        begin, stop = at[i], min(at[i] + size[i], data.size)
        heads[i, 0] = 0
        if begin + 8 > stop:
            continue
        version, first = data[begin] >> 4, word(data, begin)
        if version == 2:
            heads[i, 0], heads[i, 1] = 2, word(data, begin + 4)
            heads[i, 2], heads[i, 3] = first >> 22 & 63, first & 0x3FFFFF
            row, report = _version2(data, begin, stop, i, report, int_dscp, out, row)
        elif version == 1 and begin + 12 <= stop:
            heads[i, 0], heads[i, 1] = 1, word(data, begin + 4)
            heads[i, 2], heads[i, 3] = first & 63, word(data, begin + 8)
            row, report = _version1(data, begin, stop, i, report, out, row)
    return row
