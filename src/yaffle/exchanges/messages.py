"""What exchanges say, connection by connection: requests with their answers, tied to their packets."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Int64s
from yaffle.exchanges.lookup import ANSWERED, UNANSWERED
from yaffle.exchanges.reading import Reading
from yaffle.exchanges.turns import TURN, TurnRows
from yaffle.texts import Texts, no_texts
from yaffle.transport.segments import Segments


@dataclass(frozen=True)
class KeptReading:
    """How far a connection was read, and which packets it had, in order of time."""

    reading: Reading
    rows: Int64s
    first_side: int  # who sent the first: the end that is taken for the client may change

    def goes_on_in(self, g: Segments) -> bool:
        """Whether segments, as gathered, begin with what was read. What passed earlier may be captured later."""
        before = self.rows.size
        same = before <= g.size and int(g["d"][0]) == self.first_side
        return same and np.array_equal(g["row"][:before], self.rows)


@dataclass
class Messages:
    """For connection c: rows starts[c]:starts[c + 1] of `turns`; none where turns of bytes have to do."""

    starts: Int64s
    turns: TurnRows
    label: Texts = field(default_factory=no_texts)
    outcome: Texts = field(default_factory=no_texts)
    protocol: dict[int, str] = field(default_factory=dict)  # of decoded connections
    host: dict[int, str] = field(default_factory=dict)  # the server's name as the client asked for it
    note: dict[int, str] = field(default_factory=dict)
    values: dict[int, tuple[str, ...]] = field(default_factory=dict)  # of messages that were asked with any
    # While captures grow, of connections that got packets: the protocol by the first packets with payload of both
    # sides, and the server's port; and how far long ones were read, by their first packet.
    begun: dict[tuple[int, int, int], str] = field(default_factory=dict)
    readings: dict[int, KeptReading] = field(default_factory=dict)

    def outcome_of(self, message: int, answered: bool) -> str:
        """How a request was answered; message: its number, -1 without; answered: whether its client had an answer. One
        that came when the client had left was none.
        """
        said = self.outcome[message] if message >= 0 else ""
        return (said or ANSWERED) if answered else UNANSWERED


@dataclass(frozen=True)
class KnownMessages:
    """Those of a former reading of the same capture, when it was shorter."""

    rows: Int64s  # of each connection now, the one that it was then; -1 for a new one, and where packets came
    messages: Messages


def no_messages(connections: int) -> Messages:
    """Nothing is decoded."""
    return Messages(np.zeros(connections + 1, np.int64), np.zeros(0, TURN))


def join_messages(told: Sequence[tuple[int, Messages]]) -> Messages:
    """Messages of connections that follow each other. told: with each, by how much its connections' numbers are moved
    on to count among all.
    """
    parts = [part for _, part in told]
    if len(parts) <= 1:
        return parts[0] if parts else no_messages(0)
    sizes = np.concatenate([np.diff(part.starts) for part in parts])
    turns = np.zeros(int(sizes.sum()), TURN)
    found = Messages(
        np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64),
        turns,
        Texts.joined([part.label for part in parts]),
        Texts.joined([part.outcome for part in parts]),
    )
    at = 0
    for first, part in told:
        turns[at : at + part.turns.size] = part.turns
        for name in ("protocol", "host", "note"):
            getattr(found, name).update({first + c: text for c, text in getattr(part, name).items()})
        found.values.update({at + m: held for m, held in part.values.items()})
        at += part.turns.size
    turns["message"] = np.arange(turns.size)
    return found
