"""What servers were asked while a station came to an access point: sign-ons (RADIUS) and leases (DHCP), as captured on
the wire or on the air, by the station's hardware address (RFC 2865, 5.31: Calling-Station-Id; RFC 2131: chaddr).
"""

from collections import Counter, defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from yaffle.exchanges.lookup import Lookup
from yaffle.radio.moves import Roam
from yaffle.units import count, duration

SIGN_ON, LEASE = "radius", "dhcp"
NAMES = {SIGN_ON: "RADIUS", LEASE: "DHCP"}
_BEFORE_NS, _AFTER_NS = 2_000_000_000, 10_000_000_000  # the move: clocks of two captures, and what comes after it


@dataclass(frozen=True)
class Asked:
    """All questions of one kind for one move. waited_ns: from each first try to its answer, or to its last try, in
    sum.
    """

    protocol: str
    server: str  # most often
    waited_ns: int
    questions: int
    again: int  # tries after the first
    unanswered: int

    def words(self, of_ns: int = -1) -> str:
        """In a few words; of_ns: the step that it was part of."""
        of = " of it" if 0 <= self.waited_ns <= of_ns else ""
        return f"{NAMES[self.protocol]} at {self.server} {duration(self.waited_ns)}{of} ({self.counts})"

    @property
    def counts(self) -> str:
        """How many requests, and what became of them."""
        again = f", {count(self.again)} sent again" if self.again else ""
        silent = f", {count(self.unanswered)} not answered" if self.unanswered else ""
        asked = f"{count(self.questions)} request{'s' if self.questions != 1 else ''}"
        return f"{asked}{again}{silent}"


class Questions:
    """Questions of sign-on and leases by the station that they were asked for."""

    def __init__(self, lookups: Iterable[Lookup]) -> None:
        self._own: dict[str, list[Lookup]] = defaultdict(list)
        for one in lookups:
            if one.protocol in NAMES and (station := _station_of(one)):
                self._own[station].append(one)

    def of(self, station: str) -> list[Lookup]:
        """All for one station, in order of time."""
        return self._own.get(station, [])

    def during(self, station: str, roam: Roam) -> dict[str, Asked]:
        """By kind: what was asked from just before a move until its keys, or its address."""
        found: dict[str, list[Lookup]] = defaultdict(list)
        for one in self.of(station):
            until = roam.time_ns + (max(0, roam.keys_ns) + _BEFORE_NS if one.protocol == SIGN_ON else _AFTER_NS)
            if roam.time_ns - _BEFORE_NS <= one.asked_ns <= until:
                found[one.protocol].append(one)
        return {protocol: _asked(protocol, own) for protocol, own in found.items()}


def _station_of(one: Lookup) -> str:
    return one.client if one.protocol == LEASE else one.station


def _asked(protocol: str, own: list[Lookup]) -> Asked:
    waits = [one.latency_ns if one.answered_ns >= 0 else one.latest_ns - one.asked_ns for one in own]
    server = Counter(one.server for one in own).most_common(1)[0][0]
    return Asked(
        protocol, server, sum(waits), len(own), sum(one.tries - 1 for one in own),
        sum(one.answered_ns < 0 for one in own),
    )  # fmt: skip
