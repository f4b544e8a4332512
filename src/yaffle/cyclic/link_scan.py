"""Whose a packet is where there is no IP: link-layer addresses, read where they lie in the capture."""

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Uint8s
from yaffle.capture.octets import half, hardware
from yaffle.capture.radio_head import (
    BARE,
    FOUND,
    MAC,
    PADDED,
    PER_PACKET,
    RADIOTAP,
    STATE,
    header_length,
    le16,
    radio_head,
)
from yaffle.kernels import helper, kernel

# Columns of a row: addresses as numbers (-1 without), EtherType (0: unreadable, on the air), what tells streams of one
# pair apart (frame or application identifier, -1 without), where what it carries begins and ends, and of frames on the
# air their sequence control, by which one that was sent again is known (-1 elsewhere).
SENDER, RECEIVER, ETHERTYPE, IDENTIFIER, BODY, END, SEQUENCE = range(7)
COLUMNS = 7
REAL_TIME, SAMPLED, EVENTS = 0x8892, 0x88BA, 0x88B8  # IEC 61158; IEC 61850: their frames begin with an identifier
UNREAD = 0
_ETHERNET, _SLL, _SLL2 = 1, 113, 276
_TO_DS, _FROM_DS = 1, 2


@helper
def _on_air(data: Uint8s, at: int, stop: int, state: int, out: Int64s2, row: int) -> bool:
    """A data frame of 802.11; whether it is one that is to be counted."""
    size = header_length(data, at, stop)
    if size == 0 or data[at] & 0x40:  # None, or one without data.
        return False
    direction = data[at + 1] & 3
    if direction == _TO_DS:
        out[row, RECEIVER], out[row, SENDER] = hardware(data, at + 16), hardware(data, at + 10)
    elif direction == _FROM_DS:
        out[row, RECEIVER], out[row, SENDER] = hardware(data, at + 4), hardware(data, at + 16)
    else:
        out[row, RECEIVER], out[row, SENDER] = hardware(data, at + 4), hardware(data, at + 10)
    out[row, SEQUENCE], out[row, ETHERTYPE] = le16(data, at + 22), UNREAD
    body = at + ((size + 3) // 4 * 4 if state & PADDED else size)
    if not data[at + 1] & 0x40 and stop - body >= 8 and data[body] == 0xAA and data[body + 1] == 0xAA:
        out[row, ETHERTYPE] = half(data, body + 6)
        body += 8
    out[row, BODY], out[row, END] = body, max(body, stop)
    return True


@helper
def _on_wire(data: Uint8s, at: int, stop: int, link: int, out: Int64s2, row: int) -> bool:
    """A frame of Ethernet, or as Linux keeps it without the receiver's address; whether it could be read."""
    if link == _ETHERNET:
        if at + 14 > stop:
            return False
        out[row, RECEIVER], out[row, SENDER] = hardware(data, at), hardware(data, at + 6)
        here = at + 12
        for _ in range(3):
            kind = half(data, here)
            if kind != 0x8100 and kind != 0x88A8 and kind != 0x9100:
                break
            here += 4
            if here + 2 > stop:
                return False
        out[row, ETHERTYPE] = half(data, here)
        out[row, BODY] = here + 2
    elif link == _SLL:
        if at + 16 > stop:
            return False
        out[row, SENDER], out[row, ETHERTYPE], out[row, BODY] = hardware(data, at + 6), half(data, at + 14), at + 16
    else:
        if at + 20 > stop:
            return False
        out[row, SENDER], out[row, ETHERTYPE], out[row, BODY] = hardware(data, at + 12), half(data, at), at + 20
    out[row, END] = stop
    return True


@kernel
def scan_links(data: Uint8s, position: Int64s, captured: Int64s, link: Int64s, out: Int64s2) -> None:
    """A row (COLUMNS) for each of some packets; what cannot be read has an EtherType of -1."""
    found = np.empty(FOUND, np.int64)
    for row in range(position.size):
        for column in range(COLUMNS):
            out[row, column] = -1
        at = position[row]
        stop = min(at + captured[row], data.size)
        if link[row] == RADIOTAP or link[row] == PER_PACKET or link[row] == BARE:
            told = radio_head(data, at, stop, link[row], found) and _on_air(
                data, found[MAC], stop, found[STATE], out, row
            )
        elif link[row] == _ETHERNET or link[row] == _SLL or link[row] == _SLL2:
            told = _on_wire(data, at, stop, link[row], out, row)
        else:
            told = False
        if not told:
            out[row, ETHERTYPE] = -1
            continue
        kind, body = out[row, ETHERTYPE], out[row, BODY]
        if (kind == REAL_TIME or kind == SAMPLED or kind == EVENTS) and body + 2 <= out[row, END]:
            out[row, IDENTIFIER] = half(data, body)
