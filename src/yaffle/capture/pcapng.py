"""The block format: sections, interfaces, packets, names, statistics.

Source: draft-ietf-opsawg-pcapng. Any time resolution and offset, both byte orders, several sections.
"""

import ipaddress
from struct import Struct

import numpy as np

from yaffle.arrays import Int64s, Uint8s, Uint64s
from yaffle.capture.ahead import ask_ahead
from yaffle.capture.byte_source import LARGEST_WINDOW, Bytes
from yaffle.capture.pcap import u32
from yaffle.capture.records import (
    BROKEN,
    CHAIN,
    FULL,
    LARGEST_PACKET,
    LEAST_CHAIN,
    NEED_MORE,
    OTHER_BLOCK,
    Container,
    Interface,
    Records,
)
from yaffle.errors import FormatError
from yaffle.kernels import int64, kernel, uint64

RULE = "draft-ietf-opsawg-pcapng section 3.1"
SECTION, INTERFACE, OLD_PACKET, SIMPLE_PACKET, NAMES, STATISTICS, ENHANCED_PACKET = 0x0A0D0D0A, 1, 2, 3, 4, 5, 6
_NO_TIME = -(1 << 63)
_MOST_S = 9_223_372_035  # Nanoseconds since 1970 end in 2262.


@kernel
def _index(
    buf: Uint8s,
    at: int,
    swap: bool,
    first_interface: int,
    interfaces: int,
    units_per_s: Uint64s,
    offset_s: Int64s,
    snap: int,
    out: Records,
) -> tuple[int, int, int]:
    """Walks packet blocks; stops at any other block, which is rare."""
    count = 0
    end = buf.size
    room = out.time_ns.size
    while True:
        if count == room:
            return count, at, FULL
        if end - at < 12:
            return count, at, NEED_MORE
        kind = u32(buf, at, swap)
        if kind == SECTION:
            return count, at, OTHER_BLOCK
        length = u32(buf, at + 4, swap)
        if length < 12 or length % 4 != 0 or length > LARGEST_WINDOW:
            return count, at, BROKEN
        if end - at < length:
            return count, at, NEED_MORE
        if kind == ENHANCED_PACKET or kind == OLD_PACKET:
            if length < 32:
                return count, at, BROKEN
            if kind == ENHANCED_PACKET:
                link = u32(buf, at + 8, swap)
            elif swap:
                link = (int64(buf[at + 9]) << 8) | int64(buf[at + 8])
            else:
                link = (int64(buf[at + 8]) << 8) | int64(buf[at + 9])
            captured = u32(buf, at + 20, swap)
            if captured > length - 32 or captured > LARGEST_PACKET or link >= interfaces:
                return count, at, BROKEN
            link += first_interface
            ticks = (uint64(u32(buf, at + 12, swap)) << uint64(32)) | uint64(u32(buf, at + 16, swap))
            whole = ticks // units_per_s[link]
            part = ticks % units_per_s[link]
            if units_per_s[link] > uint64(9_000_000_000):
                part = part // (units_per_s[link] // uint64(1_000_000_000))
            else:
                part = part * uint64(1_000_000_000) // units_per_s[link]
            if whole > uint64(_MOST_S) or int64(whole) + offset_s[link] > _MOST_S:
                out.time_ns[count] = _NO_TIME
            else:
                out.time_ns[count] = (int64(whole) + offset_s[link]) * 1_000_000_000 + int64(part)
            out.position[count] = at + 28
            out.captured[count] = captured
            out.wire[count] = max(captured, u32(buf, at + 24, swap))
            out.link[count] = link
            count += 1
        elif kind == SIMPLE_PACKET:
            if length < 16 or interfaces < 1:
                return count, at, BROKEN
            wire = u32(buf, at + 8, swap)
            captured = min(wire, length - 16)
            if snap > 0:
                captured = min(captured, snap)
            if captured > LARGEST_PACKET:
                return count, at, BROKEN
            out.time_ns[count] = _NO_TIME  # A simple packet block carries no time.
            out.position[count] = at + 12
            out.captured[count] = captured
            out.wire[count] = wire
            out.link[count] = first_interface
            count += 1
        else:
            return count, at, OTHER_BLOCK
        at += length
        ask_ahead(buf, at, length)


@kernel
def _first_block(buf: Uint8s, swap: bool) -> int:
    """Where the first of many blocks begins that follow one another, each of which tells its length at both ends; -1
    where none does. Blocks begin at every fourth octet only.
    """
    for begin in range(0, buf.size - 12, 4):
        at, count = begin, 0
        while count < CHAIN and buf.size - at >= 12:
            length = u32(buf, at + 4, swap)
            if length < 12 or length % 4 != 0 or length > LARGEST_WINDOW:
                count = -1
                break
            if at + length > buf.size:
                break
            if u32(buf, at + length - 4, swap) != length:
                count = -1
                break
            at += length
            count += 1
        if count >= LEAST_CHAIN:
            return begin
    return -1


class PcapngIndex:
    """Finds the packets of one file, window by window."""

    header_bytes = 0

    def __init__(self, head: Bytes) -> None:
        if head.size < 12 or head[:4].tobytes() != b"\x0a\x0d\x0d\x0a":
            raise FormatError("first block", at=0, found=head[:4].tobytes().hex(), expected="0a0d0d0a", rule=RULE)
        self.container = Container("pcapng")
        self._swap = False
        self._first_interface = 0  # of this section, within all interfaces of the file
        self._tables()
        self._without_time = 0
        self._last_ns = 0

    @property
    def steady(self) -> bool:
        """Whether what its beginning says holds for all that was read: one section, a time for each packet."""
        return self._first_interface == 0 and not self._without_time

    def record_from(self, window: Bytes, first_s: int) -> int:
        """Where the first block of a window begins, which begins with four octets, as far as can be told; else -1."""
        return int(_first_block(window, self._swap))

    def _tables(self) -> None:
        faces = self.container.interfaces
        self._units = np.array([max(1, f.units_per_s) for f in faces] or [1], np.uint64)
        self._offsets = np.array([f.offset_s for f in faces] or [0], np.int64)

    def index(self, window: Bytes, at: int, offset: int, out: Records) -> tuple[int, int, int]:
        """Records of the window from `at`: their number, where it stopped, the status."""
        count = 0
        while True:
            part = Records(*(column[count:] for column in out))
            own = len(self.container.interfaces) - self._first_interface
            snap = self.container.interfaces[self._first_interface].snap_bytes if own else 0
            more, at, status = _index(
                window, at, self._swap, self._first_interface, own, self._units, self._offsets, snap, part
            )
            self._give_times(part.time_ns[:more])
            count += int(more)
            if status != OTHER_BLOCK:
                if status == BROKEN:
                    self._break(offset + at, "block")
                return count, int(at), int(status)
            taken = self._other_block(window, int(at), offset)
            if taken == 0:
                return count, int(at), NEED_MORE
            if taken < 0:
                return count, int(at), BROKEN
            at += taken

    def _give_times(self, time_ns: Int64s) -> None:
        lacking = time_ns == _NO_TIME
        if lacking.any():
            self._without_time += int(lacking.sum())
            if self._without_time == int(lacking.sum()):
                self.container.notes.append(
                    "some packets carry no time, or one beyond the year 2262: they are given the time of the packet"
                    " before"
                )
            for i in np.flatnonzero(lacking):
                time_ns[i] = time_ns[i - 1] if i else self._last_ns
        if time_ns.size:
            self._last_ns = int(time_ns[-1])

    def _break(self, at: int, what: str) -> int:
        self.container.broken_at = at
        self.container.notes.append(f"byte {at}: {what} contradicts itself: what follows is not read ({RULE})")
        return -1

    def _number(self, window: Bytes, at: int) -> int:
        """`u32` outside of kernels."""
        return int.from_bytes(window[at : at + 4].tobytes(), "little" if self._swap else "big")

    def _other_block(self, window: Bytes, at: int, offset: int) -> int:
        """Takes one block that is not a packet. Returns its length, 0 if it is not all there, -1 if it is broken."""
        left = window.size - at
        if window[at : at + 4].tobytes() == b"\x0a\x0d\x0d\x0a":
            if left < 16:
                return 0
            order = window[at + 8 : at + 12].tobytes()
            if order not in (b"\x1a\x2b\x3c\x4d", b"\x4d\x3c\x2b\x1a"):
                return self._break(offset + at + 8, "byte order of a section")
            self._swap = order == b"\x4d\x3c\x2b\x1a"
        length = self._number(window, at + 4)
        if length < 12 or length % 4 or length > LARGEST_WINDOW:
            return self._break(offset + at + 4, f"block length {length}")
        if left < length:
            return 0
        kind = self._number(window, at)
        body = window[at + 8 : at + length - 4].tobytes()
        if kind == SECTION:
            self._first_interface = len(self.container.interfaces)
        elif kind == INTERFACE:
            self._add_interface(body)
        elif kind == NAMES:
            self._add_names(body)
        elif kind == STATISTICS:
            self._add_statistics(body)
        return length

    def _options(self, body: bytes) -> list[tuple[int, bytes]]:
        head, at, found = Struct("<HH" if self._swap else ">HH"), 0, []
        while at + 4 <= len(body):
            code, length = head.unpack_from(body, at)
            if code == 0 or at + 4 + length > len(body):
                break
            found.append((code, body[at + 4 : at + 4 + length]))
            at += 4 + length + (-length % 4)
        return found

    def _add_interface(self, body: bytes) -> None:
        if len(body) < 8:
            return
        order = "<" if self._swap else ">"
        link, _reserved, snap = Struct(order + "HHI").unpack_from(body)
        face = Interface(link, snap)
        for code, value in self._options(body[8:]):
            if code == 2:
                face.name = value.decode("utf-8", "replace")
            elif code == 9 and value:
                power = value[0] & 0x7F
                face.units_per_s = 2 ** min(power, 62) if value[0] & 0x80 else 10 ** min(power, 18)
            elif code == 14 and len(value) == 8:
                offset_s = Struct(order + "q").unpack(value)[0]
                if abs(offset_s) < 1 << 33:  # Beyond that, ns since 1970 do not fit.
                    face.offset_s = offset_s
        self.container.interfaces.append(face)
        self._tables()

    def _add_names(self, body: bytes) -> None:
        head, at = Struct("<HH" if self._swap else ">HH"), 0
        while at + 4 <= len(body):
            kind, length = head.unpack_from(body, at)
            value = body[at + 4 : at + 4 + length]
            octets = {1: 4, 2: 16}.get(kind)
            if kind == 0 or len(value) < length:
                break
            if octets and length > octets:
                name = value[octets:].split(b"\0")[0].decode("utf-8", "replace")
                self.container.names[str(ipaddress.ip_address(value[:octets]))] = name
            at += 4 + length + (-length % 4)

    def _add_statistics(self, body: bytes) -> None:
        order = "<" if self._swap else ">"
        if len(body) < 12:
            return
        link = self._first_interface + Struct(order + "I").unpack_from(body)[0]
        for code, value in self._options(body[12:]):
            if code == 5 and len(value) == 8 and link < len(self.container.interfaces):
                self.container.interfaces[link].dropped = Struct(order + "Q").unpack(value)[0]
