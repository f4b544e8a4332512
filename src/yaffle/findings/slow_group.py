"""Slow exchanges of one site with one cause: who waited, for how long, on which paths, in words and as grounds."""

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Int64s, Int64s2
from yaffle.capture.addresses import client_labels, end_text, server_labels
from yaffle.capture.conversations import Rows
from yaffle.findings.finding import period_words
from yaffle.inventory.places import Places
from yaffle.ledger import causes
from yaffle.ledger.sums import totals
from yaffle.quantiles import median, p95
from yaffle.units import duration, share

_FEW_SERVERS = 3  # So many are named.


@dataclass(frozen=True)
class SlowGroup:
    """What one finding is about.

    rows: of the exchanges; sums: int64 (n, parties), ns, of these; moved: of each connection of the analysis, whether
    its path changed.
    """

    analysis: Analysis = field(repr=False)
    places: Places = field(repr=False)
    party: str
    cause: str
    site: str
    rows: Int64s
    sums: Int64s2
    moved: Bools

    @cached_property
    def wait_ns(self) -> Int64s:
        """Of each exchange."""
        return totals(self.sums)

    @cached_property
    def own_ns(self) -> Int64s:
        """Of each exchange, the part of the party that is named."""
        return self.of_party(self.party)

    def of_party(self, party: str) -> Int64s:
        """Of each exchange, the part of a party, ns."""
        return self.sums[:, causes.PARTIES.index(party)]

    @cached_property
    def middle(self) -> int:
        """The exchange of median wait."""
        half = (self.wait_ns.size - 1) // 2
        return int(np.argpartition(self.wait_ns, half)[half])

    @cached_property
    def members(self) -> Int64s:
        """Its connections."""
        return np.unique(self.analysis.account.exchange[self.rows, 0])

    @cached_property
    def clients(self) -> list[str]:
        """Addresses of who waited."""
        return sorted(client_labels(self._flows, self._flow).texts)

    @cached_property
    def servers(self) -> list[tuple[str, int]]:
        """Addresses and ports of whom they asked."""
        address = server_labels(self._flows, self._flow)
        ends = np.unique(address.codes << 16 | self._flows.b_port[self._flow])
        return sorted((address.texts[end >> 16], end & 0xFFFF) for end in ends.tolist())

    @property
    def _flows(self) -> Rows:
        return self.analysis.capture.conversations

    @property
    def _flow(self) -> Int64s:
        return self.analysis.account.flow[self.members]

    @cached_property
    def app(self) -> str:
        """What they asked for, in words."""
        if len(self.servers) > _FEW_SERVERS:
            return f"{len(self.servers)} servers"
        return " and ".join(dict.fromkeys(self.places.application(*server) for server in self.servers))

    @property
    def where(self) -> str:
        """The same with its address, where it is one."""
        return f"{self.app} ({end_text(*self.servers[0])})" if len(self.servers) == 1 else self.app

    @cached_property
    def span_ns(self) -> tuple[int, int]:
        """From the first that was asked to the last that was answered."""
        account = self.analysis.account
        first, last = account.of_exchange("first_ns")[self.rows], account.of_exchange("end_ns")[self.rows]
        return int(first.min()), int(last.max())

    @property
    def period(self) -> str:
        """The same in words."""
        return period_words(*self.span_ns)

    @cached_property
    def trip_ns(self) -> Int64s:
        """Least round trips of the connections where both ways are known."""
        account = self.analysis.account
        parts = [account.fact(f"to_{side}_min_ns")[self.members] for side in ("server", "client")]
        return np.asarray(np.sum(parts, axis=0)[(parts[0] >= 0) & (parts[1] >= 0)])

    def counted(self, fact: str) -> int:
        """A count of both sides of all connections."""
        return sum(int(self.analysis.account.side(side, fact)[self.members].sum()) for side in (0, 1))

    @cached_property
    def sent(self) -> int:
        """Packets."""
        return self.counted("packets")

    @cached_property
    def again(self) -> int:
        """Packets that were retransmitted."""
        return self.counted("retransmitted_packets")

    @cached_property
    def expired(self) -> int:
        """Timeouts."""
        return self.counted("timeouts")

    @cached_property
    def unanswered(self) -> int:
        """Exchanges whose client got no answer."""
        return int(np.count_nonzero(self.analysis.account.of_exchange("answered_ns")[self.rows] < 0))

    @cached_property
    def changed(self) -> int:
        """Connections whose path changed."""
        return int(self.moved[self.members].sum())

    @property
    def floor(self) -> str:
        """The round trip, in words."""
        return duration(median(self.trip_ns))

    @property
    def repeated(self) -> str:
        """The share of packets that were retransmitted, in words."""
        return share(self.again / max(1, self.sent))

    @property
    def many(self) -> str:
        """How many exchanges of how many clients, how many of them got no answer, and when."""
        exchanges, clients = self.rows.size, len(self.clients)
        gave_up = f"{self.unanswered:,} of them unanswered" if exchanges > 1 else "unanswered"
        return (
            f"{exchanges:,} exchange{'s' if exchanges > 1 else ''} of {clients} client{'s' if clients > 1 else ''},"
            f"{f' {gave_up},' if self.unanswered else ''} {self.period}"
        )

    @property
    def of(self) -> str:
        """The party's part of the wait of the exchange in the middle."""
        return f"{duration(int(self.own_ns[self.middle]))} of {duration(int(self.wait_ns[self.middle]))} (median)"

    @property
    def steady(self) -> str:
        """What the path was like."""
        if not self.trip_ns.size:
            kept = "the path's RTT is unknown (no handshake was captured)"
        elif self.changed * 4 < self.members.size:
            kept = f"the path's RTT stayed at {self.floor}"
        else:
            kept = (
                f"the path's minimum RTT changed during {self.changed} of {self.members.size} connections (lowest"
                f" {self.floor})"
            )
        return f"{kept} and {self.repeated} of the packets were retransmitted"

    def grounds(self) -> dict[str, Any]:
        """The figures it rests on."""
        trip = self.trip_ns
        first_ns, last_ns = self.span_ns
        return {
            "exchanges": int(self.rows.size),
            "connections": self.members.tolist(),
            "users": len(self.clients),
            "wait_ms": float(self.wait_ns.sum() / 1e6),
            "charged_ms": float(self.own_ns.sum() / 1e6),
            "median_wait_ms": median(self.wait_ns) / 1e6,
            "p95_wait_ms": p95(self.wait_ns) / 1e6,
            "round_trip_floor_ms": [float(trip.min() / 1e6), float(trip.max() / 1e6)] if trip.size else None,
            "repeats": self.again,
            "timeouts": self.expired,
            "unanswered": self.unanswered,
            "packets": self.sent,
            "first_ns": first_ns,
            "last_ns": last_ns,
            "path_changed_connections": self.changed,
        }
