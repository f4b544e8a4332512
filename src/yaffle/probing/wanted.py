"""What a test asks, and whom."""

import asyncio
import ipaddress
import socket
from dataclasses import dataclass

from yaffle.errors import YaffleError

RESPONDER_PORT = 8620


@dataclass(frozen=True)
class Wanted:
    """One test. server: of names whom to ask, of storms the station; packets, interval_s, seconds: of streams; dscp:
    the marking of packets;
    port: of what listens, where the target does not say.
    """

    kind: str
    target: str
    timeout_s: float = 2.0
    server: str = ""
    packets: int = 20
    interval_s: float = 0.02
    seconds: float = 5.0
    dscp: int = 0
    codec: str = "g711"
    record: str = "A"
    over: str = "udp"  # names: udp, tcp, tls; routes: udp, icmp, tcp
    key: bytes = b""
    sequence: int = 0
    ipv6: bool | None = None  # only that version; None: whichever the name has first
    status: int = 0  # that is expected of a page; 0: any below 400
    text: str = ""  # that is expected in a page
    proxy: str = ""  # by which a page is asked for
    elements: bool = False  # of a page, too
    size: int = 60  # octets of a frame of a storm
    rate: int = 1000  # frames a second
    agreed: bool = False  # that others may be disturbed
    ways: int = 1  # flows along which a route is asked for
    connections: int = 1  # at once, of speed
    both: bool = False  # directions at once, of speed
    put_bytes: int = 0  # that a web server is sent; 0: it is only asked
    streams: int = 1  # of voice and video, at once
    against: str = ""  # of names: a second server, whose answer is to be the same


@dataclass(frozen=True)
class End:
    """An address that was found for a target."""

    family: int
    address: str
    port: int = 0

    @property
    def ipv6(self) -> bool:
        """Whether it is IPv6."""
        return self.family == socket.AF_INET6


class UnknownNameError(YaffleError):
    """A target whose name leads nowhere."""


def host_and_port(target: str, port: int = 0) -> tuple[str, int]:
    """HOST, HOST:PORT or [HOST]:PORT. Raises YaffleError."""
    host, text = target, ""
    if target.startswith("["):
        host, _, rest = target[1:].partition("]")
        text = rest.removeprefix(":")
    elif target.count(":") == 1:
        host, _, text = target.partition(":")
    if text and not (text.isdigit() and 0 < int(text) < 65_536):
        raise YaffleError(f"{target}: {text} is no port")
    return host, int(text) if text else port


async def resolved(host: str, port: int, wanted: Wanted) -> End:
    """The first address of a host. Raises UnknownNameError."""
    try:
        own = ipaddress.ip_address(host)
        return End(socket.AF_INET6 if own.version == 6 else socket.AF_INET, host, port)
    except ValueError:
        pass
    family = {None: socket.AF_UNSPEC, True: socket.AF_INET6, False: socket.AF_INET}[wanted.ipv6]
    loop = asyncio.get_running_loop()
    try:
        found = await asyncio.wait_for(
            loop.getaddrinfo(host, port, family=family, type=socket.SOCK_STREAM), wanted.timeout_s
        )
    except TimeoutError as error:
        raise UnknownNameError(f"the name {host} was not answered for within {wanted.timeout_s:g} s") from error
    except (OSError, UnicodeError) as error:
        raise UnknownNameError(f"name unknown: {host} ({getattr(error, 'strerror', None) or error})") from error
    return End(found[0][0], str(found[0][4][0]), port)
