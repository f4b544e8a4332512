"""TCP: whether something listens, and how long a connection takes to open."""

import asyncio
import errno
import socket
import time

from yaffle.errors import YaffleError
from yaffle.probing.icmp_words import listen_for_errors, refusals
from yaffle.probing.result import Result
from yaffle.probing.waiting_socket import marked
from yaffle.probing.wanted import End, UnknownNameError, Wanted, host_and_port, resolved

KIND = "connect"


def failure(own: socket.socket, error: OSError) -> str:
    """Why a connection could not be opened, in words."""
    told = refusals(own)
    if told:
        return told[0].words
    if error.errno == errno.ECONNREFUSED:
        return "refused: nothing listens there, or a filter resets it"
    return (error.strerror or str(error)).lower()


async def opened(end: End, wanted: Wanted) -> tuple[socket.socket | None, float, str]:
    """A connection, how long it took in ms, and why there is none."""
    own = socket.socket(end.family, socket.SOCK_STREAM)
    own.setblocking(False)
    listen_for_errors(own, ipv6=end.ipv6)
    marked(own, wanted.dscp, ipv6=end.ipv6)
    began = time.monotonic_ns()
    try:
        await asyncio.wait_for(asyncio.get_running_loop().sock_connect(own, (end.address, end.port)), wanted.timeout_s)
    except TimeoutError:
        why = f"unanswered within {wanted.timeout_s:g} s"
    except OSError as error:
        why = failure(own, error)
    else:
        return own, (time.monotonic_ns() - began) / 1e6, ""
    own.close()
    return None, 0.0, why


async def connect(wanted: Wanted) -> list[Result]:
    """One connection, closed at once. Raises YaffleError where the target has no port."""
    host, port = host_and_port(wanted.target)
    if not port:
        raise YaffleError(f"{wanted.target}: which port? Write HOST:PORT")
    at_ns = time.time_ns()
    try:
        end = await resolved(host, port, wanted)
    except UnknownNameError as error:
        return [Result(KIND, wanted.target, at_ns, False, str(error))]
    at_ns = time.time_ns()
    own, took_ms, why = await opened(end, wanted)
    if own is None:
        return [Result(KIND, wanted.target, at_ns, False, why)]
    own.close()
    return [Result(KIND, wanted.target, at_ns, True, "", took_ms)]
