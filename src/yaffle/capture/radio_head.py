"""What a radio tells of a frame before the frame itself: radiotap (radiotap.org), per-packet information, or nothing.

All fields of radiotap are passed over by their size and alignment, in every present word and through vendors' own
spaces; those that say how a frame was heard and sent are taken. Of several antennas the strongest speaks where the
frame as a whole has no signal of its own.
"""

import numpy as np

from yaffle.arrays import Int64s, Uint8s
from yaffle.kernels import helper, int64

BARE, RADIOTAP, PER_PACKET = 105, 127, 192  # link types
RADIO_LINKS = (BARE, RADIOTAP, PER_PACKET)
# Of what is found: signal and noise in dBm; PREAMBLE in us; GROUP: the aggregate a frame came in (A-MPDU), -1 alone.
MAC, STATE, SIGNAL, NOISE, RATE, FREQUENCY, CLOCK, CHECKED, PREAMBLE, GROUP = range(10)
FOUND = 10
# STATE: a wrong check sequence; padding behind the header; the check sequence stands at the end.
BAD, PADDED, WITH_CHECK = 1, 2, 4
UNKNOWN = -(1 << 40)
_FLAG_SHORT, _FLAG_CHECK, _FLAG_PAD, _FLAG_BAD = 0x02, 0x10, 0x20, 0x40
_IN_MS = 2  # of per-packet information: a clock of milliseconds, too coarse to be told time by
_SLOW_KBPS = (1000, 2000, 5500, 11_000)  # DSSS and CCK (IEEE 802.11-2020, 15 and 16)
_LONG_US, _SHORT_US, _OFDM_US = 192, 96, 20
_DATA_WORDS = 8


def _table(*values: int) -> np.ndarray:
    return np.array(values, np.int64)


# Of each field of radiotap, by its bit: size, alignment.
_SIZES = _table(8, 1, 1, 4, 2, 1, 1, 2, 2, 2, 1, 1, 1, 1, 2, 2, 1, 1, 8, 3, 8, 12, 12, 12, 12, 6, 1, 4, 0, 0, 0, 0)
_ALIGNS = _table(8, 1, 1, 2, 2, 1, 1, 2, 2, 2, 1, 1, 1, 1, 2, 2, 1, 1, 4, 1, 4, 2, 8, 2, 2, 2, 1, 2, 1, 1, 1, 1)
# Bits that a subcarrier carries by modulation (IEEE 802.11-2020, 21.5; 802.11ax-2021, 27.5), in sixtieths.
_BITS = _table(30, 60, 90, 120, 180, 240, 270, 300, 360, 400, 450, 500)


@helper
def le16(buf: Uint8s, at: int) -> int:
    """16 bits, the lowest octet first."""
    return int64(buf[at]) | int64(buf[at + 1]) << 8


@helper
def le32(buf: Uint8s, at: int) -> int:
    """32 bits, the lowest octet first."""
    return le16(buf, at) | le16(buf, at + 2) << 16


@helper
def _signed(value: int) -> int:
    return int64(value) - 256 if value > 127 else int64(value)


@helper
def _ht_kbps(buf: Uint8s, at: int) -> int:
    """Rate of a frame by 802.11n: known, flags, index."""
    flags, index = int64(buf[at + 1]), int64(buf[at + 2])
    if index > 31:
        return 0
    carriers = 108 if flags & 3 == 1 else 52
    symbol_ns = 3600 if flags & 4 else 4000
    return carriers * _BITS[index & 7] * (1 + (index >> 3)) * 1_000_000 // (60 * symbol_ns)


@helper
def _vht_kbps(buf: Uint8s, at: int) -> int:
    """The same by 802.11ac, of the first user."""
    flags, width, user = int64(buf[at + 2]), int64(buf[at + 3]), int64(buf[at + 4])
    index, streams = user >> 4, user & 15
    if index > 11 or streams == 0:
        return 0
    carriers = 52
    if 1 <= width <= 3:
        carriers = 108
    elif 4 <= width <= 10:
        carriers = 234
    elif width >= 11:
        carriers = 468
    symbol_ns = 3600 if flags & 4 else 4000
    return carriers * _BITS[index] * streams * 1_000_000 // (60 * symbol_ns)


@helper
def _he_kbps(buf: Uint8s, at: int) -> int:
    """The same by 802.11ax: data 3 has the modulation, data 5 width and guard, data 6 the streams."""
    third, fifth, sixth = le16(buf, at + 4), le16(buf, at + 8), le16(buf, at + 10)
    index, streams, width, guard = third >> 8 & 15, max(1, sixth & 15), fifth & 15, fifth >> 4 & 3
    if index > 11:
        return 0
    carriers = 234
    if width == 1:
        carriers = 468
    elif width == 2:
        carriers = 980
    elif width == 3:
        carriers = 1960
    elif width == 4:
        carriers = 24
    elif width == 5:
        carriers = 48
    elif width == 6:
        carriers = 102
    elif width == 7:
        carriers = 234
    elif width == 8:
        carriers = 468
    elif width == 9:
        carriers = 980
    elif width == 10:
        carriers = 1960
    symbol_ns = 12_800 + (800 if guard == 0 else 1600 if guard == 1 else 3200)
    found = carriers * _BITS[index] * streams * 1_000_000 // (60 * symbol_ns)
    return found // 2 if third >> 12 & 1 else found


@helper
def _slow_preamble(kbps: int, told: int) -> int:
    """Preamble and header of a frame without aggregates, us: long or short of the slow rates (IEEE 802.11-2020,
    16.2.2), else that of OFDM (17.3.2).
    """
    for slow in _SLOW_KBPS:
        if kbps == slow:
            return told if told == _SHORT_US else _LONG_US
    return _OFDM_US


@helper
def _field(buf: Uint8s, at: int, bit: int, found: Int64s, of_antenna: bool) -> None:
    """Takes one field of radiotap."""
    if bit == 5:
        heard = _signed(buf[at])
        if not of_antenna or (found[CHECKED] == 0 and heard > found[SIGNAL]):
            found[SIGNAL] = heard
            found[CHECKED] = 0 if of_antenna else 1
    elif of_antenna:
        return
    elif bit == 0:
        found[CLOCK] = le32(buf, at) | le32(buf, at + 4) << 32
    elif bit == 1:
        flags = int64(buf[at])
        if flags & _FLAG_BAD:
            found[STATE] |= BAD
        if flags & _FLAG_PAD:
            found[STATE] |= PADDED
        if flags & _FLAG_CHECK:
            found[STATE] |= WITH_CHECK
        if flags & _FLAG_SHORT:
            found[PREAMBLE] = _SHORT_US
    elif bit == 2:
        found[RATE] = int64(buf[at]) * 500
        found[PREAMBLE] = _slow_preamble(found[RATE], found[PREAMBLE])
    elif bit == 3:
        found[FREQUENCY] = le16(buf, at)
    elif bit == 6:
        found[NOISE] = _signed(buf[at])
    elif bit == 19:
        found[RATE] = _ht_kbps(buf, at)
        found[PREAMBLE] = 36 + 4 * (int64(buf[at + 2]) >> 3 & 3)
    elif bit == 20:
        found[GROUP] = le32(buf, at)
    elif bit == 21:
        found[RATE] = _vht_kbps(buf, at)
        found[PREAMBLE] = 36 + 4 * max(int64(1), int64(buf[at + 4]) & 15)
    elif bit == 23:
        found[RATE] = _he_kbps(buf, at)
        found[PREAMBLE] = 36 + 8 * max(int64(1), le16(buf, at + 10) & 15)


@helper
def _radiotap(buf: Uint8s, at: int, end: int, found: Int64s) -> bool:
    """Whether it is one; takes its fields."""
    if end - at < 8 or buf[at] != 0:
        return False
    stop = at + le16(buf, at + 2)
    if stop > end or stop - at < 8:
        return False
    found[MAC] = stop
    words = 1
    while le32(buf, at + 4 * words) >> 31 and words <= _DATA_WORDS and at + 8 + 4 * words <= stop:
        words += 1
    here = at + 4 + 4 * words
    of_antenna, vendor, skip = False, False, int64(0)
    for place in range(words):
        present = le32(buf, at + 4 + 4 * place)
        for bit in range(29):
            if not present >> bit & 1 or vendor:
                continue
            size, align = _SIZES[bit], _ALIGNS[bit]
            if size == 0:
                return True  # What is not known has no size: the rest cannot be read.
            here += (at - here) % align
            if here + size > stop:
                return True
            _field(buf, here, bit, found, of_antenna)
            here += size
        if vendor:
            here += skip
            vendor = False
        if present >> 30 & 1:  # A vendor's own space follows: organization, sub-space, length of what it holds.
            here += (at - here) % 2
            if here + 6 > stop:
                return True
            skip = le16(buf, here + 4)
            here += 6
            vendor = True
        of_antenna = True
    return True


@helper
def _per_packet(buf: Uint8s, at: int, end: int, found: Int64s) -> bool:
    """Whether it is one; takes the fields that 802.11 has in common (type 2)."""
    if end - at < 8:
        return False
    stop = at + le16(buf, at + 2)
    if stop > end or stop - at < 8 or le32(buf, at + 4) != BARE:
        return False
    found[MAC] = stop
    here = at + 8
    while here + 4 <= stop:
        kind, size = le16(buf, here), le16(buf, here + 2)
        own = here + 4
        if own + size > stop:
            break
        if kind == 2 and size >= 20:
            if not le16(buf, own + 8) & _IN_MS:
                found[CLOCK] = le32(buf, own) | le32(buf, own + 4) << 32
            if le16(buf, own + 8) & 4:
                found[STATE] |= BAD
            found[RATE] = le16(buf, own + 10) * 500
            found[PREAMBLE] = _slow_preamble(found[RATE], 0)
            if le16(buf, own + 8) & 1:
                found[STATE] |= WITH_CHECK
            found[FREQUENCY] = le16(buf, own + 12)
            if buf[own + 18] != 0 and buf[own + 18] != 128:
                found[SIGNAL] = _signed(buf[own + 18])
            if buf[own + 19] != 0 and buf[own + 19] != 128:
                found[NOISE] = _signed(buf[own + 19])
        here = own + size
    return True


@helper
def radio_head(buf: Uint8s, at: int, end: int, link: int, found: Int64s) -> bool:
    """What a radio tells of the frame of a record into `found` (FOUND numbers); whether it is one."""
    found[MAC], found[STATE], found[RATE], found[FREQUENCY], found[CLOCK], found[CHECKED] = at, 0, 0, 0, -1, 0
    found[PREAMBLE], found[GROUP] = _OFDM_US, -1
    found[SIGNAL], found[NOISE] = UNKNOWN, UNKNOWN
    if link == BARE:
        return end - at >= 10
    if link == RADIOTAP:
        return _radiotap(buf, at, end, found)
    return _per_packet(buf, at, end, found)


@helper
def header_length(buf: Uint8s, at: int, end: int) -> int:
    """Octets of the header of a data frame (IEEE 802.11-2020, 9.3.2); 0 where it is none, or not all of it is there."""
    if end - at < 24 or buf[at] & 0x0C != 0x08 or buf[at] & 3:
        return 0
    size = 24
    if buf[at + 1] & 3 == 3:
        size += 6
    if buf[at] & 0x80:
        size += 2
        if buf[at + 1] & 0x80:
            size += 4
    return size if end - at >= size else 0


@helper
def open_body(buf: Uint8s, at: int, end: int, state: int) -> int:
    """Where the EtherType of an open data frame stands; -1 where nothing of it can be read: it is protected, has no
    body, is a later fragment, or is no data frame. Of an aggregate the first part.
    """
    size = header_length(buf, at, end)
    if size == 0 or buf[at] & 0x40 or buf[at + 1] & 0x40 or le16(buf, at + 22) & 15:
        return -1
    body = at + size
    if state & PADDED:
        body = at + (size + 3) // 4 * 4
    if buf[at] & 0x80:
        qos = at + size - (6 if buf[at + 1] & 0x80 else 2)
        if buf[qos] & 0x80:
            body += 14
    if end - body < 8 or buf[body] != 0xAA or buf[body + 1] != 0xAA or buf[body + 2] != 3:
        return -1
    return body + 6


@helper
def same_frame(buf: Uint8s, one: int, one_end: int, two: int, two_end: int) -> bool:
    """Whether two data frames are the same one, sent again: sender, receiver, and sequence control."""
    if one_end - one < 24 or two_end - two < 24 or buf[one] != buf[two]:
        return False
    for k in range(4, 16):
        if buf[one + k] != buf[two + k]:
            return False
    return buf[one + 22] == buf[two + 22] and buf[one + 23] == buf[two + 23]
