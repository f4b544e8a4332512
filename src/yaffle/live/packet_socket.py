"""A packet socket with a ring of blocks in mapped memory (AF_PACKET, TPACKET_V3; packet(7), packet_mmap)."""

import ctypes
import mmap
import os
import select
import socket
import struct
from collections.abc import Sequence

import numpy as np

from yaffle.arrays import Array
from yaffle.errors import YaffleError
from yaffle.live.packet_blocks import BLOCK_STATUS, FIRST_PACKET
from yaffle.live.packet_filter import Instruction

_SOL_PACKET = 263
_RING, _STATISTICS, _VERSION, _TIMESTAMP, _IGNORE_OUTGOING = 5, 6, 10, 17, 23
_V3, _RAW_HARDWARE = 2, 1 << 6
_SO_ATTACH_FILTER = 26
_ALL_PROTOCOLS = 0x0003
_BLOCK = 1 << 20  # A packet that is larger than a block would be cut in silence.
_FRAME = 1 << 16
_USER, _KERNEL = 1, 0
_RETIRE_MS = 50  # So long a block waits for more packets before it is given to us.
ANY, LOOPBACK = "any", "lo"
REJECT_ALL: tuple[Instruction, ...] = ((0x06, 0, 0, 0),)
MISSING_RIGHT = (
    "capturing needs the right CAP_NET_RAW, which this user does not have; run it as root, with sudo, or give the right"
    " to the interpreter: sudo setcap cap_net_raw+ep"
)


class InterfaceError(YaffleError):
    """An interface that is not there, or not any more."""


class PacketSocket:
    """One interface, or all of them where the name is "any". Raises YaffleError where it cannot be had."""

    def __init__(self, name: str, program: Sequence[Instruction], ring_bytes: int = 64 << 20) -> None:
        self.name = name
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)  # Nothing comes before it is bound.
        except PermissionError as error:
            raise YaffleError(f"{MISSING_RIGHT} {os.path.realpath('/proc/self/exe')}") from error
        self.blocks = max(4, ring_bytes // _BLOCK)
        self._map: mmap.mmap | None = None
        try:
            self._socket.setsockopt(_SOL_PACKET, _VERSION, _V3)
            self.attach(program)
            ring = struct.pack("7I", _BLOCK, self.blocks, _FRAME, self.blocks * (_BLOCK // _FRAME), _RETIRE_MS, 0, 0)
            self._socket.setsockopt(_SOL_PACKET, _RING, ring)
            # Where the device has a clock of its own; all others fall back to the kernel's in silence.
            self._socket.setsockopt(_SOL_PACKET, _TIMESTAMP, _RAW_HARDWARE)
            self._map = mmap.mmap(self._socket.fileno(), self.blocks * _BLOCK)
            if name == LOOPBACK:
                self._socket.setsockopt(_SOL_PACKET, _IGNORE_OUTGOING, 1)
            self._bind(name)
        except OSError as error:
            self.close()
            raise InterfaceError(f"{name}: cannot be captured from ({error.strerror or error})") from error
        self.ring: Array = np.frombuffer(self._map, np.uint8)
        self._next = 0
        self._seen = self._dropped = 0

    def _bind(self, name: str) -> None:
        if name != ANY:
            self._socket.bind((name, _ALL_PROTOCOLS))
            return
        # All interfaces: the module takes no empty name.
        address = struct.pack("=HHiHBB8s", socket.AF_PACKET, socket.htons(_ALL_PROTOCOLS), 0, 0, 0, 0, b"")
        libc = ctypes.CDLL(None, use_errno=True)
        if libc.bind(self._socket.fileno(), address, len(address)):
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))

    def attach(self, program: Sequence[Instruction]) -> None:
        """Another filter, from the next packet on. Raises OSError."""
        code = b"".join(struct.pack("HBBI", *one) for one in program)
        held = ctypes.create_string_buffer(code)
        told = struct.pack(
            "HxxxxxxP" if ctypes.sizeof(ctypes.c_void_p) == 8 else "HxxP", len(program), ctypes.addressof(held)
        )
        self._socket.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, told)

    @property
    def handle(self) -> int:
        """What becomes readable when a block is full, or old."""
        return self._socket.fileno()

    def bind_again(self) -> None:
        """To the interface of its name, if there is one now. Raises OSError."""
        self._bind(self.name)

    def error(self) -> int:
        """What went wrong since it was asked last: an error number, 0 nothing."""
        return self._socket.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)

    def block(self) -> int:
        """Where the next block that is ours lies in the ring; -1 where none is."""
        begin = self._next * _BLOCK
        status = int(self.ring[begin + BLOCK_STATUS : begin + BLOCK_STATUS + 4].view("<u4")[0])
        return begin if status & _USER else -1

    def first_packet(self, begin: int) -> int:
        """Where the first packet lies in a block."""
        return int(self.ring[begin + FIRST_PACKET : begin + FIRST_PACKET + 4].view("<u4")[0])

    def packets(self, begin: int) -> int:
        """How many a block holds."""
        return int(self.ring[begin + 12 : begin + 16].view("<u4")[0])

    def give_back(self, begin: int) -> None:
        """The block is done: the kernel may fill it again."""
        self.ring[begin + BLOCK_STATUS : begin + BLOCK_STATUS + 4].view("<u4")[0] = _KERNEL
        self._next = (self._next + 1) % self.blocks

    def statistics(self) -> tuple[int, int]:
        """(packets that passed the filter, those of them that found no room) since it was opened."""
        told = self._socket.getsockopt(_SOL_PACKET, _STATISTICS, 12)  # Reading sets the kernel's own to zero.
        packets, dropped, _ = struct.unpack("3I", told)
        self._seen += packets
        self._dropped += dropped
        return self._seen, self._dropped

    def close(self) -> None:
        """Ends it: the map holds the socket, too."""
        self.ring = np.zeros(0, np.uint8)
        if self._map is not None:
            try:
                self._map.close()
            except BufferError:  # A view is held somewhere: it goes with the process.
                self._map = None
        self._socket.close()


def wait(sockets: Sequence[PacketSocket], seconds: float) -> None:
    """Until one of them has a block, or so long."""
    poll = select.poll()
    for one in sockets:
        poll.register(one.handle, select.POLLIN | select.POLLERR)
    poll.poll(seconds * 1000)
