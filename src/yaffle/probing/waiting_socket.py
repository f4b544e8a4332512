"""Sockets that hear of errors on the way, and are waited at without a thread."""

import asyncio
import socket

from yaffle.probing.icmp_words import listen_for_errors
from yaffle.probing.wanted import End


async def readable(own: socket.socket, until: float) -> bool:
    """Whether something came, or an error, before a moment of the loop's clock."""
    loop = asyncio.get_running_loop()
    left = until - loop.time()
    if left <= 0:
        return False
    came = loop.create_future()

    def tell() -> None:
        if not came.done():
            came.set_result(None)

    loop.add_reader(own.fileno(), tell)
    try:
        await asyncio.wait_for(came, left)
    except TimeoutError:
        return False
    finally:
        loop.remove_reader(own.fileno())
    return True


def marked(own: socket.socket, dscp: int, *, ipv6: bool) -> None:
    """Has what a socket sends carry a marking (RFC 2474)."""
    if dscp and ipv6:
        own.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, dscp << 2)
    elif dscp:
        own.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, dscp << 2)


def datagrams_to(end: End, dscp: int = 0) -> socket.socket:
    """A socket for datagrams to one end, which is told what the way says of them. Raises OSError."""
    own = socket.socket(end.family, socket.SOCK_DGRAM)
    try:
        own.setblocking(False)
        listen_for_errors(own, ipv6=end.ipv6)
        marked(own, dscp, ipv6=end.ipv6)
        own.connect((end.address, end.port))
    except OSError:
        own.close()
        raise
    return own
