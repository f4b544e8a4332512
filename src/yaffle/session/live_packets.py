"""What passes a capture now: bits over the last seconds by host, pair, application or port, from the end of a ring."""

from collections import defaultdict, deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.addresses import address_text
from yaffle.capture.captured import Capture
from yaffle.capture.conversations import SYN_FROM_A
from yaffle.capture.reader import GrowingCaptures
from yaffle.capture.ring_folder import files_of
from yaffle.inventory.places import Places
from yaffle.progress import go_on
from yaffle.session.live_rates import OVER_S

HOST, PAIR, APPLICATION, PORT = "host", "pair", "application", "port"
BY = (HOST, PAIR, APPLICATION, PORT)
WAYS = {
    HOST: ("sent", "received"), PAIR: ("sent by the first", "by the second"),
    APPLICATION: ("to servers", "from servers"), PORT: ("to servers", "from servers"),
}  # fmt: skip
_SECOND_NS = 10**9
_PROTOCOLS = {6: "TCP", 17: "UDP", 1: "ICMP", 58: "ICMPv6"}
_MOST = 200
_OPENED = SYN_FROM_A | SYN_FROM_A << 1

Ends = tuple[str, int, str, int, int]  # client, its port, server, its port, protocol


@dataclass(frozen=True)
class Passing:
    """One group. bps: means over each of OVER_S, of both ways; filter: the exchanges of it, as SQL."""

    name: str
    first_bps: tuple[float, ...]
    second_bps: tuple[float, ...]
    filter: str

    @property
    def weight(self) -> float:
        """By which groups are put in order: both ways over the middle of the spans."""
        return self.first_bps[1] + self.second_bps[1]


class LivePackets:
    """Of one ring: octets by second, conversation and way, for as long as the longest mean reaches back."""

    def __init__(self, ring: Path) -> None:
        self.ring = ring
        self._name = ""
        self._captures: GrowingCaptures | None = None
        self._done = 0
        self._seconds: deque[tuple[int, dict[Ends, list[int]]]] = deque()
        self.newest_ns = 0

    def look(self) -> None:
        """Reads what came. Raises YaffleError where a file cannot be read."""
        files = files_of(self.ring)
        if self._captures is None:
            files = files[-1:]
        for path in [path for path in files if path.name >= self._name]:
            if path.name != self._name:
                self.close()
                self._captures, self._name, self._done = GrowingCaptures([path]), path.name, 0
            if self._captures is not None:
                self._take(self._captures.draft(go_on).finish())

    def close(self) -> None:
        """Ends what runs beside it."""
        if self._captures is not None:
            self._captures.close()
        self._captures = None

    def _take(self, capture: Capture) -> None:
        packets = capture.packets
        rows = np.arange(self._done, packets.flow.size)
        self._done = packets.flow.size
        rows = rows[packets.flow[rows] >= 0]
        if not rows.size:
            return
        second = packets.time_ns[rows] // _SECOND_NS
        self.newest_ns = max(self.newest_ns, int(packets.time_ns[rows].max()))
        keys = np.stack([second, packets.flow[rows], packets.direction[rows]], axis=1)
        found, place = np.unique(keys, axis=0, return_inverse=True)
        known: dict[int, tuple[Ends, bool]] = {}
        octets = np.bincount(place.ravel(), packets.wire_bytes[rows], found.shape[0])
        for (when, flow, way), size in zip(found.tolist(), octets.tolist(), strict=True):
            ends, turned = known.get(flow) or known.setdefault(flow, _ends(capture, flow))
            self._second(when).setdefault(ends, [0, 0])[way ^ turned] += int(size)
        oldest = self.newest_ns // _SECOND_NS - OVER_S[-1] - 1
        while self._seconds and self._seconds[0][0] < oldest:
            self._seconds.popleft()

    def _second(self, when: int) -> dict[Ends, list[int]]:
        for known, held in reversed(self._seconds):
            if known == when:
                return held
        own: dict[Ends, list[int]] = {}
        self._seconds.append((when, own))
        return own

    def passing(self, by: str, places: Places, now_ns: int) -> list[Passing]:
        """Groups by one of BY, those with most first. Means are over whole seconds that are over at a moment."""
        last = now_ns // _SECOND_NS
        names = _namer(by, places)
        sums: dict[str, Array] = defaultdict(lambda: np.zeros((2, len(OVER_S))))
        filters: dict[str, str] = {}
        for when, own in self._seconds:
            age = np.array([last - seconds <= when < last for seconds in OVER_S])
            for ends, octets in own.items() if age.any() else ():
                for name, ways, expression in names(ends):
                    filters[name] = expression
                    sums[name] += np.outer([octets[ways[0]], octets[ways[1]]], age)
        spans = np.array(OVER_S) / 8
        found = [
            Passing(name, tuple((bits[0] / spans).tolist()), tuple((bits[1] / spans).tolist()), filters[name])
            for name, bits in sums.items()
        ]
        return sorted(found, key=lambda one: (-one.weight, one.name))[:_MOST]


def _ends(capture: Capture, flow: int) -> tuple[Ends, bool]:
    """Client and server of a conversation, and whether it stands the other way round there: who sent the SYN is the
    client; where none was seen, the lower port is the server's.
    """
    flows = capture.conversations
    ipv6 = bool(flows.ipv6[flow])
    one, two = (address_text(getattr(flows, f"{e}_hi")[flow], getattr(flows, f"{e}_lo")[flow], ipv6) for e in "ab")
    ports, protocol = (int(flows.a_port[flow]), int(flows.b_port[flow])), int(flows.protocol[flow])
    state = int(flows.state[flow])
    turned = bool(state & SYN_FROM_A << 1) if state & _OPENED else ports[0] < ports[1]
    if turned:
        return (two, ports[1], one, ports[0], protocol), True
    return (one, ports[0], two, ports[1], protocol), False


Named = list[tuple[str, tuple[int, int], str]]


def _namer(by: str, places: Places) -> Callable[[Ends], Named]:
    """What a conversation counts for: names, which of its ways is which, and a filter."""

    def host(ends: Ends) -> Named:
        return [
            (_called(places, own), ways, f"(client = '{own}' OR server = '{own}')")
            for own, ways in ((ends[0], (0, 1)), (ends[2], (1, 0)))
        ]

    def pair(ends: Ends) -> Named:
        one, two = sorted((ends[0], ends[2]))
        ways = (0, 1) if one == ends[0] else (1, 0)
        both = f"(client IN ('{one}', '{two}') AND server IN ('{one}', '{two}'))"
        return [(f"{_called(places, one)} and {_called(places, two)}", ways, both)]

    def application(ends: Ends) -> Named:
        name = places.application(ends[2], ends[3]) if ends[4] in (6, 17) else _PROTOCOLS.get(ends[4], str(ends[4]))
        return [(name, (0, 1), f"server = '{ends[2]}' AND server_port = {ends[3]}")]

    def port(ends: Ends) -> Named:
        protocol = _PROTOCOLS.get(ends[4], f"protocol {ends[4]}")
        name = f"{protocol} {ends[3]}" if ends[4] in (6, 17) else protocol
        return [(name, (0, 1), f"server_port = {ends[3]}")]

    return {HOST: host, PAIR: pair, APPLICATION: application, PORT: port}[by]


def _called(places: Places, address: str) -> str:
    name = places.brief(address)
    return name if name == address else f"{name}  {address}"
