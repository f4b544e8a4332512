"""The look-up that led to a connection is part of what its first exchange waited for."""

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from yaffle.capture.addresses import client_labels, server_labels
from yaffle.capture.conversations import Rows
from yaffle.exchanges.lookup import Lookup
from yaffle.exchanges.lookups import Lookups
from yaffle.ledger import causes
from yaffle.ledger.accounts import OwnAccount
from yaffle.ledger.fields import EXCHANGE_FIELDS

_LEAST_ANSWERS = 3  # Fewer do not tell how far a name server is.
_SOON_NS = 1_000_000_000  # A connection that follows its look-up later than this was not waiting for it.
_NETWORK_LOW, _NETWORK_HIGH, _SERVER_LOW, _SERVER_HIGH = (
    EXCHANGE_FIELDS.index(f"{side}_{end}_ns") for side in ("network", "server") for end in ("low", "high")
)


def least_answers(lookups: Lookups) -> dict[tuple[str, int], int]:
    """The soonest answer of each name server, by point: no trip to it took longer.

    Only where several answers tell it.
    """
    answers: dict[tuple[str, int], list[int]] = defaultdict(list)
    for lookup in lookups.rows:
        if lookup.protocol == "dns" and lookup.answered_ns >= 0 and lookup.tries == 1:
            answers[lookup.server, lookup.point].append(lookup.latency_ns)
    return {key: min(spans) for key, spans in answers.items() if len(spans) >= _LEAST_ANSWERS}


@dataclass(frozen=True)
class NameParts:
    """What an answered look-up took, ns: repeats and the soonest answer's time are the network's, the rest the name
    server's.

    One answer alone does not tell the trip: then all of it is left to the network, and the bounds say that it may be
    the server's.
    """

    repeated_ns: int  # from the first question to the one that was answered
    trip_ns: int
    server_ns: int

    @classmethod
    def of(cls, lookup: Lookup, least: dict[tuple[str, int], int]) -> "NameParts":
        """The parts, by the soonest answer of each name server (`least_answers`)."""
        repeated = max(0, min(lookup.latest_ns, lookup.answered_ns) - lookup.asked_ns) if lookup.tries > 1 else 0
        rest = lookup.latency_ns - repeated
        trip = min(rest, least.get((lookup.server, lookup.point), rest))
        return cls(repeated, trip, rest - trip)

    @property
    def charges(self) -> tuple[tuple[int, int], ...]:
        """(charge, ns)."""
        return (causes.NAME, self.repeated_ns + self.trip_ns), (causes.SERVER_NAME, self.server_ns)

    @property
    def bounds(self) -> tuple[tuple[int, int], ...]:
        """(column of the exchanges, ns): even the soonest answer was not given in no time, so the server may have had
        more.
        """
        rest = self.trip_ns + self.server_ns
        least, most = self.repeated_ns, self.repeated_ns + self.trip_ns
        return (_NETWORK_LOW, least), (_NETWORK_HIGH, most), (_SERVER_LOW, self.server_ns), (_SERVER_HIGH, rest)


def may_charge(lookups: Lookups) -> bool:
    """Whether there are look-ups that others may have waited for; without, accounts stay as they are."""
    return any(one.protocol == "dns" and one.answered_ns >= 0 and one.addresses for one in lookups.rows)


@dataclass(frozen=True)
class LedBy:
    """A connection whose opening followed a look-up of its server by its client."""

    connection: int
    exchange: int  # row of its first one
    spent_ns: int  # from the first try to the answer
    parts: NameParts


def led_by_names(account: OwnAccount, lookups: Lookups, flows: Rows) -> list[LedBy]:
    """Connections whose first exchange waited for a name: what the name server itself took is the server's (of the name
    service), the trips to it and questions asked again are the network's.

    Each look-up leads to one connection: later ones had the answer already.
    """
    if not may_charge(lookups):
        return []
    least = least_answers(lookups)
    led: dict[tuple[str, str, int], list[Lookup]] = defaultdict(list)
    for lookup in lookups.rows:
        if lookup.protocol == "dns" and lookup.answered_ns >= 0:
            for address in lookup.addresses:
                led[lookup.client, address, lookup.point].append(lookup)
    owner = account.of_exchange("connection")
    first = np.full(account.flow.size, -1, np.int64)
    first[owner[::-1]] = np.arange(owner.size)[::-1]  # Exchanges of a connection stand in order: the first one is kept.
    opened, complete = account.fact("first_ns"), account.fact("opening") == 0
    client, server = client_labels(flows, account.flow), server_labels(flows, account.flow)
    used: set[int] = set()
    found = []
    for c in np.argsort(opened, kind="stable").tolist():
        if first[c] < 0 or not complete[c]:
            continue
        waiting = led.get((client[c], server[c], int(flows.point[account.flow[c]])), [])
        fitting = [k for k in waiting if id(k) not in used and 0 <= int(opened[c]) - k.answered_ns <= _SOON_NS]
        if fitting:
            used.add(id(fitting[-1]))
            parts = NameParts.of(fitting[-1], least)
            found.append(LedBy(c, int(first[c]), fitting[-1].latency_ns, parts))
    return found
