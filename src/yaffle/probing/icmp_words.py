"""What the kernel says of a packet that was refused on its way: who said so, and in which words (RFC 792, RFC 4443)."""

import ipaddress
import socket
from dataclasses import dataclass
from struct import Struct

from yaffle.capture.icmp_errors import in_words

_EXTENDED = Struct("=IBBBBII")  # sock_extended_err: errno, origin, type, code, padding, info, data
_ICMP, _ICMP6 = 2, 3  # origins
_RECVERR, _RECVERR6 = 11, 25
_ROOM = 1024
PROHIBITED = {(False, 3, 9), (False, 3, 10), (False, 3, 13), (True, 1, 1)}


@dataclass(frozen=True)
class Refusal:
    """An ICMP error. payload: what it quotes of what we sent; at_ns: when the kernel had it, 0 unknown."""

    by: str
    type: int
    code: int
    ipv6: bool
    payload: bytes = b""
    at_ns: int = 0
    mtu: int = 0

    @property
    def words(self) -> str:
        """In words, with who said it."""
        if (self.ipv6, self.type, self.code) in PROHIBITED:
            return f"administratively prohibited by {self.by}"
        if self.mtu and (self.type, self.code) in ((3, 4), (2, 0)):
            return f"path too small: {self.by} passes at most {self.mtu} bytes"
        return f"{in_words(self.type << 8 | self.code, self.ipv6)} by {self.by}"

    @property
    def expired(self) -> bool:
        """Whether it was the last hop that the packet was allowed."""
        return self.type == (3 if self.ipv6 else 11)


def listen_for_errors(own: socket.socket, *, ipv6: bool) -> None:
    """Has the kernel queue ICMP errors of a socket."""
    level, option = (socket.IPPROTO_IPV6, _RECVERR6) if ipv6 else (socket.IPPROTO_IP, _RECVERR)
    own.setsockopt(level, option, 1)
    own.setsockopt(socket.SOL_SOCKET, socket.SO_TIMESTAMPNS if hasattr(socket, "SO_TIMESTAMPNS") else 35, 1)


def refusals(own: socket.socket) -> list[Refusal]:
    """All errors that wait at a socket."""
    found: list[Refusal] = []
    while True:
        try:
            payload, told, _, _ = own.recvmsg(_ROOM, _ROOM, socket.MSG_ERRQUEUE | socket.MSG_DONTWAIT)
        except OSError:
            return found
        at_ns = stamp_of(told)
        for level, kind, data in told:
            own_kind = (level, kind) in ((socket.IPPROTO_IP, _RECVERR), (socket.IPPROTO_IPV6, _RECVERR6))
            if not own_kind or len(data) < _EXTENDED.size:
                continue
            _, origin, icmp_type, code, _, info, _ = _EXTENDED.unpack_from(data)
            if origin in (_ICMP, _ICMP6):
                ipv6 = origin == _ICMP6
                at = _EXTENDED.size + (8 if ipv6 else 4)
                by = str(ipaddress.ip_address(data[at : at + (16 if ipv6 else 4)]))
                found.append(Refusal(by, icmp_type, code, ipv6, payload, at_ns, info))


def stamp_of(told: list[tuple[int, int, bytes]]) -> int:
    """The kernel's own time of a message, ns; 0 without one."""
    for level, kind, data in told:
        if level == socket.SOL_SOCKET and kind == 35 and len(data) >= 16:
            seconds, nanoseconds = Struct("=qq").unpack_from(data)
            return int(seconds * 10**9 + nanoseconds)
    return 0
