"""The way to a host, hop by hop, along one flow: addresses, ports and label stay, so that routers that share load send
all its packets one way (Augustin and others 2006, "Avoiding traceroute anomalies").

Each hop is asked several times at once. A hop that is silent, or answers some of the packets only, but behind which
others answer all, limits its own answers: nothing is lost there.
"""

import asyncio
import random
import socket
import time
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

from yaffle.probing.hop_questions import Questions, questions
from yaffle.probing.icmp_words import Refusal, refusals
from yaffle.probing.result import Result, spread
from yaffle.probing.waiting_socket import readable
from yaffle.probing.wanted import UnknownNameError, Wanted, host_and_port, resolved

KIND = "route"
_PORT = {"udp": 33_434, "icmp": 0, "tcp": 443}
_MOST_HOPS, _EACH, _MOST_WAYS = 30, 3, 32
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
    """One look along the way; of several flows each, where ways of equal cost are asked for. Raises YaffleError."""
    by = wanted.over
    host, port = host_and_port(wanted.target, _PORT.get(by, 0))
    at_ns = time.time_ns()
    try:
        end = await resolved(host, port, wanted)
    except UnknownNameError as error:
        return [Result(KIND, wanted.target, at_ns, False, str(error), None, {"hops": []})]
    looks: list[_Look] = []
    flow = random.getrandbits(16)
    try:
        for number in range(max(1, min(wanted.ways, _MOST_WAYS))):
            asked = questions(by, end, wanted.dscp, flow + number)
            with asked.socket:
                looks.append(_Look(asked, end.ipv6, end.address))
                await looks[-1].run(wanted.timeout_s)
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        return [Result(KIND, wanted.target, at_ns, False, why, None, {"hops": []})]
    first = looks[0]
    more: dict[str, Any] = {"hops": [hop.as_json() for hop in first.hops], "over": by}
    if wanted.ways > 1:
        more["ways"] = _ways(looks)
    if first.reached:
        return [Result(KIND, wanted.target, at_ns, True, "", min(first.hops[-1].trips_ms), more)]
    return [Result(KIND, wanted.target, at_ns, False, first.why, None, more)]


def _ways(looks: "list[_Look]") -> list[dict[str, Any]]:
    """Each way that some flow took, and how many took it; most taken first."""
    taken = Counter(tuple(hop.as_json()["address"] for hop in look.hops) for look in looks)
    return [{"addresses": list(way), "flows": flows} for way, flows in taken.most_common()]


class _Look:
    """Hops in groups, until the target answers or nobody does any more."""

    def __init__(self, asked: Questions, ipv6: bool, target: str) -> None:
        self._asked, self._own, self._ipv6, self._target = asked, asked.socket, ipv6, target
        self._sent_ns: dict[tuple[int, int], int] = {}
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
        self._sent_ns[hop.ttl, number] = time.time_ns()
        try:
            self._asked.send(hop.ttl, number)
        except OSError:  # An error of a former packet is told by the next call; it stands in the queue, too.
            self._take()
            self._again(hop, number)

    def _again(self, hop: _Hop, number: int) -> None:
        try:
            self._asked.send(hop.ttl, number)
        except OSError as error:
            self.why = (error.strerror or str(error)).lower()

    def _take(self) -> None:
        for told in refusals(self._own):
            self._refused(told)
        for answer in self._asked.answers():
            if self._answered((answer.ttl, answer.number), self._target, answer.at_ns):
                self.reached = True

    def _answered(self, packet: tuple[int, int] | None, by: str, at_ns: int) -> bool:
        """Takes an answer to a packet of ours, once; whether it is one."""
        hop = next((one for one in self.hops if packet and one.ttl == packet[0]), None)
        if packet is None or hop is None or packet not in self._sent_ns:
            return False
        hop.trips_ms.append(max(0, (at_ns or time.time_ns()) - self._sent_ns.pop(packet)) / 1e6)
        hop.addresses.append(by)
        return True

    def _refused(self, told: Refusal) -> None:
        if not self._answered(self._asked.quoted(told.payload), told.by, told.at_ns):
            return
        if (told.type, told.code) == _UNREACHABLE_PORT[self._ipv6] and told.by == self._target:
            self.reached = True
        elif not told.expired:
            self.why = told.words

    def _cut(self) -> None:
        """Behind the target, or behind the last hop that answered, nothing is told."""
        ends = [k for k, hop in enumerate(self.hops) if self._target in hop.addresses]
        last = ends[0] if ends else max((k for k, hop in enumerate(self.hops) if hop.trips_ms), default=-1)
        self.hops = self.hops[: last + 1]
