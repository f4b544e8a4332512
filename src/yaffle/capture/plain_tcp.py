"""The short way for what most packets are: Ethernet, IPv4 and TCP without options or with timestamps only, no SYN.

Gives exactly what headers.decode gives (a test compares them); everything else is left to it.
"""

from yaffle.arrays import Bools, Int64s, Uint8s
from yaffle.capture.ahead import CACHE_LINE
from yaffle.capture.headers import Ends
from yaffle.capture.octets import half, word
from yaffle.capture.packets import MARK_DONT_FRAGMENT, MARK_SLICED, MARK_TIMESTAMPS, Columns
from yaffle.capture.records import Records
from yaffle.kernels import int64, kernel, pasted
from yaffle.prefetch import prefetch

_TIMESTAMPS_ONLY = 0x0101080A  # Two fillers, then kind 8, length 10 (RFC 7323 appendix A).

_AHEAD = 12


@pasted
def _leave(i: int, kept: int, wire: int, out: Columns, rest: Int64s, left: int) -> None:
    """Packet i is not plain."""
    out.captured_bytes[i], out.wire_bytes[i] = kept, wire
    rest[left] = i


@kernel
def decode_plain(buf: Uint8s, records: Records, ethernet: Bools, out: Columns, ends: Ends, rest: Int64s) -> int:
    """Fills the header columns of plain TCP packets; puts the numbers of the others into `rest` and returns how many.
    Of these the lengths are set; those of plain packets are left to who comes after.

    ethernet: whether each interface is one.
    """
    starts, left = records.position, 0
    last = starts.size - 1
    for i in range(starts.size):
        at, ahead = starts[i], starts[min(i + _AHEAD, last)]
        prefetch(buf, ahead)
        prefetch(buf, ahead + CACHE_LINE)
        kept = records.captured[i]
        wire = records.wire[i]
        if (
            kept < 54
            or not ethernet[out.link[i]]
            or buf[at] & 1
            or word(buf, at + 12) >> 8 != 0x080045
            or buf[at + 23] != 6
        ):
            _leave(i, kept, wire, out, rest, left)
            left += 1
            continue
        fragment = half(buf, at + 20)
        header = int64(buf[at + 46]) >> 4
        flags = half(buf, at + 46) & 0x1FF
        total = half(buf, at + 16)
        timestamps = header == 8 and kept >= 66 and word(buf, at + 54) == _TIMESTAMPS_ONLY
        if fragment & 0x3FFF or flags & 2 or total < 20 + 4 * header or (header != 5 and not timestamps):
            _leave(i, kept, wire, out, rest, left)
            left += 1
            continue
        marks = MARK_SLICED if wire > kept else 0
        if fragment & 0x4000:
            marks |= MARK_DONT_FRAGMENT
        tsval = tsecr = 0
        if timestamps:
            marks |= MARK_TIMESTAMPS
            tsval, tsecr = word(buf, at + 58), word(buf, at + 62)
        payload = total - 20 - 4 * header
        head = out.head[i]
        head.seq = word(buf, at + 38)
        head.ack = word(buf, at + 42)
        head.tsval = tsval
        head.tsecr = tsecr
        head.extra = 0
        head.payload = payload
        head.window = half(buf, at + 48)
        head.ip_id = half(buf, at + 18)
        head.flags = flags
        head.marks = marks
        out.payload_at[i] = 34 + 4 * header
        out.protocol[i] = 6
        out.tos[i] = buf[at + 15]
        out.ttl[i] = buf[at + 22]
        out.direction[i] = 0
        ends.src_hi[i] = 0
        ends.src_lo[i] = word(buf, at + 26)
        ends.dst_hi[i] = 0
        ends.dst_lo[i] = word(buf, at + 30)
        ends.src_port[i] = half(buf, at + 34)
        ends.dst_port[i] = half(buf, at + 36)
        ends.fragment[i] = -1
        ends.tunnel_id[i] = 0
    return left
