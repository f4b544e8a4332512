"""One capture: packet sockets of interfaces into a ring of files, until it is told to end."""

import os
import pwd
import socket
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.masking import Masker
from yaffle.live.masked_blocks import masked
from yaffle.live.packet_blocks import PER_PACKET, convert
from yaffle.live.packet_filter import WHOLE, program
from yaffle.live.packet_socket import ANY, LOOPBACK, REJECT_ALL, InterfaceError, PacketSocket, wait
from yaffle.live.ring_files import LiveInterface, RingFiles

FORMAT, VERSION = "yaffle-capture", 1
_SYS = Path("/sys/class/net")
_ETHERNET, _RAW_IP = 1, 101  # link types of the file format
# By the kernel's kind of device (ARPHRD): Ethernet, loopback, a radio that listens: without and with what it heard.
_LINK_TYPES = {1: _ETHERNET, 772: _ETHERNET, 801: 105, 803: 127}
_LARGEST_PACKET = 1 << 19
_OUT = 2 << 20
_NONE = 1 << 62
_LAST_BLOCKS_S = 0.15  # Blocks that are being filled are given to us within a third of this.
_TELL_S = 0.5


@dataclass(frozen=True)
class Wanted:
    """What is to be captured. limits: 0 none. seconds: counted from the open socket."""

    interfaces: tuple[str, ...]
    ring: str
    limit_bytes: int = 2 << 30
    limit_time_ns: int = 0
    slice_bytes: int = WHOLE
    hosts: tuple[str, ...] = ()
    ports: tuple[int, ...] = ()
    seconds: float = 0.0
    payload: bool = True
    mask: bool = False  # addresses masked under a key that nobody keeps, and no payload
    memory_bytes: int = 128 << 20  # in which packets wait, of each interface

    @property
    def filter_words(self) -> str:
        """What passes, for the files."""
        parts = []
        if self.hosts and not self.mask:
            parts.append(f"hosts {', '.join(self.hosts)}")
        if self.ports:
            parts.append(f"ports {', '.join(map(str, self.ports))}")
        return " and ".join(parts)


@dataclass
class _Source:
    """One socket, and the interfaces it tells of: their numbers in the kernel, sorted, and in the files."""

    socket: PacketSocket
    index: int
    indexes: Int64s = field(default_factory=lambda: np.array([-1], np.int64))
    numbers: Int64s = field(default_factory=lambda: np.zeros(1, np.int64))
    seen: tuple[int, int] = (0, 0)
    trouble: str = ""


class Capturing:
    """Opens all sockets at once. opened: called when they are, before a file is made. Raises YaffleError where a socket
    cannot be had, or the ring cannot be kept.
    """

    def __init__(self, wanted: Wanted, opened: Callable[[], None] = lambda: None) -> None:
        self._wanted = wanted
        self._program = program(
            wanted.hosts, wanted.ports, wanted.slice_bytes, payload=wanted.payload and not wanted.mask
        )
        self._masker = Masker() if wanted.mask else None
        convert_nothing()  # Compiled before the first packet comes.
        self._sources = [self._opened(name) for name in dict.fromkeys(wanted.interfaces)]
        self.began = time.monotonic()
        opened()
        self.files = RingFiles(Path(wanted.ring), wanted.slice_bytes, wanted.limit_bytes, wanted.limit_time_ns)
        self._counts = np.zeros((64, 4), np.int64)
        for source in self._sources:
            if source.socket.name != ANY:
                source.numbers[0] = self._interface(source.socket.name)
        self.files.begin(time.time_ns())
        self._out = np.zeros(max(_LARGEST_PACKET + PER_PACKET, min(_OUT, self.files.file_bytes)), np.uint8)
        self._loopback = _index(LOOPBACK)

    def _opened(self, name: str) -> _Source:
        if name != ANY and _index(name) < 0:
            raise InterfaceError(f"{name}: there is no such interface; these are: {', '.join(interfaces_here())}")
        source = _Source(PacketSocket(name, self._program, self._wanted.memory_bytes), _index(name))
        if name == ANY:
            source.indexes = np.array([_NONE], np.int64)
        return source

    def _interface(self, name: str) -> int:
        """Its number in the files."""
        kind = _number(_SYS / name / "type", 1)
        address = _text(_SYS / name / "address").replace(":", "")
        one = LiveInterface(
            name,
            _LINK_TYPES.get(kind, _RAW_IP),
            max(0, _number(_SYS / name / "speed", 0)) * 1_000_000,
            bytes.fromhex(address) if len(address) == 12 and not self._wanted.mask else b"",
            self._wanted.filter_words,
        )
        number = self.files.add_interface(one)
        if number >= self._counts.shape[0]:
            self._counts = np.vstack([self._counts, np.zeros_like(self._counts)])
        return number

    # --- running ---
    def run(self, ended: Callable[[], bool], tell: Callable[[dict[str, Any]], None] = lambda _told: None) -> None:
        """Captures until the time is over or `ended` says so; tells twice a second how it is."""
        told = looked = time.monotonic()
        while not ended():
            now = time.monotonic()
            if self._wanted.seconds and now - self.began >= self._wanted.seconds:
                break
            if now - looked >= 1:
                looked = now
                self.files.look(time.time_ns())
                for source in self._sources:
                    self._mend(source)
            if now - told >= _TELL_S:
                told = now
                tell(self.told)
            if not self._take_all():
                left = self._wanted.seconds - (now - self.began) if self._wanted.seconds else 1.0
                wait([one.socket for one in self._sources], max(0.0, min(0.2, left)))
        self._end()

    def _take_all(self) -> bool:
        """Takes a block of each socket; whether there was one."""
        found = False
        for source in self._sources:
            begin = source.socket.block()
            if begin >= 0:
                self._take(source, begin)
                source.socket.give_back(begin)
                found = True
        return found

    def _take(self, source: _Source, begin: int) -> None:
        """One block into the files, in as many pieces as its interfaces and the files' size ask for."""
        ring, done, total = source.socket.ring, 0, source.socket.packets(begin)
        first = source.socket.first_packet(begin)
        while done < total:
            before = done
            done, filled, last_ns = convert(
                ring, begin, first, done, source.indexes, source.numbers, self._loopback, self._out, 0, self._counts
            )
            first = int(self._counts[0, 3])
            if filled:
                self.files.write(self._written(self._out[:filled].data), done - before, int(last_ns))
            if done < total and not filled and done == before:
                self._learn(source, int(ring[begin + first + 52 : begin + first + 56].view("<i4")[0]))

    def _written(self, blocks: memoryview) -> memoryview:
        """Blocks as they go into the files."""
        if self._masker is None:
            return blocks
        return memoryview(masked(blocks, self._masker, [one.link_type for one in self.files.interfaces]))

    def _learn(self, source: _Source, index: int) -> None:
        """An interface that was not seen before, of a socket of all of them."""
        with suppress(OSError):
            name = socket.if_indextoname(index)
            number = self._interface(name)
            self._set(source, index, number)
            return
        self._set(source, index, self._interface(f"interface {index}"))  # It is gone already.

    def _set(self, source: _Source, index: int, number: int) -> None:
        place = int(np.searchsorted(source.indexes, index))
        source.indexes = np.insert(source.indexes, place, index)
        source.numbers = np.insert(source.numbers, place, number)

    def _mend(self, source: _Source) -> None:
        """An interface that went down, or away and came back: the same socket goes on with it."""
        error, name = source.socket.error(), source.socket.name
        if name == ANY:
            return
        index = _index(name)
        if index < 0:
            source.trouble = f"{name} is not there any more"
        elif index != source.index:
            try:
                source.socket.bind_again()
                source.index, source.trouble = index, ""
            except OSError as failure:  # Tried again in a second.
                source.trouble = f"{name}: {failure.strerror or failure}"
        elif error:
            source.trouble = f"{name}: {os.strerror(error)}"
        elif _text(_SYS / name / "operstate") != "down":
            source.trouble = ""

    def _end(self) -> None:
        """Takes what passed until now, and no more; ends the file."""
        for source in self._sources:
            with suppress(OSError):
                source.socket.attach(REJECT_ALL)
        until = time.monotonic() + _LAST_BLOCKS_S
        while self._take_all() or time.monotonic() < until:
            wait([one.socket for one in self._sources], 0.02)
        self._sum_up()
        self.files.end_file(time.time_ns())
        for source in self._sources:
            source.socket.close()

    # --- how it is ---
    def _sum_up(self) -> None:
        for number, one in enumerate(self.files.interfaces):
            one.captured = int(self._counts[number, 0])
        for source in self._sources:
            source.seen = source.socket.statistics()
            if source.socket.name != ANY:
                self.files.interfaces[int(source.numbers[0])].dropped = source.seen[1]

    @property
    def told(self) -> dict[str, Any]:
        """The document of a capture, as it is now."""
        with suppress(OSError):
            self._sum_up()
        dropped = sum(source.seen[1] for source in self._sources)
        trouble = [self.files.trouble, *(source.trouble for source in self._sources)]
        return {
            "format": FORMAT,
            "version": VERSION,
            "captured": int(self._counts[:, 0].sum()),
            "dropped": dropped,
            "unwritten": self.files.unwritten,
            "files": [str(path) for path in self.files.files],
            "interfaces": [
                {
                    "name": one.name,
                    "captured": int(self._counts[k, 0]),
                    "dropped": one.dropped,
                    "segmentation_offload": int(self._counts[k, 1]),
                    "checksum_offload": int(self._counts[k, 2]),
                }
                for k, one in enumerate(self.files.interfaces)
            ],
            "trouble": "; ".join(part for part in trouble if part),
        }


def convert_nothing() -> None:
    """Has the kernel that converts blocks compiled, or taken from the cache."""
    none = np.zeros(64, np.uint8)
    ring = np.frombuffer(bytearray(64), np.uint8)
    numbers = np.zeros(1, np.int64)
    convert(ring, 0, 0, 0, numbers, numbers, -1, none, 0, np.zeros((1, 4), np.int64))


def interfaces_here() -> list[str]:
    """The names of this host's interfaces."""
    return [name for _, name in socket.if_nameindex()]


def drop_rights() -> None:
    """Becomes the user who asked for the right, where one did, and gives all rights back (capabilities(7)): sockets
    that
    are open stay. Raises OSError.
    """
    import ctypes
    import struct

    for variable in ("SUDO", "PKEXEC"):
        user = os.environ.get(f"{variable}_UID", "")
        if os.geteuid() == 0 and user.isdigit() and int(user):
            told = pwd.getpwuid(int(user))
            os.initgroups(told.pw_name, told.pw_gid)
            os.setresgid(told.pw_gid, told.pw_gid, told.pw_gid)
            os.setresuid(told.pw_uid, told.pw_uid, told.pw_uid)
            return
    libc = ctypes.CDLL(None, use_errno=True)
    header, none = struct.pack("Ii", 0x20080522, 0), bytes(24)
    if libc.capset(header, none):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def _index(name: str) -> int:
    with suppress(OSError):
        return socket.if_nametoindex(name)
    return -1


def _text(path: Path) -> str:
    with suppress(OSError):
        return path.read_text().strip()
    return ""


def _number(path: Path, otherwise: int) -> int:
    with suppress(ValueError):
        return int(_text(path))
    return otherwise
