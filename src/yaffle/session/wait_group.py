"""A row of the tree of waits: an application, a server, a client, a connection or an exchange, its waits summed."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Float64s, Int64s
from yaffle.session.evidence import Evidence

EXCHANGE = 4  # the deepest level


@dataclass(frozen=True)
class Group:
    """One row of the tree, with its waits summed."""

    trail: tuple[str, ...]
    label: str
    exchanges: int
    users: int
    median_ns: int
    p95_ns: int
    worst_ns: int
    charges: Int64s  # ns by charge column
    repeats: int
    low_ns: Float64s  # least of each party's part, in the order of ledger.bounds.BOUNDED
    high_ns: Float64s  # and most
    rows: Int64s = field(repr=False)  # rows of the waits
    period: tuple[int, int] | None = None  # of an hour of kept waits: nothing opens below it
    beside: bool = False  # lies behind the row above it, or in front, and is not part of it

    @property
    def wait_ns(self) -> int:
        """All waiting of the group."""
        return int(self.charges.sum())

    @property
    def level(self) -> int:
        """0 application, 1 server, 2 client, 3 connection, 4 exchange."""
        return len(self.trail) - 1


class GroupLevel(Sequence[Group]):
    """The groups below one row of the tree."""

    def place_of(self, key: str) -> int:
        """Where the group with this last part of its trail stands; -1 if it is not here."""
        raise NotImplementedError

    @property
    def widest_ns(self) -> int:
        """The greatest wait of a group."""
        raise NotImplementedError


def repeat_words(evidence: Evidence, group: Group) -> str:
    """What made the segments of a group's connections be sent again."""
    account, connections = evidence.analysis.account, np.unique(evidence.waits.connection[group.rows])
    told = [
        (sum(int(account.side(side, name)[connections].sum()) for side in (0, 1)), words)
        for name, words in (
            ("timeouts", "on timeouts (RTO), SYN included"),
            ("after_timeout", "after a timeout"),
            ("fast_retransmissions", "fast retransmissions"),
            ("tail_probes", "tail loss probes"),
        )
    ]
    rest = group.repeats - sum(n for n, _ in told)  # None where a segment that stands for several is told by each.
    told.append((max(0, rest), "set off by something else, as a repeated SYN that is answered again"))
    return "Retransmissions: " + ", ".join(f"{n:,} {words}" for n, words in told if n)
