"""Leases, sign-ons, time and counters: questions over UDP that are paired by a number of their own, at one point."""

from collections.abc import Callable, Hashable, Mapping
from typing import Protocol

from yaffle.capture.addresses import end_text
from yaffle.exchanges.lookup import UNANSWERED, Lookup
from yaffle.protocols import dhcp, dhcp6, ntp, radius, snmp

DatagramEnds = tuple[str, int, str, int]  # sender and receiver with their ports


class Maker(Protocol):
    """Takes packets in order of time and makes look-ups of them."""

    rows: list[Lookup]

    def take(self, t: int, data: bytes, ends: DatagramEnds) -> None:
        """One packet."""


class _Leases:
    """Leases of addresses: each message of a client with what came back.

    What failed is told by its status, else by the kind of the answer.
    """

    def __init__(
        self,
        point: int,
        protocol: str,
        parse: Callable[[bytes], dhcp.LeaseMessage | None],
        asks: Mapping[str, tuple[str, ...]],
    ) -> None:
        self._point, self._protocol, self._parse, self._asks = point, protocol, parse, asks
        self._open: dict[tuple[str, int], Lookup] = {}
        self._hops: dict[int, int] = {}
        self.rows: list[Lookup] = []

    def take(self, t: int, data: bytes, ends: DatagramEnds) -> None:
        """One packet."""
        message = self._parse(data)
        if message is None:
            return
        key = (message.client, message.transaction)
        found = self._open.get(key)
        if message.kind in self._asks:
            if found is not None and found.kind == message.kind and found.answered_ns < 0:
                if self._hops.get(id(found), 0) == message.hops:  # A relay's copy is no further try.
                    found.tries, found.latest_ns = found.tries + 1, t
                return
            lookup = Lookup(
                self._protocol,
                message.client,
                message.server or ends[2],
                message.address,
                message.kind,
                UNANSWERED,
                t,
                point=self._point,
                latest_ns=t,
            )
            self._open[key] = lookup
            self._hops[id(lookup)] = message.hops
            self.rows.append(lookup)
        elif found is not None and found.answered_ns < 0 and message.kind in self._asks[found.kind]:
            found.answered_ns, found.outcome, found.server = (
                t,
                message.status or message.kind,
                message.server or ends[0],
            )
            found.name = message.address or found.name


def _leases4(point: int) -> _Leases:
    return _Leases(point, "dhcp", dhcp.parse, dhcp.ASKS)


def _leases6(point: int) -> _Leases:
    return _Leases(point, "dhcpv6", dhcp6.parse, dhcp6.ASKS)


class _Numbered:
    """What is common to questions that their asker numbers: the same number again is one more try while no answer
    came.
    """

    def __init__(self, point: int) -> None:
        self._point = point
        self._open: dict[Hashable, Lookup] = {}
        self.rows: list[Lookup] = []

    def _ask(self, key: Hashable, lookup: Lookup, again: bool = True) -> None:
        former = self._open.get(key)
        if former is not None and former.answered_ns < 0 and again:
            former.tries, former.latest_ns = former.tries + 1, lookup.asked_ns
            return
        lookup.point, lookup.latest_ns = self._point, lookup.asked_ns
        self._open[key] = lookup
        self.rows.append(lookup)

    def _answer(self, key: Hashable, t: int, outcome: str) -> None:
        found = self._open.get(key)
        if found is not None and found.answered_ns < 0:
            found.answered_ns, found.outcome = t, outcome


class SignOns(_Numbered):
    """RADIUS. The same identifier with another authenticator is another question (RFC 2865 section 3)."""

    def __init__(self, point: int) -> None:
        super().__init__(point)
        self._proofs: dict[Hashable, bytes] = {}

    def take(self, t: int, data: bytes, ends: DatagramEnds) -> None:
        """One packet."""
        message = radius.parse(data)
        if message is None:
            return
        sender, port, receiver, other = ends
        if not message.ask:
            self._answer((receiver, other, sender, message.id), t, message.answer)
            return
        key = (sender, port, receiver, message.id)
        again = self._proofs.get(key) == message.authenticator
        self._proofs[key] = message.authenticator
        self._ask(
            key,
            Lookup(
                "radius", end_text(sender, port), end_text(receiver, other), message.user, message.ask, UNANSWERED, t,
                station=message.station,
            ),
            again,
        )  # fmt: skip


class Clocks(_Numbered):
    """NTP. A refusal is told by its code."""

    def take(self, t: int, data: bytes, ends: DatagramEnds) -> None:
        """One packet."""
        message = ntp.parse(data)
        if message is None:
            return
        sender, _, receiver, _ = ends
        if message.answer:
            self._answer((receiver, sender, message.mark), t, message.refusal or f"stratum {message.stratum}")
        else:
            self._ask((sender, receiver, message.mark), Lookup("ntp", sender, receiver, "", "time", UNANSWERED, t))


class SnmpRequests(_Numbered):
    """SNMP. What version 3 encrypts shows only that it was answered."""

    def take(self, t: int, data: bytes, ends: DatagramEnds) -> None:
        """One packet."""
        message = snmp.parse(data)
        if message is None:
            return
        sender, port, receiver, other = ends
        if message.kind in ("response", "report"):
            self._answer((receiver, other, sender, message.number), t, message.outcome)
        elif message.kind == snmp.ENCRYPTED and (receiver, other, sender, message.number) in self._open:
            self._answer((receiver, other, sender, message.number), t, "answered")
        else:
            self._ask(
                (sender, port, receiver, message.number),
                Lookup("snmp", sender, receiver, message.name, message.kind, UNANSWERED, t),
            )


MAKERS: dict[str, Callable[[int], Maker]] = {
    "dhcp": _leases4,
    "dhcpv6": _leases6,
    "radius": SignOns,
    "ntp": Clocks,
    "snmp": SnmpRequests,
}
