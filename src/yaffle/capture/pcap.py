"""The classic capture format: a 24 byte header, then records of 16 bytes and the packet.

Source: draft-ietf-opsawg-pcap. Both byte orders, microseconds and nanoseconds.
"""

from struct import Struct

from yaffle.arrays import Uint8s
from yaffle.capture.ahead import ask_ahead
from yaffle.capture.byte_source import Bytes
from yaffle.capture.octets import word, word_from_low
from yaffle.capture.records import (
    BROKEN,
    CHAIN,
    FULL,
    LARGEST_PACKET,
    LEAST_CHAIN,
    NEED_MORE,
    Container,
    Interface,
    Records,
)
from yaffle.errors import FormatError, TruncatedError
from yaffle.kernels import helper, kernel

RULE = "draft-ietf-opsawg-pcap section 4"
_MOST_S = 366 * 86_400  # from the first packet of a file to any other one, where one is looked for
MAGIC = {0xA1B2C3D4: 1000, 0xA1B23C4D: 1}  # value: nanoseconds a unit of the fraction


@helper
def u32(buf: Uint8s, at: int, swap: bool) -> int:
    """Four bytes, most significant first; least significant first when `swap`."""
    return word_from_low(buf, at) if swap else word(buf, at)


@kernel
def _index(buf: Uint8s, at: int, swap: bool, unit_ns: int, out: Records) -> tuple[int, int, int]:
    """Walks the chain of records. Returns how many, where it stopped, and why."""
    count = 0
    end = buf.size
    room = out.time_ns.size
    while True:
        if count == room:
            return count, at, FULL
        if end - at < 16:
            return count, at, NEED_MORE
        captured = u32(buf, at + 8, swap)
        if captured > LARGEST_PACKET:
            return count, at, BROKEN
        if end - at - 16 < captured:
            return count, at, NEED_MORE
        out.time_ns[count] = u32(buf, at, swap) * 1_000_000_000 + u32(buf, at + 4, swap) * unit_ns
        out.position[count] = at + 16
        out.captured[count] = captured
        out.wire[count] = max(captured, u32(buf, at + 12, swap))
        out.link[count] = 0
        count += 1
        at += 16 + captured
        ask_ahead(buf, at, 16 + captured)


@kernel
def _first_record(buf: Uint8s, swap: bool, unit_ns: int, first_s: int) -> int:
    """Where the first of many records begins that follow one another; -1 where none does."""
    for begin in range(buf.size - 16):
        at, count = begin, 0
        while count < CHAIN and buf.size - at >= 16:
            captured, wire = u32(buf, at + 8, swap), u32(buf, at + 12, swap)
            wrong = u32(buf, at + 4, swap) * unit_ns >= 1_000_000_000 or abs(u32(buf, at, swap) - first_s) > _MOST_S
            if wrong or captured > wire or wire > LARGEST_PACKET:
                count = -1
                break
            at += 16 + captured
            count += 1
        if count >= LEAST_CHAIN:
            return begin
    return -1


class PcapIndex:
    """Finds the records of one file, window by window."""

    steady = True  # What its beginning says holds for all of it.

    def __init__(self, head: Bytes) -> None:
        if head.size < 24:
            raise TruncatedError("file header", at=0, found=f"{head.size} bytes", expected=24, rule=RULE)
        for order in (">", "<"):
            magic, _major, _minor, _zone, _digits, snap, link = Struct(order + "IHHiIII").unpack(head[:24].tobytes())
            if magic in MAGIC:
                break
        else:
            raise FormatError("magic", at=0, found=f"{magic:#x}", expected="a1b2c3d4 or a1b23c4d", rule=RULE)
        self._swap = order == "<"
        self._unit_ns = MAGIC[magic]
        self.header_bytes = 24
        self.container = Container("pcap", [Interface(link & 0x0FFFFFFF, snap, units_per_s=10**9 // self._unit_ns)])

    def index(self, window: Bytes, at: int, offset: int, out: Records) -> tuple[int, int, int]:
        """Records of the window from `at`: their number, where it stopped, the status."""
        count, at, status = _index(window, at, self._swap, self._unit_ns, out)
        if status == BROKEN:
            found = int.from_bytes(window[at + 8 : at + 12].tobytes(), "little" if self._swap else "big")
            self.container.broken_at = offset + at
            self.container.notes.append(
                f"byte {offset + at + 8}: captured length is {found}, not believed: what follows is not read ({RULE})"
            )
        return int(count), int(at), int(status)

    def record_from(self, window: Bytes, first_s: int) -> int:
        """Where the first record of a window begins, as far as can be told; -1 where none does. first_s: of the file's
        first packet.
        """
        return int(_first_record(window, self._swap, self._unit_ns, first_s))
