"""What one analysis says of each minute: rows of `waits` by client, and questions with their answers."""

from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Bools, Int64s, Int64s2
from yaffle.capture.packets import SYN
from yaffle.exchanges.lookup import LOOKUPS
from yaffle.findings.services import failed
from yaffle.history.wait_rows import BIN_COUNTS, BINS, BOUNDS, CHARGES, KEYS, MINUTE_NS, SUMS, bins_of, rows_of
from yaffle.radio.frames import address_text
from yaffle.session.evidence import Evidence
from yaffle.transport.kinds import KIND_MASK, REPEAT_CLOSE, REPEAT_TIMEOUT

_FIGURES = tuple(name for name in SUMS if name not in ("captured_packets", "dropped_packets", "covered_ns"))
_PLACE = {name: k for k, name in enumerate(_FIGURES)}
_MOST_BINS = 1 << 12  # more than there are bins of waits
_PATIENCE_NS = 30 * 10**9  # after which a question without an answer is told as such

Key = tuple[int, str, str, int, str, str]  # minute, application, server, port, site, client


@dataclass
class Sums:
    """Of one minute of one client at one server. cells: waits by bin of the histogram."""

    figures: Int64s
    cells: dict[int, int]

    def minus(self, other: "Sums | None") -> "Sums":
        """What is to be added to the other to have this."""
        if other is None:
            return self
        cells = {k: self.cells.get(k, 0) - other.cells.get(k, 0) for k in self.cells.keys() | other.cells.keys()}
        return Sums(self.figures - other.figures, {k: n for k, n in cells.items() if n})

    def plus(self, other: "Sums | None") -> "Sums":
        """Both together."""
        return self if other is None else self.minus(Sums(-other.figures, {k: -n for k, n in other.cells.items()}))

    @property
    def is_nothing(self) -> bool:
        """Whether adding it changes nothing."""
        return not self.figures.any() and not self.cells


NOTHING = Sums(np.zeros(len(_FIGURES), np.int64), {})


def minutes_of(evidence: Evidence) -> dict[Key, Sums]:
    """All minutes of an analysis. An exchange counts in the minute in which it ended, a connection in that of its first
    SYN, a retransmission in that in which it was captured.
    """
    waits, account = evidence.waits, evidence.analysis.account
    ends = _labels(evidence)
    figures = np.zeros((waits.end_ns.size, len(_FIGURES)), np.int64)
    figures[:, _PLACE["exchanges"]] = 1
    figures[:, _PLACE["failures"]] = _failures(evidence)
    for k, name in enumerate(CHARGES):
        figures[:, _PLACE[name]] = waits.by_column[k]
    for k, name in enumerate(BOUNDS):
        figures[:, _PLACE[name]] = evidence.bounds[:, k]
    sets = [(waits.end_ns // MINUTE_NS, waits.connection, figures)]
    opened = np.flatnonzero(evidence.speaks & _began(evidence))
    sets.append((account.fact("first_ns")[opened] // MINUTE_NS, opened, _ones("connections", opened.size)))
    for name, (rows, owner) in _repeats(evidence).items():
        sets.append((evidence.analysis.capture.packets.time_ns[rows] // MINUTE_NS, owner, _ones(name, rows.size)))
    minute, owner, values = (np.concatenate(parts) for parts in zip(*sets, strict=True))
    found: dict[Key, Sums] = {}
    slots, place = np.unique(minute * len(ends.text) + ends.code[owner], return_inverse=True)
    order = np.argsort(place, kind="stable")
    begins = np.searchsorted(place[order], np.arange(slots.size))
    sums = np.add.reduceat(values[order], begins) if slots.size else values
    keys: list[Key] = [
        (slot // len(ends.text) * MINUTE_NS, *ends.text[slot % len(ends.text)]) for slot in slots.tolist()
    ]
    for key, row in zip(keys, sums, strict=True):
        found[key] = Sums(row, {})
    cells, count = np.unique(place[: waits.end_ns.size] * _MOST_BINS + bins_of(waits.wait_ns), return_counts=True)
    for cell, many in zip(cells.tolist(), count.tolist(), strict=True):
        found[keys[cell // _MOST_BINS]].cells[cell % _MOST_BINS] = many
    return found


def _ones(name: str, rows: int) -> Int64s2:
    figures = np.zeros((rows, len(_FIGURES)), np.int64)
    figures[:, _PLACE[name]] = 1
    return figures


@dataclass(frozen=True)
class _Ends:
    """Of each connection a number, and what it stands for."""

    code: Int64s
    text: list[tuple[str, str, int, str, str]]


def _labels(evidence: Evidence) -> _Ends:
    code = np.zeros(evidence.port.size, np.int64)
    columns = (
        evidence.application.codes, evidence.server.codes, evidence.port, evidence.site.codes, evidence.client.codes,
    )  # fmt: skip
    for column in columns:  # Numbered anew from column to column, so that numbers stay small.
        _, code = np.unique(code * (int(column.max(initial=0)) + 1) + column, return_inverse=True)
    _, first = np.unique(code, return_index=True)
    kinds = np.stack([column[first] for column in columns])
    names = (evidence.application.texts, evidence.server.texts, None, evidence.site.texts, evidence.client.texts)
    text = [
        tuple(part if own is None else own[part] for own, part in zip(names, kind, strict=True))
        for kind in kinds.T.tolist()
    ]
    return _Ends(code, text)  # type: ignore[arg-type]


def _failures(evidence: Evidence) -> Bools:
    """Of each wait whether it ended in a failure: an answer that says so, or an opening that failed."""
    bad = evidence.waits.exchange < 0
    message = evidence.messages_of(np.arange(bad.size))
    has = np.flatnonzero(message >= 0)
    if has.size:
        messages = evidence.analysis.messages
        owner = evidence.waits.connection[has].tolist()
        bad[has] = [
            failed(messages.protocol.get(c, "tcp"), messages.outcome_of(m, a))
            for c, m, a in zip(owner, message[has].tolist(), evidence.answered(has).tolist(), strict=True)
        ]
    return bad


def _began(evidence: Evidence) -> Bools:
    """Of each connection whether its first packet is a SYN."""
    capture, account = evidence.analysis.capture, evidence.analysis.account
    first = evidence.first_packet[account.flow] if account.flow.size else np.empty(0, np.int64)
    return np.asarray(capture.packets.flags[first] & SYN != 0)


def _repeats(evidence: Evidence) -> dict[str, tuple[Array, Array]]:
    """Of retransmissions and timeouts the packets, and whose they are."""
    capture, account = evidence.analysis.capture, evidence.analysis.account
    packets = capture.packets
    kind = packets.kind & KIND_MASK
    rows = np.flatnonzero((kind >= REPEAT_TIMEOUT) & (kind <= REPEAT_CLOSE) & evidence.packet_counts)
    row_of = np.full(capture.conversations.point.size + 1, -1)
    row_of[account.flow] = np.arange(account.flow.size)
    owner = row_of[packets.flow[rows]]
    rows, owner = rows[owner >= 0], owner[owner >= 0]
    timed_out = kind[rows] == REPEAT_TIMEOUT
    return {"retransmissions": (rows, owner), "timeouts": (rows[timed_out], owner[timed_out])}


def table_of(sums: dict[Key, Sums], capture: str, run: int) -> pa.Table:
    """As rows of the history."""
    keys = list(sums)
    columns: dict[str, object] = {"time_ns": [key[0] for key in keys], "capture": [capture] * len(keys)}
    columns |= {name: [key[k] for key in keys] for k, name in enumerate(KEYS[1:], 1)}
    columns |= {name: [int(one.figures[k]) for one in sums.values()] for k, name in enumerate(_FIGURES)}
    cells = [sorted(one.cells.items()) for one in sums.values()]
    columns[BINS], columns[BIN_COUNTS] = ([[cell[k] for cell in own] for own in cells] for k in (0, 1))
    return rows_of(columns | {"clients": [1] * len(keys), "run": [run] * len(keys)})


def sums_of(table: pa.Table) -> dict[Key, Sums]:
    """The reverse, rows of one minute and client put together."""
    found: dict[Key, Sums] = {}
    for row in table.to_pylist():
        key: Key = (row["time_ns"], *(row[name] for name in KEYS[1:]))
        own = Sums(
            np.array([row[name] for name in _FIGURES], np.int64), dict(zip(row[BINS], row[BIN_COUNTS], strict=True))
        )
        found[key] = own.plus(found.get(key))
    return found


AIR, MOVED = "802.11", "moved"  # protocol and outcome of a station that went to another access point
QUESTION = pa.schema(
    [("time_ns", pa.int64())]
    + [(name, pa.string()) for name in ("capture", "protocol", "client", "server", "name", "kind", "outcome")]
    + [("latency_ns", pa.int64()), ("tries", pa.int64()), ("failed", pa.bool_())]
)


def questions_of(evidence: Evidence, until_ns: int) -> dict[tuple[int, str, str, str], tuple[object, ...]]:
    """Look-ups, leases and sign-ons that were answered before a moment, or were silent for long, and moves of stations
    on the air: rows of QUESTION without the capture, by what each is known by.
    """
    found = _moves_of(evidence, until_ns)
    for one in evidence.analysis.lookups.rows:
        answered = 0 <= one.answered_ns < until_ns
        if one.protocol in LOOKUPS and (answered or one.asked_ns + _PATIENCE_NS < until_ns):
            found[(one.asked_ns, one.protocol, one.client, one.name)] = (
                one.asked_ns, one.protocol, one.client, one.server, one.name, one.kind, one.outcome,
                one.latency_ns, one.tries, failed(one.protocol, one.outcome),
            )  # fmt: skip
    return found


def _moves_of(evidence: Evidence, until_ns: int) -> dict[tuple[int, str, str, str], tuple[object, ...]]:
    """Sign-ons at another access point: name is the one before, latency the time without data; and what failed."""
    found: dict[tuple[int, str, str, str], tuple[object, ...]] = {}
    for station in evidence.analysis.radio.stations:
        for one in station.course.roams:
            if one.time_ns + _PATIENCE_NS < until_ns:
                old, new = address_text(one.old), address_text(one.new)
                found[(one.time_ns, AIR, station.address, old)] = (
                    one.time_ns, AIR, station.address, new, old, one.kind, MOVED, one.gap_ns, 1, False,
                )  # fmt: skip
        for bad in station.course.failures:
            if bad.time_ns + _PATIENCE_NS < until_ns:
                place, code = address_text(bad.bssid), f" ({bad.code})" if bad.code >= 0 else ""
                found[(bad.time_ns, AIR, station.address, place)] = (
                    bad.time_ns, AIR, station.address, place, place, bad.stage, f"failed{code}", -1, 1, True,
                )  # fmt: skip
    return found
