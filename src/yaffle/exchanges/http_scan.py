"""Web exchanges found without copying a byte: heads are read where they lie in the capture, bodies are stepped over.

For connections without holes whose bytes are all in one source; `protocols.http1` is the slow plain way for all others,
and the twin of this one.
"""

import numpy as np

from yaffle.arrays import Int32s, Int64s, Int64s2, Structs, Uint8s
from yaffle.capture.packets import Columns
from yaffle.exchanges.streams import pieces_of
from yaffle.exchanges.turns import TURN, TurnRows
from yaffle.kernels import helper, int64, kernel
from yaffle.protocols.http1_messages import METHODS
from yaffle.transport.segments import FACTS, Segments, gather

_NONE, _LENGTH, _CHUNKED = 0, 1, 2
_HEAD_METHOD, _CONNECT_METHOD = METHODS.index(b"HEAD "), METHODS.index(b"CONNECT ")
_LONGEST_METHOD = max(len(m) for m in METHODS)
_METHOD_BYTES = np.zeros((len(METHODS), _LONGEST_METHOD), np.uint8)
_METHOD_SIZES = np.array([len(m) for m in METHODS])
for _k, _m in enumerate(METHODS):
    _METHOD_BYTES[_k, : len(_m)] = np.frombuffer(_m, np.uint8)
_CONTENT_LENGTH = np.frombuffer(b"content-length:", np.uint8)
_TRANSFER = np.frombuffer(b"transfer-encoding:", np.uint8)
_HOST = np.frombuffer(b"host:", np.uint8)
_CHUNK = np.frombuffer(b"chunked", np.uint8)
_VERSION = np.frombuffer(b"HTTP/1.", np.uint8)
FIELDS = ("at", "end", "text", "text_end", "status", "method", "host", "host_end")
HEAD = np.dtype([(name, np.int64) for name in FIELDS])
WebHeads = Structs  # of HEAD


@kernel
def _same(buf: Uint8s, at: int, end: int, text: Uint8s) -> bool:
    """Whether these bytes stand here; letters of either case where the text is in small ones."""
    if at + text.size > end:
        return False
    for m in range(text.size):
        b = buf[at + m]
        if b != text[m] and not (65 <= b <= 90 and b + 32 == text[m]):
            return False
    return True


@kernel
def _line_end(buf: Uint8s, at: int, end: int) -> int:
    """Where the line that begins here ends (its CR); -1 where that is not in this packet."""
    while at + 1 < end:
        if buf[at] == 13 and buf[at + 1] == 10:
            return at
        at += 1
    return int64(-1)


@kernel
def _fields(buf: Uint8s, at: int, end: int, found: Int64s) -> int:
    """Header fields from the start of a line on. Returns the position behind the head, -1 if it leaves this packet.

    found: int64 (4,): kind of body, its length, position of the host's name and the end of that (-1 without).
    """
    found[0], found[1], found[2], found[3] = _NONE, 0, -1, -1
    while True:
        stop = _line_end(buf, at, end)
        if stop < 0:
            return int64(-1)
        if stop == at:
            return at + 2
        low = buf[at] | 32
        if low == 99 and _same(buf, at, stop, _CONTENT_LENGTH):
            number, digits = int64(0), 0
            for k in range(at + _CONTENT_LENGTH.size, stop):
                if 48 <= buf[k] <= 57 and digits < 18:
                    number, digits = number * 10 + (buf[k] - 48), digits + 1
                elif buf[k] != 32 and buf[k] != 9:
                    return int64(-1)
            if digits > 0 and found[0] != _CHUNKED:
                found[0], found[1] = _LENGTH, number
        elif low == 116 and _same(buf, at, stop, _TRANSFER):
            for k in range(at + _TRANSFER.size, stop):
                if (buf[k] | 32) == 99 and _same(buf, k, stop, _CHUNK):
                    found[0] = _CHUNKED
        elif low == 104 and _same(buf, at, stop, _HOST):
            k = at + _HOST.size
            while k < stop and (buf[k] == 32 or buf[k] == 9):
                k += 1
            if found[2] < 0:
                found[2], found[3] = k, stop
        at = stop + 2


@helper
def _piece(start: Int64s, size: Int64s, k: int, place: int) -> int:
    """The piece that holds a place, from piece k on."""
    while k < start.size and place >= start[k] + size[k]:
        k += 1
    return k


@kernel
def _chunks(buf: Uint8s, start: Int64s, size: Int64s, pos: Int64s, k: int, place: int) -> int:
    """Place behind a chunked body; -1 where the plain way has to be taken."""
    while True:
        k = _piece(start, size, k, place)
        if k >= start.size:
            return int64(-1)
        at, end = pos[k] + place - start[k], pos[k] + size[k]
        stop = _line_end(buf, at, min(end, at + 64))
        if stop < 0:
            return int64(-1)
        number, digits = int64(0), 0
        for m in range(at, stop):
            b = int64(buf[m])
            value = b - 48 if 48 <= b <= 57 else (b | 32) - 87 if 97 <= (b | 32) <= 102 else int64(-1)
            if value < 0:
                if b != 59 and b != 32:
                    return int64(-1)
                break
            if digits >= 15:
                return int64(-1)
            number, digits = number * 16 + value, digits + 1
        if digits == 0:
            return int64(-1)
        if number == 0:
            while True:  # Trailers end with an empty line.
                at = stop + 2
                stop = _line_end(buf, at, end)
                if stop < 0:
                    return int64(-1)
                if stop == at:
                    return start[k] + stop + 2 - pos[k]
        place += (stop - at) + 2 + number + 2


@kernel
def _requests(buf: Uint8s, start: Int64s, size: Int64s, pos: Int64s, heads: WebHeads) -> int:
    """Fills heads; returns how many, -1 where the plain way has to be taken."""
    count, k = 0, 0
    place = start[0]
    last = start[start.size - 1] + size[start.size - 1]
    found = np.zeros(4, np.int64)
    while place < last:
        k = _piece(start, size, k, place)
        at, end = pos[k] + place - start[k], min(pos[k] + size[k], buf.size)
        method = -1
        for m in range(_METHOD_BYTES.shape[0]):
            if buf[at] == _METHOD_BYTES[m, 0]:
                same = True
                for n in range(_METHOD_SIZES[m]):
                    same = same and at + n < end and buf[at + n] == _METHOD_BYTES[m, n]
                if same:
                    method = m
        stop = _line_end(buf, at, min(end, at + 8300))
        if method < 0 or count == heads.size or stop < 0:
            return -1
        target = at + _METHOD_SIZES[method]
        blank = target
        while blank < stop and buf[blank] != 32:
            blank += 1
        if (
            blank == target
            or stop - blank != 9
            or not _same(buf, blank + 1, stop, _VERSION)
            or buf[stop - 1] < 48
            or buf[stop - 1] > 49
        ):
            return -1
        after = _fields(buf, stop + 2, end, found)
        if after < 0:
            return -1
        behind = start[k] + after - pos[k]
        if found[0] == _CHUNKED:
            behind = _chunks(buf, start, size, pos, k, behind)
        elif found[0] == _LENGTH:
            behind += found[1]
        if behind < 0 or behind > last:
            return -1
        heads[count].at, heads[count].end, heads[count].text, heads[count].text_end = place, behind, at, blank
        heads[count].method, heads[count].host, heads[count].host_end = method, found[2], found[3]
        count += 1
        place = behind
    return count


@kernel
def _answers(
    buf: Uint8s, start: Int64s, size: Int64s, pos: Int64s, asked: WebHeads, requests: int, heads: WebHeads
) -> int:
    """The same for answers; asked: heads of the requests. An interim answer is passed over."""
    count, k = 0, 0
    place = start[0]
    last = start[start.size - 1] + size[start.size - 1]
    found = np.zeros(4, np.int64)
    while place < last:
        k = _piece(start, size, k, place)
        at, end = pos[k] + place - start[k], min(pos[k] + size[k], buf.size)
        stop = _line_end(buf, at, min(end, at + 1000))
        if count >= requests or stop < at + 12 or not _same(buf, at, stop, _VERSION):
            return -1
        status = int64(0)
        for m in range(9, 12):
            if buf[at + m] < 48 or buf[at + m] > 57:
                return -1
            status = status * 10 + (buf[at + m] - 48)
        after = _fields(buf, stop + 2, end, found)
        if after < 0 or status == 101:
            return -1
        behind = start[k] + after - pos[k]
        if 100 <= status < 200:
            place = behind
            continue
        if asked[count].method == _CONNECT_METHOD:
            return -1
        if asked[count].method != _HEAD_METHOD and status != 204 and status != 304:
            if found[0] == _CHUNKED:
                behind = _chunks(buf, start, size, pos, k, behind)
            elif found[0] == _LENGTH:
                behind += found[1]
            else:
                behind = last
        if behind < 0 or behind > last:
            return -1
        heads[count].at, heads[count].end, heads[count].status = place, behind, status
        count += 1
        place = behind
    return count


@helper
def _segment(start: Int64s, segment: Int64s, place: int) -> int:
    low, high = 0, start.size
    while low < high:
        middle = (low + high) >> 1
        if start[middle] <= place:
            low = middle + 1
        else:
            high = middle
    return segment[max(0, low - 1)]


@kernel
def _whole(start: Int64s, size: Int64s) -> bool:
    whole = True
    for k in range(1, start.size):
        whole = whole and start[k] == start[k - 1] + size[k - 1]
    return whole


@kernel
def scan(
    connections: Int64s,
    starts: Int64s,
    order: Int32s,
    packets: Columns,
    number: int,
    buf: Uint8s,
    room: Segments,
    one: Int64s2,
    two: Int64s2,
    asked: WebHeads,
    told: WebHeads,
    turns: TurnRows,
    texts: Int64s2,
    used: Int64s,
) -> tuple[int, int]:
    """Exchanges of connections whose bytes lie in source `number`: rows into turns and texts from 0 on, how many of
    each into used (-1: not this way).

    one, two: int64 (4, n), room for the pieces of each side. texts: file positions of label and its end, host and its
    end; status. Returns (how many connections were done, rows): stops where turns are full.
    """
    rows = 0
    facts = np.zeros(FACTS, np.int64)
    for index in range(connections.size):
        c = connections[index]
        n = starts[c + 1] - starts[c]
        g = room[:n]
        used[index] = -1
        if rows + n > turns.size:
            return index, rows
        gather(order[starts[c] : starts[c + 1]], packets, g, facts)
        here = True
        for i in range(n):
            here = here and (g[i].n == 0 or packets.source[g[i].row] == number)
        if not here:
            continue
        a = pieces_of(g, 0, packets, one[0], one[1], one[2], one[3])
        b = pieces_of(g, 1, packets, two[0], two[1], two[2], two[3])
        if a == 0 or b == 0 or not _whole(one[0, :a], one[1, :a]) or not _whole(two[0, :b], two[1, :b]):
            continue
        for room_of, count in ((one, a), (two, b)):
            for k in range(count):
                p = g[room_of[2, k]].row
                room_of[3, k] += packets.position[p] + packets.payload_at[p]
        found = _requests(buf, one[0, :a], one[1, :a], one[3, :a], asked)
        if found <= 0:
            continue
        answered = _answers(buf, two[0, :b], two[1, :b], two[3, :b], asked, found, told)
        if answered < 0:
            continue
        used[index] = found
        for k in range(found):
            row = turns[rows]
            row.first = _segment(one[0, :a], one[2, :a], asked[k].at)
            row.request_end, row.request_bytes = asked[k].end, asked[k].end - asked[k].at
            row.answer, row.stop, row.response_end, row.response_bytes, row.kind, row.message = (
                -1,
                int64(1) << 62,
                0,
                0,
                0,
                -1,
            )
            text = texts[rows]
            text[0], text[1], text[2], text[3], text[4] = (
                asked[k].text,
                asked[k].text_end - asked[k].text,
                asked[k].host,
                asked[k].host_end - asked[k].host,
                0,
            )
            if k < answered:
                row.answer = _segment(two[0, :b], two[2, :b], told[k].at)
                row.stop = max(_segment(two[0, :b], two[2, :b], told[k].end - 1), row.answer) + 1
                row.response_end, row.response_bytes = told[k].end, told[k].end - told[k].at
                text[4] = told[k].status
            rows += 1
    return connections.size, rows


def empty_heads(capacity: int) -> WebHeads:
    """Room for the heads of one connection."""
    return np.zeros(capacity, HEAD)


def empty_rows(capacity: int) -> tuple[TurnRows, Int64s2]:
    """Room for turns and their texts."""
    return np.zeros(capacity, TURN), np.zeros((capacity, 5), np.int64)
