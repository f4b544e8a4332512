"""What lies behind waits: where their servers' time went, and the exchanges before and behind one."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s
from yaffle.findings.held_up import spent_by, split_in_words
from yaffle.session.evidence import Evidence

MOST = 8  # exchanges that are offered


@dataclass(frozen=True)
class Neighbour:
    """An exchange in front of another one, or behind it."""

    words: str
    connection: int
    first_ns: int


def behind_words(evidence: Evidence, rows: Int64s) -> str:
    """Where the servers' time of some waits went; empty where nothing is known behind them."""
    if not evidence.analysis.behind.call.size:
        return ""
    exchanges = evidence.waits.exchange[rows]
    spent, places = spent_by(evidence.analysis, exchanges[exchanges >= 0]), evidence.analysis.places
    if not spent.by_place:
        return ""
    asked_for = {
        (evidence.server[c], int(evidence.port[c])): evidence.application[c] for c in range(evidence.port.size)
    }
    return split_in_words(
        spent, lambda address, port: asked_for.get((address, port)) or places.application(address, port), exchanges.size
    )


def neighbours(evidence: Evidence, row: int) -> list[Neighbour]:
    """What a wait's exchange lies behind, and what lies behind it, in order of time."""
    behind, exchange = evidence.analysis.behind, int(evidence.waits.exchange[row])
    if exchange < 0:
        return []
    front = behind.in_front.get(exchange)
    found = [] if front is None else [_neighbour(evidence, front, "In front of it")]
    calls = [(int(behind.call[k]), float(behind.certainty[k])) for k in behind.links_of(exchange).tolist()[:MOST]]
    return found + [
        _neighbour(evidence, call, "Behind it" if sure >= 0.9 else f"Behind it ({100 * sure:.0f} % sure)")
        for call, sure in calls
    ]


def _neighbour(evidence: Evidence, exchange: int, what: str) -> Neighbour:
    account = evidence.analysis.account
    row = int(np.argmax(evidence.waits.exchange == exchange))
    connection = int(account.of_exchange("connection")[exchange])
    server = evidence.server[connection]
    asked = evidence.label(row) or "exchange"
    return Neighbour(f"{what}: {asked} at {server}", connection, int(account.of_exchange("first_ns")[exchange]))
