"""The way to a host, hop by hop, along one flow: addresses, ports and label stay, so that routers that share load send
all its packets one way (Augustin and others 2006, "Avoiding traceroute anomalies").

Each hop is asked several times at once. A hop that is silent, or answers some of the packets only, but behind which
others answer all, limits its own answers: nothing is lost there.
"""

import asyncio
import socket
import time
from dataclasses import dataclass, field
from struct import Struct
from typing import Any

from yaffle.probing.icmp_words import Refusal, refusals
from yaffle.probing.result import Result, spread
from yaffle.probing.waiting_socket import datagrams_to, readable
from yaffle.probing.wanted import UnknownNameError, Wanted, host_and_port, resolved

KIND = "route"
_PORT, _MOST_HOPS, _EACH = 33_434, 30, 3
_MARK = Struct("!IBBQ")  # ours, hop, number, when
_OURS = 0x59616666
_UNREACHABLE_PORT = {False: (3, 3), True: (1, 4)}
_AT_ONCE = 5  # hops that are asked at the same time
_PAUSE_S = 0.01  # between packets, so that no hop is asked for more than it tells


@dataclass
class _Hop:
    """What was asked of one hop, and what came."""

    ttl: int
    sent: int = 0
    trips_ms: list[float] = field(default_factory=list)
    addresses: list[str] = field(default_factory=list)

    def as_json(self) -> dict[str, Any]:
        """As it stands in a result."""
        most = max(set(self.addresses), key=self.addresses.count) if self.addresses else None
        trip = spread(self.trips_ms)
        shown = {key: trip[key] for key in ("min", "median", "max")} if trip else None
        found = {"ttl": self.ttl, "address": most, "sent": self.sent, "answered": len(self.trips_ms)}
        others = sorted(set(self.addresses) - {most})
        return {**found, "round_trip_ms": shown, **({"others": others} if others else {})}


async def route(wanted: Wanted) -> list[Result]:
    """One look along the way."""
    host, port = host_and_port(wanted.target, _PORT)
    at_ns = time.time_ns()
    try:
        end = await resolved(host, port, wanted)
    except UnknownNameError as error:
        return [Result(KIND, wanted.target, at_ns, False, str(error), None, {"hops": []})]
    try:
        with datagrams_to(end, wanted.dscp) as own:
            look = _Look(own, end.ipv6, end.address)
            await look.run(wanted.timeout_s)
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        return [Result(KIND, wanted.target, at_ns, False, why, None, {"hops": []})]
    hops = [hop.as_json() for hop in look.hops]
    if look.reached:
        trip = min(look.hops[-1].trips_ms)
        return [Result(KIND, wanted.target, at_ns, True, "", trip, {"hops": hops})]
    return [Result(KIND, wanted.target, at_ns, False, look.why, None, {"hops": hops})]


class _Look:
    """Hops in groups, until the target answers or nobody does any more."""

    def __init__(self, own: socket.socket, ipv6: bool, target: str) -> None:
        self._own, self._ipv6, self._target = own, ipv6, target
        self.hops: list[_Hop] = []
        self.reached = False
        self.why = "the target does not answer: a filter before it, or it tells nothing of closed ports"

    async def run(self, timeout_s: float) -> None:
        """Asks."""
        loop = asyncio.get_running_loop()
        for first in range(1, _MOST_HOPS + 1, _AT_ONCE):
            group = [_Hop(ttl) for ttl in range(first, first + _AT_ONCE)]
            self.hops += group
            for number in range(_EACH):
                for hop in group:
                    self._send(hop, number)
                    await asyncio.sleep(_PAUSE_S)
                    self._take()
            until = loop.time() + timeout_s
            while any(len(hop.trips_ms) < hop.sent for hop in self._before_the_end(group)):
                if not await readable(self._own, until):
                    break
                self._take()
            if self.reached or not any(hop.trips_ms for hop in self.hops[-2 * _AT_ONCE :]):
                break
        self._cut()

    def _before_the_end(self, group: list[_Hop]) -> list[_Hop]:
        last = next((k for k, hop in enumerate(group) if self._target in hop.addresses), len(group) - 1)
        return group[: last + 1]

    def _send(self, hop: _Hop, number: int) -> None:
        level, option = (
            (socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS) if self._ipv6 else (socket.IPPROTO_IP, socket.IP_TTL)
        )
        self._own.setsockopt(level, option, hop.ttl)
        hop.sent += 1
        try:
            self._own.send(_MARK.pack(_OURS, hop.ttl, number, time.time_ns()).ljust(32, b"\0"))
        except OSError:  # An error of a former packet is told by the next call; it stands in the queue, too.
            self._take()
            self._again(hop, number)

    def _again(self, hop: _Hop, number: int) -> None:
        try:
            self._own.send(_MARK.pack(_OURS, hop.ttl, number, time.time_ns()).ljust(32, b"\0"))
        except OSError as error:
            self.why = (error.strerror or str(error)).lower()

    def _take(self) -> None:
        for told in refusals(self._own):
            self._answer(told)

    def _answer(self, told: Refusal) -> None:
        if len(told.payload) < _MARK.size:
            return
        ours, ttl, _, sent_ns = _MARK.unpack_from(told.payload)
        hop = next((one for one in self.hops if one.ttl == ttl), None)
        if ours != _OURS or hop is None:
            return
        hop.trips_ms.append(max(0, (told.at_ns or time.time_ns()) - sent_ns) / 1e6)
        hop.addresses.append(told.by)
        if (told.type, told.code) == _UNREACHABLE_PORT[self._ipv6] and told.by == self._target:
            self.reached = True
        elif not told.expired:
            self.why = told.words

    def _cut(self) -> None:
        """Behind the target, or behind the last hop that answered, nothing is told."""
        ends = [k for k, hop in enumerate(self.hops) if self._target in hop.addresses]
        last = ends[0] if ends else max((k for k, hop in enumerate(self.hops) if hop.trips_ms), default=-1)
        self.hops = self.hops[: last + 1]
