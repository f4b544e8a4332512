"""A visit: everything one client did to get one page, what of it decided how long it took, and what mending would save.

A client's exchanges and look-ups form visits: one ends where nothing runs for a while. Each exchange began because
another one ended or began to be answered; that is inferred from times (which of these came last before it), and cannot
be known. The chain leads from the last end back to the start.
What an exchange would be without what is not the path's own pace (its server, client, loss, queues, look-up) is its
floor; what mending it would save is what the visit's end moves when it takes no more than that, with everything that
follows beginning as long after it as it did.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.addresses import address_of
from yaffle.ledger import causes
from yaffle.ledger.names import NameParts, least_answers
from yaffle.session.evidence import Evidence
from yaffle.units import duration, size

QUIET_NS = 1_000_000_000  # Between two visits.
MOST_STEPS = 600
_TOLERANCE_NS = 2_000_000
_FLOOR = (causes.SET_UP, causes.ROUND_TRIP, causes.RATE)
_NAMES, _QUICK = -1, -2  # lanes that are no connection
_LANES = {"dns": (_NAMES, causes.NAME), "mdns": (_NAMES, causes.NAME), "quic": (_QUICK, causes.SET_UP)}


@dataclass(frozen=True)
class Step:
    """One thing a client did."""

    label: str
    outcome: str
    lane: int
    first_ns: int
    answering_ns: int  # when the answer began; last_ns where that is not known
    last_ns: int
    octets: int
    charges: Int64s
    wait: int = -1  # row of the waits; -1 for a look-up
    connection: int = -1
    follows: int = -1  # the step that let this one begin; -1 for what began the visit
    saved_ns: int = 0  # by mending it alone

    @property
    def span_ns(self) -> int:
        """How long it took."""
        return self.last_ns - self.first_ns

    @property
    def floor_ns(self) -> int:
        """How long the path alone would take for it."""
        return min(self.span_ns, int(self.charges[list(_FLOOR)].sum()))

    @property
    def dearest(self) -> tuple[str, str]:
        """Party and cause of the largest charge that mending takes away."""
        paid = self.charges.copy()
        paid[list(_FLOOR)] = 0
        return causes.CHARGES[int(np.argmax(paid))]


@dataclass(frozen=True)
class Visit:
    """Steps in order of lanes, then of time."""

    client: str
    steps: tuple[Step, ...]
    lanes: tuple[str, ...]
    chain: tuple[int, ...]  # steps, first to last
    left_out: int = 0  # steps beyond MOST_STEPS

    @property
    def first_ns(self) -> int:
        """When it began."""
        return min(s.first_ns for s in self.steps)

    @property
    def last_ns(self) -> int:
        """When its last exchange was done; look-ups that went on led to nothing in it."""
        return max(s.last_ns for s in self.steps if s.wait >= 0)

    @property
    def span_ns(self) -> int:
        """How long it took."""
        return self.last_ns - self.first_ns

    @property
    def to_mend(self) -> list[int]:
        """Steps whose mending saves something worth naming, most first."""
        worth = [k for k in self.chain if self.steps[k].saved_ns > max(_TOLERANCE_NS, self.span_ns // 100)]
        return sorted(worth, key=lambda k: -self.steps[k].saved_ns)

    @property
    def sentence(self) -> str:
        """The visit in words: how long, of what, and which step to mend first."""
        elements = [s for s in self.steps if s.wait >= 0]
        connections = {s.connection for s in elements}
        text = (
            f"{duration(self.span_ns)} for {len(elements)} exchange{'s' if len(elements) != 1 else ''} over"
            f" {len(connections)} connection"
        )
        text += f"{'s' if len(connections) != 1 else ''}, {size(sum(s.octets for s in elements))}. "
        if not self.to_mend:
            return text + "Nothing in it is slow beyond the path itself: fewer or shorter round trips would help."
        step = self.steps[self.to_mend[0]]
        party, cause = step.dearest
        return (
            text + f"Fix first: {step.label}: {causes.WORDS[cause]} ({party}); without it the visit would take"
            f" {duration(step.saved_ns)} less."
        )


def _starts(first: Int64s, last: Int64s) -> Int64s:
    """Indices at which a new visit begins; first: sorted."""
    if not first.size:
        return np.empty(0, np.int64)
    reached = np.maximum.accumulate(last)
    return np.concatenate([[0], np.flatnonzero(first[1:] > reached[:-1] + QUIET_NS) + 1])


@dataclass(frozen=True)
class Visits:
    """The visits of one client, by their rows; a visit is put together when it is looked at."""

    client: str
    rows: Int64s  # waits of the client, in order of their begin
    starts: Int64s
    evidence: Evidence

    @classmethod
    def of(cls, evidence: Evidence, client: str) -> "Visits":
        """All visits of a client."""
        waits = evidence.waits
        rows = np.flatnonzero(evidence.client.codes[waits.connection] == evidence.client.code(client))
        first = waits.end_ns[rows] - waits.wait_ns[rows]
        order = np.argsort(first, kind="stable")
        return cls(client, rows[order], _starts(first[order], waits.end_ns[rows][order]), evidence)

    def __len__(self) -> int:
        return int(self.starts.size)

    def rows_of(self, number: int) -> Int64s:
        """Waits of one visit."""
        return self.rows[self.starts[number] : self.starts[number + 1] if number + 1 < len(self) else self.rows.size]

    def span(self, number: int) -> tuple[int, int]:
        """When a visit began and ended."""
        waits, rows = self.evidence.waits, self.rows_of(number)
        return int((waits.end_ns[rows] - waits.wait_ns[rows]).min()), int(waits.end_ns[rows].max())

    def at(self, moment_ns: int) -> int:
        """The visit that ran at a moment, or the last one begun before; 0 where there is none."""
        waits = self.evidence.waits
        begun = (waits.end_ns - waits.wait_ns)[self.rows[self.starts]] if len(self) else np.empty(0, np.int64)
        return max(0, int(np.searchsorted(begun, moment_ns, "right")) - 1)

    @property
    def longest(self) -> int:
        """The visit that took longest."""
        spans = [last - first for first, last in map(self.span, range(len(self)))]
        return int(np.argmax(spans)) if spans else 0

    def visit(self, number: int) -> Visit:
        """One visit, put together."""
        rows = self.rows_of(number)
        kept = rows[:MOST_STEPS]
        steps = [_step(self.evidence, int(row)) for row in kept]
        first, last = self.span(number)
        steps += _asked(self.evidence, self.client, first, last)
        lanes = list(dict.fromkeys(s.connection for s in sorted(steps, key=lambda s: s.first_ns)))
        steps = [replace(s, lane=lanes.index(s.connection)) for s in steps]
        steps.sort(key=lambda s: (s.lane, s.first_ns))
        follows = _triggers(steps)
        chain = _chain(steps, follows)
        saved = {k: _saved(steps, follows, k) for k in chain}
        done = tuple(replace(s, follows=follows[k], saved_ns=saved.get(k, 0)) for k, s in enumerate(steps))
        return Visit(
            self.client, done, tuple(_lane(self.evidence, c) for c in lanes), chain, int(rows.size - kept.size)
        )


def _step(evidence: Evidence, row: int) -> Step:
    waits, account = evidence.waits, evidence.analysis.account
    protocol, asked, outcome = evidence.said(row)
    exchange = int(waits.exchange[row])
    last = int(waits.end_ns[row])
    answering = int(account.of_exchange("answered_ns")[exchange]) if exchange >= 0 else -1
    octets = int(account.of_exchange("response_bytes")[exchange]) if exchange >= 0 else 0
    label = asked or (f"{protocol} exchange" if exchange >= 0 else "failed connection attempt")
    return Step(
        label,
        outcome,
        0,
        last - int(waits.wait_ns[row]),
        answering if answering >= 0 else last,
        last,
        octets,
        waits.charges[row],
        row,
        int(waits.connection[row]),
    )


def _asked(evidence: Evidence, client: str, first_ns: int, last_ns: int) -> list[Step]:
    """Look-ups and QUIC set-ups of the client in a stretch, each shown for itself."""
    found = []
    least = least_answers(evidence.analysis.lookups)
    for lookup in evidence.analysis.lookups.rows:
        if lookup.protocol not in _LANES or not first_ns - QUIET_NS <= lookup.asked_ns <= last_ns:
            continue
        lane, column = _LANES[lookup.protocol]
        if client != (address_of(lookup.client) if lane == _QUICK else lookup.client):
            continue
        charges = np.zeros(causes.COUNT, np.int64)
        last = max(lookup.answered_ns, lookup.latest_ns, lookup.asked_ns)
        charges[column] = last - lookup.asked_ns
        if lookup.protocol == "dns" and lookup.answered_ns >= 0:
            charges[causes.SERVER_NAME] = NameParts.of(lookup, least).server_ns
            charges[column] -= charges[causes.SERVER_NAME]
        found.append(
            Step(
                f"{lookup.kind} {lookup.name}",
                lookup.outcome,
                0,
                lookup.asked_ns,
                last,
                last,
                0,
                charges,
                connection=lane,
            )
        )
    return found


def _lane(evidence: Evidence, connection: int) -> str:
    if connection < 0:
        return "DNS lookups" if connection == _NAMES else "QUIC set-ups"
    host = evidence.analysis.messages.host.get(connection) or evidence.places.short(evidence.server[connection])
    return f"{host} port {int(evidence.port[connection])}, from {int(evidence.client_port[connection])}"


def _triggers(steps: Sequence[Step]) -> list[int]:
    """For each step the one that let it begin: whose end, or begin of answer, came last before it; -1 for look-ups and
    where there is none.
    """
    order = sorted((k for k in range(len(steps)) if steps[k].wait >= 0), key=lambda k: steps[k].first_ns)
    found = [-1] * len(steps)
    for place, k in enumerate(order):
        begun = steps[k].first_ns + _TOLERANCE_NS
        events = [(steps[j].last_ns if steps[j].last_ns <= begun else steps[j].answering_ns, j) for j in order[:place]]
        found[k] = max(((t, j) for t, j in events if t <= begun), default=(0, -1))[1]
    return found


def _chain(steps: Sequence[Step], follows: Sequence[int]) -> tuple[int, ...]:
    """From the step that ended last back to the first."""
    own = [k for k in range(len(steps)) if steps[k].wait >= 0]
    if not own:
        return ()
    chain = [max(own, key=lambda k: steps[k].last_ns)]
    while follows[chain[-1]] >= 0:
        chain.append(follows[chain[-1]])
    return tuple(reversed(chain))


def _saved(steps: Sequence[Step], follows: Sequence[int], mended: int) -> int:
    """How much earlier the last step would be done if one took no more than its floor."""
    ends, begins = [0] * len(steps), [0] * len(steps)
    order = sorted((k for k in range(len(steps)) if steps[k].wait >= 0), key=lambda k: steps[k].first_ns)
    for k in order:
        step, before = steps[k], follows[k]
        if before < 0:
            begins[k] = step.first_ns
        elif step.first_ns + _TOLERANCE_NS >= steps[before].last_ns:  # It waited for that one's end.
            begins[k] = step.first_ns - (steps[before].last_ns - ends[before])
        else:  # For its answer to begin.
            begins[k] = step.first_ns - (
                steps[before].last_ns - ends[before] if before == mended else steps[before].first_ns - begins[before]
            )
        ends[k] = begins[k] + (step.floor_ns if k == mended else step.span_ns)
    return max((steps[k].last_ns for k in order), default=0) - max((ends[k] for k in order), default=0)
