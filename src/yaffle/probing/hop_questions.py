"""Packets that ask hops who they are: UDP, echo or TCP, all of one flow, each known by its hop and number.

What tells packets of a flow apart stands where routers that share load do not look (Augustin and others 2006): in the
payload of datagrams, in an echo's payload with its checksum kept, in the sequence number of an opening.
"""

import random
import socket
import time
from dataclasses import dataclass
from struct import Struct, unpack_from

from yaffle.errors import YaffleError
from yaffle.probing.icmp_words import listen_for_errors, stamp_of
from yaffle.probing.reach import checksum
from yaffle.probing.waiting_socket import datagrams_to, marked
from yaffle.probing.wanted import End

BY = ("udp", "icmp", "tcp")
_MARK = Struct("!IBB")  # ours, hop, number
_ECHO, _TCP, _PSEUDO = Struct("!BBHHH"), Struct("!HHIIBBHHH"), Struct("!4s4sBBH")
_OURS = 0x59616666
_SEQUENCE = 33_434  # of all echoes of a flow
_SYN, _SYN_ACK, _RST = 0x02, 0x12, 0x04
_CHECKSUM_AT, _TCP_CHECKSUM_AT = 7, 16  # IPV6_CHECKSUM; the field in a TCP header
_ROOM = 2048
_NO_RIGHT = "needs the right CAP_NET_RAW: run it with sudo, or ask by udp"


@dataclass(frozen=True)
class Answer:
    """What the target itself said to one packet."""

    ttl: int
    number: int
    at_ns: int


class Datagrams:
    """UDP to a port that nobody listens on: the target says so by ICMP."""

    def __init__(self, end: End, dscp: int, _flow: int) -> None:
        self.socket = datagrams_to(end, dscp)

    def send(self, ttl: int, number: int) -> None:
        """One packet. Raises OSError."""
        self.socket.send(_MARK.pack(_OURS, ttl, number).ljust(32, b"\0"))

    def quoted(self, payload: bytes) -> tuple[int, int] | None:
        """(hop, number) of the packet that an error quotes; None of another's."""
        return _marked(payload, 0)

    def answers(self) -> list[Answer]:
        """The target's own; a port that is open after all says what it likes."""
        return []


class Echoes:
    """Echo requests whose identity, sequence and checksum are the same."""

    def __init__(self, end: End, dscp: int, _flow: int) -> None:
        protocol = socket.IPPROTO_ICMPV6 if end.ipv6 else socket.IPPROTO_ICMP
        self._raw, self._end = False, end
        try:
            self.socket = socket.socket(end.family, socket.SOCK_DGRAM, protocol)
        except PermissionError:
            self.socket, self._raw = _raw(end, protocol), True
        _prepared(self.socket, end, dscp)
        self._identity = random.getrandbits(16)

    def send(self, ttl: int, number: int) -> None:
        """One packet. Raises OSError."""
        mark = _MARK.pack(_OURS, ttl, number)
        balanced = mark + checksum(mark).to_bytes(2, "big") + bytes(24)  # Its sum is the same for all.
        head = _ECHO.pack(128 if self._end.ipv6 else 8, 0, 0, self._identity, _SEQUENCE)
        if not self._end.ipv6:
            head = head[:2] + checksum(head + balanced).to_bytes(2, "big") + head[4:]
        self.socket.send(head + balanced)

    def quoted(self, payload: bytes) -> tuple[int, int] | None:
        """(hop, number) of the packet that an error quotes; None of another's."""
        return _marked(payload, _ECHO.size)

    def answers(self) -> list[Answer]:
        """The target's own."""
        found = []
        for data, at_ns in _came(self.socket):
            head = (data[0] & 15) * 4 if self._raw and not self._end.ipv6 and data else 0
            own = _marked(data, head + _ECHO.size)
            if own is not None and data[head] == (129 if self._end.ipv6 else 0):
                found.append(Answer(*own, at_ns))
        return found


class Openings:
    """TCP openings of one flow; what the target answers, the kernel resets."""

    def __init__(self, end: End, dscp: int, flow: int) -> None:
        self.socket, self._end = _raw(end, socket.IPPROTO_TCP), end
        _prepared(self.socket, end, dscp)
        self._ports = 49_152 + flow % 16_384, end.port
        if end.ipv6:
            self.socket.setsockopt(socket.IPPROTO_IPV6, _CHECKSUM_AT, _TCP_CHECKSUM_AT)
        self._first = random.getrandbits(31)
        self._addresses = socket.inet_aton(self.socket.getsockname()[0]) + socket.inet_aton(end.address) \
            if not end.ipv6 else b""  # fmt: skip

    def send(self, ttl: int, number: int) -> None:
        """One packet. Raises OSError."""
        sequence = (self._first + (ttl << 8 | number)) & 0xFFFFFFFF
        head = _TCP.pack(*self._ports, sequence, 0, 5 << 4, _SYN, 1024, 0, 0)
        if not self._end.ipv6:
            pseudo = _PSEUDO.pack(self._addresses[:4], self._addresses[4:], 0, socket.IPPROTO_TCP, len(head))
            head = head[:16] + checksum(pseudo + head).to_bytes(2, "big") + head[18:]
        self.socket.send(head)

    def _of_sequence(self, sequence: int) -> tuple[int, int] | None:
        told = (sequence - self._first) & 0xFFFFFFFF
        return (told >> 8, told & 0xFF) if told < 1 << 16 else None

    def quoted(self, payload: bytes) -> tuple[int, int] | None:
        """(hop, number) of the packet that an error quotes; None of another's."""
        if len(payload) < 8 or unpack_from("!HH", payload) != self._ports:
            return None
        return self._of_sequence(unpack_from("!I", payload, 4)[0])

    def answers(self) -> list[Answer]:
        """The target's own: it is open, or it refuses."""
        found = []
        for data, at_ns in _came(self.socket):
            head = (data[0] & 15) * 4 if not self._end.ipv6 and data else 0
            if len(data) < head + _TCP.size:
                continue
            source, own, _, acknowledged, _, flags, *_ = _TCP.unpack_from(data, head)
            told = self._of_sequence((acknowledged - 1) & 0xFFFFFFFF)
            if (own, source) == self._ports and told is not None and (flags & _SYN_ACK == _SYN_ACK or flags & _RST):
                found.append(Answer(*told, at_ns))
        return found


Questions = Datagrams | Echoes | Openings


def questions(by: str, end: End, dscp: int, flow: int) -> Questions:
    """What asks. flow: another number, another flow. Raises OSError, YaffleError."""
    kinds: dict[str, type[Datagrams] | type[Echoes] | type[Openings]] = {
        "udp": Datagrams,
        "icmp": Echoes,
        "tcp": Openings,
    }
    if by not in kinds:
        raise YaffleError(f"--over {by}: a route is asked for by one of {', '.join(BY)}")
    return kinds[by](end, dscp, flow)


def _marked(data: bytes, at: int) -> tuple[int, int] | None:
    if len(data) < at + _MARK.size:
        return None
    ours, ttl, number = _MARK.unpack_from(data, at)
    return (ttl, number) if ours == _OURS else None


def _raw(end: End, protocol: int) -> socket.socket:
    try:
        return socket.socket(end.family, socket.SOCK_RAW, protocol)
    except PermissionError as error:
        raise YaffleError(f"a route by packets of its own {_NO_RIGHT}") from error


def _prepared(own: socket.socket, end: End, dscp: int) -> None:
    own.setblocking(False)
    listen_for_errors(own, ipv6=end.ipv6)
    marked(own, dscp, ipv6=end.ipv6)
    own.connect((end.address, 0))


def _came(own: socket.socket) -> list[tuple[bytes, int]]:
    """All that waits at a socket, with the kernel's time of it."""
    found: list[tuple[bytes, int]] = []
    while True:
        try:
            data, told, _, _ = own.recvmsg(_ROOM, _ROOM)
        except BlockingIOError:
            return found
        except OSError:  # An error that stands in the queue of errors, too.
            continue
        found.append((data, stamp_of(told) or time.time_ns()))
