"""Frames of 802.11 as rows of numbers, read where they lie in the capture."""

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Uint8s
from yaffle.capture.octets import hardware
from yaffle.capture.radio_head import (
    BAD,
    CLOCK,
    FOUND,
    FREQUENCY,
    GROUP,
    MAC,
    NOISE,
    PADDED,
    PREAMBLE,
    RATE,
    SIGNAL,
    STATE,
    WITH_CHECK,
    header_length,
    le16,
    radio_head,
)  # fmt: skip
from yaffle.kernels import helper, int64, kernel

# Columns of a row: the packet's row in the capture, frame control, addresses as numbers (-1 without), sequence number,
# fragment, traffic identifier (-1 without), how it was heard and sent, where its body begins, how long it is.
ROW, TYPE, SUBTYPE, FLAGS, RECEIVER, SENDER, THIRD, SEQUENCE, FRAGMENT, TID, BODY, LENGTH = range(12)
HEARD_SIGNAL, HEARD_NOISE, HEARD_RATE, HEARD_FREQUENCY, HEARD_CLOCK, IS_BAD, ETHERTYPE, PORTS = range(12, 20)
# What its time on the air follows from: us of preamble, the aggregate that it came in, octets of the capture's record
# that were not sent (the radio's own words; negative: a check sequence that was sent and is not there).
US_BEFORE, AGGREGATE, NOT_SENT = range(20, 23)
COLUMNS = 23
_CHECK = 4
MANAGEMENT, CONTROL, DATA = 0, 1, 2
TO_DS, FROM_DS, MORE, RETRY, POWER, _, PROTECTED, ORDER = (1 << bit for bit in range(8))
_CTS, _ACK = 12, 13  # control frames that name no sender


@helper
def _data(buf: Uint8s, at: int, end: int, state: int, out: Int64s2, k: int) -> None:
    """Where the body of a data frame begins, and what can be read of it."""
    size = header_length(buf, at, end)
    if size == 0:
        return
    body = at + ((size + 3) // 4 * 4 if state & PADDED else size)
    if buf[at] & 0x80:
        qos = at + size - (6 if buf[at + 1] & 0x80 else 2)
        out[k, TID] = int64(buf[qos]) & 15
        if buf[qos] & 0x80 and not buf[at + 1] & 0x40:
            body += 14
    out[k, BODY], out[k, LENGTH] = body, max(0, end - body)
    if buf[at + 1] & 0x40 or out[k, FRAGMENT] or end - body < 8 or buf[body] != 0xAA or buf[body + 1] != 0xAA:
        return
    out[k, ETHERTYPE] = int64(buf[body + 6]) << 8 | int64(buf[body + 7])
    ip = body + 8
    if out[k, ETHERTYPE] == 0x0800 and end - ip >= 24 and buf[ip] >> 4 == 4 and buf[ip + 9] == 17:
        udp = ip + 4 * (int64(buf[ip]) & 15)
        if udp + 4 <= end:
            out[k, PORTS] = (int64(buf[udp]) << 8 | int64(buf[udp + 1])) << 16
            out[k, PORTS] |= int64(buf[udp + 2]) << 8 | int64(buf[udp + 3])


@kernel
def scan_frames(data: Uint8s, position: Int64s, captured: Int64s, link: Int64s, row: Int64s, out: Int64s2) -> int:
    """Rows of the frames of some records into `out` (n, COLUMNS), which has room for all; how many there are."""
    k = 0
    found = np.empty(FOUND, np.int64)
    for i in range(position.size):
        begin = position[i]
        end = min(begin + captured[i], data.size)
        if end <= begin or not radio_head(data, begin, end, link[i], found):
            continue
        at = found[MAC]
        if end - at < 10 or data[at] & 3:
            continue
        for column in range(COLUMNS):
            out[k, column] = -1
        kind = int64(data[at]) >> 2 & 3
        if kind != CONTROL and end - at < 24:
            continue  # Whose it was cannot be said.
        out[k, ROW], out[k, TYPE], out[k, SUBTYPE] = row[i], kind, int64(data[at]) >> 4
        out[k, FLAGS], out[k, RECEIVER] = data[at + 1], hardware(data, at + 4)
        out[k, HEARD_SIGNAL], out[k, HEARD_NOISE] = found[SIGNAL], found[NOISE]
        out[k, HEARD_RATE], out[k, HEARD_FREQUENCY] = found[RATE], found[FREQUENCY]
        out[k, HEARD_CLOCK], out[k, IS_BAD] = found[CLOCK], found[STATE] & BAD
        out[k, US_BEFORE], out[k, AGGREGATE] = found[PREAMBLE], found[GROUP]
        out[k, NOT_SENT] = at - begin - (0 if found[STATE] & WITH_CHECK else _CHECK)
        out[k, FRAGMENT] = 0
        if end - at >= 16 and not (kind == CONTROL and (out[k, SUBTYPE] == _CTS or out[k, SUBTYPE] == _ACK)):
            out[k, SENDER] = hardware(data, at + 10)
        if kind != CONTROL:
            out[k, THIRD] = hardware(data, at + 16)
            control = le16(data, at + 22)
            out[k, SEQUENCE], out[k, FRAGMENT] = control >> 4, control & 15
        if kind == DATA:
            _data(data, at, end, found[STATE], out, k)
        elif kind == MANAGEMENT:
            size = 28 if data[at + 1] & 0x80 else 24
            out[k, BODY], out[k, LENGTH] = at + size, max(0, end - at - size)
        k += 1
    return k
