"""Asks this host's kernel for its sockets (sock_diag(7)), and hears of those that end.

Raw netlink, because a library that makes an object of every socket takes a hundred times as long; what comes is cut
by a kernel and read as columns.
"""

import errno
import socket
import struct
from types import TracebackType

import numpy as np

from yaffle.arrays import Structs, Uint8s, Uint8s2
from yaffle.capture.pcap import u32
from yaffle.errors import YaffleError
from yaffle.kernels import helper, int64, kernel

# linux/netlink.h, sock_diag.h, inet_diag.h; the socket module does not name them.
_SOCK_DIAG, _BY_FAMILY = 4, 20
_DESTROY_GROUPS = 0b1111  # ends of TCP and UDP sockets, of both versions of IP
_REQUEST, _DUMP = 0x1, 0x300
_ERROR, _DONE = 2, 3
_INFO, _TOS, _TRAFFIC_CLASS, _MEMORY = 2, 5, 6, 7  # attributes; to be asked for by bit number less one
_ASKED = 1 << _INFO - 1 | 1 << _TOS - 1 | 1 << _TRAFFIC_CLASS - 1 | 1 << _MEMORY - 1
_HEADER = struct.Struct("=IHHII")
_QUESTION = struct.Struct("=BBBxI48x")
_TIME_WAIT, _STATES = 6, 12
_ALL_STATES = (1 << _STATES + 1) - 1 & ~(1 << _TIME_WAIT)  # Those that only wait for their time carry no figures.
# The kernel fills a read as far as the largest one so far, and no further: a smaller one would lose rows in silence.
_READ = 32_768
_MOST = 512 << 20  # Bytes of one answer.
_EVENTS_ROOM = 8 << 20
_SO_RCVBUFFORCE = 33

STATES = (
    "", "established", "opening (sent)", "opening (received)", "closing (fin wait 1)", "closing (fin wait 2)",
    "time wait", "closed", "closing (close wait)", "closing (last ack)", "listening", "closing", "opening (received)",
)  # fmt: skip
ESTABLISHED, LISTEN = 1, 10

HEAD = np.dtype(
    [
        ("family", "u1"), ("state", "u1"), ("timer", "u1"), ("repeats", "u1"), ("own_port", ">u2"),
        ("other_port", ">u2"), ("own", ">u4", 4), ("other", ">u4", 4), ("interface", "=u4"), ("cookie", "=u8"),
        ("expires_ms", "=u4"), ("receive_queue", "=u4"), ("send_queue", "=u4"), ("user", "=u4"), ("inode", "=u4"),
    ]
)  # fmt: skip
# struct tcp_info of linux/tcp.h: (name, form, place).
_TCP_FIELDS = (
    ("options", "u1", 5), ("timeout_us", "=u4", 8), ("segment", "=u4", 16), ("unacknowledged", "=u4", 24),
    ("last_sent_ms", "=u4", 44), ("round_trip_us", "=u4", 68), ("variation_us", "=u4", 72), ("window", "=u4", 80),
    ("retransmissions", "=u4", 100), ("acknowledged", "=u8", 120), ("received", "=u8", 128),
    ("segments_out", "=u4", 136),
    ("segments_in", "=u4", 140), ("not_sent", "=u4", 144), ("floor_us", "=u4", 148), ("delivery_rate", "=u8", 160),
    ("busy_us", "=u8", 168), ("receiver_limited_us", "=u8", 176), ("sender_limited_us", "=u8", 184),
    ("sent", "=u8", 200), ("sent_again", "=u8", 208), ("timeouts", "=u2", 240), ("timeouts_ms", "=u4", 244),
)  # fmt: skip
INFO_SIZE = 280
INFO = np.dtype(
    {
        "names": [name for name, _, _ in _TCP_FIELDS],
        "formats": [form for _, form, _ in _TCP_FIELDS],
        "offsets": [place for _, _, place in _TCP_FIELDS],
        "itemsize": INFO_SIZE,
    }
)
_BESIDE = np.dtype([("known", "=u4"), ("transport", "=u4"), ("traffic_class", "=u4"), ("drops", "=u4")])
# One socket. known: octets of TCP_INFO that came; drops: datagrams or segments that found no room.
SOCKET = np.dtype([("head", HEAD), ("info", INFO), ("beside", _BESIDE)])
_NO_FLOOR = 0xFFFFFFFF
TIMEOUTS_KNOWN = 248  # octets of TCP_INFO with which the kernel tells timeouts (since Linux 6.7)
SENT_KNOWN = 216  # … octets and segments sent (since Linux 4.19)


@helper
def _u16(found: Uint8s, at: int) -> int:
    return int64(found[at + 1]) << 8 | int64(found[at])


@kernel
def _cut(found: Uint8s, transport: int, rows: Uint8s2) -> tuple[int, int]:
    """(rows filled, the kernel's refusal): netlink messages to rows of octets.

    found: uint8, whole messages; rows: uint8 (n, octets of SOCKET), zero.
    """
    at, n = 0, 0
    head_size, info_at, info_size, beside = 72, 72, 280, 352
    while at + 16 <= found.size and n < rows.shape[0]:
        length, kind = u32(found, at, True), _u16(found, at + 4)
        if length < 16 or at + length > found.size or kind == 3:
            break
        if kind == 2 and length >= 20:
            return n, -u32(found, at + 16, True) & 0xFFFFFFFF
        if kind == 20 and length >= 16 + head_size:
            for k in range(head_size):
                rows[n, k] = found[at + 16 + k]
            rows[n, beside + 4] = transport
            place, end = at + 16 + head_size, at + length
            while place + 4 <= end:
                size, name = _u16(found, place), _u16(found, place + 2)
                if size < 4 or place + size > end:
                    break
                if name == 2:
                    held = min(size - 4, info_size)
                    for k in range(held):
                        rows[n, info_at + k] = found[place + 4 + k]
                    rows[n, beside] = held & 255
                    rows[n, beside + 1] = held >> 8
                elif (name == 5 or name == 6) and size >= 5:
                    rows[n, beside + 8] |= found[place + 4]
                elif name == 7 and size >= 40:
                    for k in range(4):
                        rows[n, beside + 12 + k] = found[place + 36 + k]
                elif name == 10 and size >= 5:  # Of one that ended: which protocol it was.
                    rows[n, beside + 4] = found[place + 4]
                place += (size + 3) & ~3
            n += 1
        at += (length + 3) & ~3
    return n, 0


def rows_of(found: bytes, transport: int) -> tuple[Structs, int]:
    """(sockets of an answer, the kernel's refusal as an error number, 0 without). Anything that is cut off ends it."""
    octets = np.frombuffer(found, np.uint8)
    rows = np.zeros((octets.size // (_HEADER.size + HEAD.itemsize) + 1, SOCKET.itemsize), np.uint8)
    count, refused = _cut(octets, transport, rows)
    return rows[:count].reshape(-1).view(SOCKET), int(refused)


class SocketWatch:
    """Of the namespace it is made in. Raises YaffleError where the kernel tells nothing."""

    def __init__(self) -> None:
        try:
            self._asking = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, _SOCK_DIAG)
            self._hearing = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK, _SOCK_DIAG)
            try:
                self._hearing.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _EVENTS_ROOM)
            except OSError:  # Only the administrator may have more than usual.
                self._hearing.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _EVENTS_ROOM)
            self._hearing.bind((0, _DESTROY_GROUPS))
        except OSError as error:
            raise YaffleError(f"the kernel tells nothing about sockets ({error.strerror or error})") from error
        self.overflows = 0  # times that ends of sockets were lost because too many came at once
        self._ended: list[bytes] = []

    def __enter__(self) -> "SocketWatch":
        return self

    def __exit__(self, _type: type | None, _error: BaseException | None, _trace: TracebackType | None) -> None:
        self._asking.close()
        self._hearing.close()

    @property
    def handle(self) -> int:
        """What becomes readable when sockets end."""
        return self._hearing.fileno()

    def sockets(self, transports: tuple[int, ...] = (socket.IPPROTO_TCP,)) -> Structs:
        """All sockets now, SOCKET. Raises YaffleError."""
        found = []
        for transport in transports:
            for family in (socket.AF_INET, socket.AF_INET6):
                rows, refused = rows_of(self._answer(family, transport), transport)
                if refused and refused != errno.ENOENT:  # Without version 6 there is nothing of it.
                    raise YaffleError(f"the kernel does not tell its sockets ({errno.errorcode.get(refused, refused)})")
                found.append(rows)
        return np.concatenate(found)

    def _answer(self, family: int, transport: int) -> bytes:
        question = _QUESTION.pack(family, transport, _ASKED, _ALL_STATES)
        header = _HEADER.pack(_HEADER.size + len(question), _BY_FAMILY, _REQUEST | _DUMP, 1, 0)
        self._asking.send(header + question)
        parts, size = [], 0
        while size < _MOST:
            part = self._asking.recv(_READ)
            parts.append(part)
            size += len(part)
            # The end comes alone, or behind the last rows.
            kind = _HEADER.unpack_from(part)[1]
            if kind in (_ERROR, _DONE) or _is_done(part):
                return b"".join(parts)
        raise YaffleError(f"more than {_MOST >> 20} MiB of sockets: not read")

    def hear(self) -> None:
        """Takes in what the kernel has told of sockets that ended."""
        while True:
            try:
                self._ended.append(self._hearing.recv(_READ))
            except BlockingIOError:
                return
            except OSError as error:
                if error.errno != errno.ENOBUFS:
                    raise YaffleError(f"the ends of sockets are not told ({error.strerror})") from error
                self.overflows += 1

    def ended(self) -> Structs:
        """Those that ended since the last time, with their last figures, SOCKET."""
        self.hear()
        told, self._ended = b"".join(self._ended), []
        return rows_of(told, 0)[0]


def _is_done(part: bytes) -> bool:
    """Whether the last message of a read is the end of the answer: 20 octets."""
    return len(part) >= 20 and _HEADER.unpack_from(part, len(part) - 20)[:2] == (20, _DONE)
