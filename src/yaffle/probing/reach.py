"""Echo: whether a host answers at all, and how far it is (RFC 792, RFC 4443; round trips by RFC 2681)."""

import asyncio
import random
import socket
import time
from struct import pack, unpack_from

from yaffle.errors import YaffleError
from yaffle.probing.icmp_words import listen_for_errors, refusals, stamp_of
from yaffle.probing.result import Result
from yaffle.probing.waiting_socket import marked, readable
from yaffle.probing.wanted import End, UnknownNameError, Wanted, resolved

KIND = "reach"
_ASKED, _ANSWERED = {False: 8, True: 128}, {False: 0, True: 129}
_PAYLOAD = bytes(range(48))
_ROOM = 2048


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    data += b"\0" * (len(data) % 2)
    total: int = sum(unpack_from(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def _opened(end: End) -> tuple[socket.socket, bool]:
    """A socket for echoes, and whether it is a raw one. Raises YaffleError where this host allows none."""
    protocol = socket.IPPROTO_ICMPV6 if end.ipv6 else socket.IPPROTO_ICMP
    for kind in (socket.SOCK_DGRAM, socket.SOCK_RAW):
        try:
            return socket.socket(end.family, kind, protocol), kind == socket.SOCK_RAW
        except PermissionError:
            continue
    raise YaffleError(
        "echoes need the right CAP_NET_RAW, or a group within net.ipv4.ping_group_range: run it with sudo, or allow"
        " them with: sudo sysctl -w net.ipv4.ping_group_range='0 2147483647'"
    )


async def reach(wanted: Wanted) -> list[Result]:
    """One echo. Raises YaffleError where it could not be asked."""
    at_ns = time.time_ns()
    more = {"sequence": wanted.sequence}
    try:
        end = await resolved(wanted.target, 0, wanted)
    except UnknownNameError as error:
        return [Result(KIND, wanted.target, at_ns, False, str(error), None, more)]
    own, raw = _opened(end)
    with own:
        own.setblocking(False)
        listen_for_errors(own, ipv6=end.ipv6)
        marked(own, wanted.dscp, ipv6=end.ipv6)
        identity, sequence = random.getrandbits(16), wanted.sequence & 0xFFFF
        asked = pack("!BBHHH", _ASKED[end.ipv6], 0, 0, identity, sequence) + _PAYLOAD
        if not end.ipv6:
            asked = asked[:2] + pack("!H", checksum(asked)) + asked[4:]
        at_ns = time.time_ns()
        try:
            own.connect((end.address, 0))
            own.send(asked)
        except OSError as error:
            return [Result(KIND, wanted.target, at_ns, False, _of_errno(error), None, more)]
        answered_ns, why = await _answer(own, end, (identity if raw else -1, sequence), wanted.timeout_s)
    if why:
        return [Result(KIND, wanted.target, at_ns, False, why, None, more)]
    return [Result(KIND, wanted.target, at_ns, True, "", max(0, answered_ns - at_ns) / 1e6, more)]


async def _answer(own: socket.socket, end: End, wanted: tuple[int, int], timeout_s: float) -> tuple[int, str]:
    """When the answer came, or why there was none."""
    until = asyncio.get_running_loop().time() + timeout_s
    while await readable(own, until):
        if told := refusals(own):
            return 0, told[0].words
        try:
            data, ancillary, _, _ = own.recvmsg(_ROOM, _ROOM)
        except BlockingIOError:
            continue
        except OSError as error:
            told = refusals(own)
            return 0, told[0].words if told else _of_errno(error)
        head = (data[0] & 15) * 4 if wanted[0] >= 0 and not end.ipv6 and data else 0
        if len(data) >= head + 8 and data[head] == _ANSWERED[end.ipv6]:
            identity, sequence = unpack_from("!HH", data, head + 4)
            if sequence == wanted[1] and wanted[0] in (-1, identity):
                return stamp_of(ancillary) or time.time_ns(), ""
    return 0, f"unanswered within {timeout_s:g} s"


def _of_errno(error: OSError) -> str:
    return (error.strerror or str(error)).lower()
