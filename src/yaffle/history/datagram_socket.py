"""Sockets for many datagrams: room for bursts, the kernel's own times, and its count of what it dropped."""

import socket
import struct
from contextlib import suppress

ROOM = 64 << 20  # Bytes of the kernel's that datagrams may wait in, if it allows so many.
_SO_RCVBUFFORCE, _SO_RXQ_OVFL, _SO_TIMESTAMPNS = 33, 40, 35  # Linux; the socket module does not name them.
_LARGEST = 1 << 16


def open_datagrams(bind: str, port: int, room: int = ROOM) -> socket.socket:
    """Listens on UDP, without waiting for anything. Raises OSError."""
    own = socket.socket(socket.AF_INET6 if ":" in bind else socket.AF_INET, socket.SOCK_DGRAM)
    own.setblocking(False)
    with suppress(OSError):  # Needs a privilege; without it what the system allows has to do.
        own.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, room)
    if own.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF) < room:
        own.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, room)
    own.setsockopt(socket.SOL_SOCKET, _SO_RXQ_OVFL, 1)
    own.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
    try:
        own.bind((bind, port))
    except OSError:
        own.close()
        raise
    return own


def next_datagram(own: socket.socket) -> tuple[bytes, str, int, int] | None:
    """(what it holds, who sent it, when it came in ns or 0, how many the kernel dropped so far or -1); None when
    nothing waits.
    """
    try:
        data, told, _, sender = own.recvmsg(_LARGEST, 64)
    # An earlier error of this socket that is told now: nothing was received, and it is looked at again at once.
    except OSError:
        return None
    arrived_ns, dropped = 0, -1
    for _, kind, value in told:
        if kind == _SO_TIMESTAMPNS:
            seconds, rest = struct.unpack("qq", value)
            arrived_ns = seconds * 10**9 + rest
        elif kind == _SO_RXQ_OVFL:
            dropped = struct.unpack("I", value)[0]
    return data, sender[0], arrived_ns, dropped
