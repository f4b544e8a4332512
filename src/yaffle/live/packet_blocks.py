"""A block of the kernel's ring (TPACKET_V3, packet_mmap) as packets of a capture file (draft-ietf-opsawg-pcapng)."""

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Uint8s
from yaffle.capture.pcap import u32
from yaffle.kernels import helper, int64, kernel, uint64

# linux/if_packet.h: places in the header of a block, of a packet, and of the address behind that.
FIRST_PACKET, PACKETS, BLOCK_STATUS = 16, 12, 8
_HEADER = 48
PER_PACKET = 32 + 12 + 4 + 3  # Octets that a packet takes beside itself, at most: block, options, a tag, filling.


@helper
def _u16(buf: Uint8s, at: int) -> int:
    return int64(buf[at + 1]) << 8 | int64(buf[at])


@helper
def _put32(out: Uint8s, at: int, value: int) -> None:
    out[at] = value & 255
    out[at + 1] = value >> 8 & 255
    out[at + 2] = value >> 16 & 255
    out[at + 3] = value >> 24 & 255


@kernel
def convert(
    buf: Uint8s,
    begin: int,
    first: int,
    done: int,
    indexes: Int64s,
    numbers: Int64s,
    loopback: int,
    out: Uint8s,
    filled: int,
    counts: Int64s2,
) -> tuple[int, int, int]:
    """(packets done, octets filled, last time in ns): packets of a block from number `done` on, until one is of an
    interface that is not known, or `out` has no room.

    buf: uint8, the ring; begin: where the block lies in it; first: where the first packet to do lies in the block;
    loopback: the interface whose packets come twice; -1 none. indexes, numbers: the kernel's number of each interface,
    sorted, and its number in the file; -1 any. counts: of
    each number packets, those that stand for several, those whose checksum was not filled in. The place of the next
    packet is left in counts[0, 3].
    """
    total = u32(buf, begin + 12, True)
    at, time_ns = begin + first, int64(0)
    while done < total:
        step, kept, wire, status = (
            u32(buf, at, True),
            u32(buf, at + 12, True),
            u32(buf, at + 16, True),
            u32(buf, at + 20, True),
        )
        time_ns = u32(buf, at + 4, True) * 1_000_000_000 + u32(buf, at + 8, True)
        data, address = at + _u16(buf, at + 24), at + 48
        index, outgoing = u32(buf, address + 4, True), buf[address + 10] == 4
        if outgoing and index == loopback:  # It comes once more, as received.
            done += 1
            at += step
            continue
        place = 0
        if indexes[0] >= 0:
            place = int64(np.searchsorted(indexes, index))
            if place == indexes.size or indexes[place] != index:
                break
        number = numbers[place]
        tag = 4 if status & 0x10 and kept >= 12 else 0
        size = kept + tag
        padded = (size + 3) & ~3
        if filled + 44 + padded > out.size:
            break
        _put32(out, filled, 6)
        _put32(out, filled + 4, 44 + padded)
        _put32(out, filled + 8, number)
        _put32(out, filled + 12, time_ns >> 32)
        _put32(out, filled + 16, time_ns & 0xFFFFFFFF)
        _put32(out, filled + 20, size)
        _put32(out, filled + 24, wire + tag)
        to = uint64(filled + 28)
        source, before = uint64(data), uint64(12 if tag else 0)
        for k in range(before):
            out[to + k] = buf[source + k]
        if tag:
            kind = _u16(buf, at + 36) if status & 0x40 else 0x8100
            tci = u32(buf, at + 32, True)
            out[filled + 40] = kind >> 8
            out[filled + 41] = kind & 255
            out[filled + 42] = tci >> 8 & 255
            out[filled + 43] = tci & 255
        rest, shift = uint64(kept), uint64(tag)
        for k in range(before, rest):
            out[to + shift + k] = buf[source + k]
        end = filled + 28 + size
        for k in range(end, filled + 28 + padded):
            out[k] = 0
        end = filled + 28 + padded
        _put32(out, end, 2 | 4 << 16)  # epb_flags: which way it went.
        _put32(out, end + 4, 2 if outgoing else 1)
        _put32(out, end + 8, 0)  # The end of the options.
        _put32(out, end + 12, 44 + padded)
        filled = end + 16
        counts[number, 0] += 1
        if status & 0x100:
            counts[number, 1] += 1
        if status & 0x8:
            counts[number, 2] += 1
        done += 1
        at += step
    counts[0, 3] = at - begin
    return done, filled, time_ns
