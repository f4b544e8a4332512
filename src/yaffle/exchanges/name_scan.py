"""Messages of names read where they lie in the capture: identifier, flags, question, places of addresses.

`protocols.dns` is the slow plain way and the twin; it is taken for what this one leaves (an odd or compressed
question).
"""

import numpy as np

from yaffle.arrays import Bools, Int64s, Structs, Uint8s
from yaffle.capture.packets import Columns
from yaffle.kernels import helper, int64, kernel, uint64

MOST_ADDRESSES = 6
_MOST_RECORDS = 256
_LARGEST_NAME = 255
NONE, READ, ODD = 0, 1, 2  # no message; read; left to the plain way
FIELDS = ("how", "id", "flags", "kind", "key", "name", "name_end", "addresses")
SEEN = np.dtype(
    [
        *((name, np.int64) for name in FIELDS),
        ("at", np.int64, (MOST_ADDRESSES,)),
        ("octets", np.int64, (MOST_ADDRESSES,)),
    ]
)
SeenNames = Structs  # of SEEN


@helper
def _u16(buf: Uint8s, at: int) -> int:
    return (int64(buf[at]) << 8) | int64(buf[at + 1])


@kernel
def _skip_name(buf: Uint8s, at: int, end: int) -> int:
    """Place behind a name; -1 where it runs over the end."""
    steps = 0
    while at < end and steps < 130:
        size = int64(buf[at])
        if size >= 0xC0:
            return at + 2 if at + 2 <= end else int64(-1)
        if size > 63:
            return int64(-1)
        at += 1 + size
        if size == 0:
            return at if at <= end else int64(-1)
        steps += 1
    return int64(-1)


@kernel
def scan_names(rows: Int64s, packets: Columns, number: int, buf: Uint8s, seen: SeenNames) -> None:
    """Fills `seen` for the packets of source `number` among the rows; others are left as they are."""
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        out = seen[k]
        out.how = NONE
        skip = int64(packets.payload_at[row])
        size = min(int64(packets.head[row].payload), int64(packets.captured_bytes[row]) - skip)
        first = packets.position[row] + skip
        end = min(first + size, buf.size)
        if end - first < 12:
            continue
        flags, questions, answers = _u16(buf, first + 2), _u16(buf, first + 4), _u16(buf, first + 6)
        if (flags >> 11) & 15 > 5 or questions > 1 or flags & 0x40:
            continue
        out.id, out.flags, out.addresses, out.kind, out.key, out.name = _u16(buf, first), flags, 0, 0, 0, first + 12
        at = first + 12
        if questions == 0:
            out.how = ODD
            continue
        key = uint64(14695981039346656037)
        good = True
        while True:
            if at >= end or at - first > 12 + _LARGEST_NAME:
                good = False
                break
            length = int64(buf[at])
            if length > 63 or at + 1 + length > end:
                good = False
                if length >= 0xC0:
                    out.how = ODD
                break
            key = (key ^ uint64(length)) * uint64(1099511628211)
            for m in range(length):
                b = int64(buf[at + 1 + m])
                if 65 <= b <= 90:
                    b += 32
                key = (key ^ uint64(b)) * uint64(1099511628211)
            at += 1 + length
            if length == 0:
                break
        if not good or at + 4 > end:
            continue
        out.kind, out.name_end = _u16(buf, at), at
        out.key = int64(key >> uint64(1))
        out.how = READ
        at += 4
        if flags & 0x8000:
            for _ in range(min(answers, _MOST_RECORDS)):
                at = _skip_name(buf, at, end)
                if at < 0 or at + 10 > end:
                    break
                kind, length = _u16(buf, at), _u16(buf, at + 8)
                if at + 10 + length > end:
                    break
                if ((kind == 1 and length == 4) or (kind == 28 and length == 16)) and out.addresses < MOST_ADDRESSES:
                    out.at[out.addresses], out.octets[out.addresses] = at + 10, length
                    out.addresses += 1
                at += 10 + length


@kernel
def spell_names(seen: SeenNames, own: Bools, buf: Uint8s, places: Int64s, out: Uint8s) -> None:
    """Writes the names of some questions in small letters with a dot behind each label, to out[places[k]:places[k +
    1]].
    """
    for k in range(seen.size):
        if not own[k]:
            continue
        at, end, to = seen[k].name, seen[k].name_end, places[k]
        while at < end and buf[at] > 0:
            length = int64(buf[at])
            for m in range(at + 1, min(end, at + 1 + length)):
                b = buf[m]
                out[to] = b + 32 if 65 <= b <= 90 else b
                to += 1
            out[to] = 46
            to += 1
            at += 1 + length


def empty_seen(count: int) -> SeenNames:
    """Room for so many packets."""
    return np.zeros(count, SEEN)
