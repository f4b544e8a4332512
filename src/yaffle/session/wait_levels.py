"""The tree of who waits on what: applications, their servers, clients, connections, exchanges; a level at a time."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from yaffle.arrays import Array, Int64s, Int64s2
from yaffle.findings.groups import laid
from yaffle.kernels import int64, kernel
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED, combined
from yaffle.ledger.selection import select
from yaffle.session.behind_groups import before_client, behind_server, tiers_of
from yaffle.session.evidence import Evidence
from yaffle.session.wait_group import EXCHANGE, Group, GroupLevel
from yaffle.units import moment

_SERVER, _CLIENT = 2, 3  # length of the trail of such a row


@kernel
def _summarize(
    code: Int64s,
    starts: Int64s,
    members: Int64s,
    rows: Int64s,
    wait: Int64s,
    charges: Int64s2,
    columns: Int64s,
    owner: Int64s,
    client: Int64s,
    again: Int64s,
    seen_client: Int64s,
    seen_connection: Int64s,
    values: Int64s,
    figures: Int64s2,
    sums: Int64s2,
) -> None:
    """Figures of each group: users, median, 95th percentile, worst, repeats; sums of its charges. code: the group of
    each row; charges: a row a column of the ledger; columns: those that hold anything.
    """
    for k in range(starts.size - 1):
        first, last = starts[k], starts[k + 1]
        users, repeats = 0, 0
        for m in range(first, last):
            row = rows[members[m]]
            values[m - first] = wait[row]
            c = owner[row]
            if seen_connection[c] != k + 1:
                seen_connection[c] = k + 1
                repeats += again[c]
            if seen_client[client[c]] != k + 1:
                seen_client[client[c]] = k + 1
                users += 1
        n = last - first
        figures[k, 0], figures[k, 4] = users, repeats
        if n == 0:
            continue
        middle, high = (n + 1) // 2 - 1, (95 * n + 99) // 100 - 1  # Nearest rank, as everywhere.
        figures[k, 1] = select(values, int64(0), n, middle)
        figures[k, 2] = select(values, middle, n, high)
        figures[k, 3] = select(values, high, n, n - 1)
    for column in columns:
        for i in range(rows.size):
            sums[code[i], column] += charges[column, rows[i]]


class Level(GroupLevel):
    """The groups below one row of the tree, worst first.

    A group is made when it is asked for: there may be very many. beside: what lies behind that row, or in front of it;
    it stands before them.
    """

    def __init__(self, evidence: Evidence, rows: Array, trail: tuple[str, ...], beside: Sequence[Group] = ()) -> None:
        self._evidence, self._trail, self.rows = evidence, trail, rows
        self._beside = beside
        waits, account = evidence.waits, evidence.analysis.account
        owner = waits.connection[rows]
        if len(trail) == EXCHANGE:
            code = np.arange(rows.size)
        else:
            code_of = (
                evidence.application.codes,
                evidence.service,
                evidence.client.codes,
                np.arange(account.flow.size),
            )[len(trail)]
            code = np.ascontiguousarray(code_of[owner]) if rows.size else np.empty(0, np.int64)
        counts = np.bincount(code)
        starts = np.concatenate([[0], np.cumsum(counts)])
        self._members = np.empty(rows.size, np.int64)
        laid(code, starts[:-1].copy(), self._members)
        figures, sums = np.zeros((counts.size, 5), np.int64), np.zeros((counts.size, causes.COUNT), np.int64)
        again = account.side(0, "retransmitted_packets") + account.side(1, "retransmitted_packets")
        seen_client, seen_connection = (
            np.zeros(len(evidence.client.texts) + 1, np.int64),
            np.zeros(account.flow.size + 1, np.int64),
        )
        values = np.empty(int(counts.max()) if counts.size else 1, np.int64)
        _summarize(
            code, starts, self._members, rows, waits.wait_ns, waits.by_column, waits.columns,
            np.ascontiguousarray(waits.connection), evidence.client.codes, again,
            seen_client, seen_connection, values, figures, sums,
        )  # fmt: skip
        self._low, self._high = np.zeros((counts.size, len(BOUNDED))), np.zeros((counts.size, len(BOUNDED)))
        for k, party in enumerate(BOUNDED):
            part = waits.parties[rows, causes.PARTIES.index(party)]
            low, high = evidence.bounds[:, 2 * k][rows], evidence.bounds[:, 2 * k + 1][rows]
            self._low[:, k], self._high[:, k] = combined(part, low, high, code, counts.size)
        held = np.flatnonzero(counts)
        self._order = held[np.argsort(-sums[held].sum(axis=1), kind="stable")]
        self._counts, self._starts, self._figures, self._sums = counts, starts, figures, sums

    def __len__(self) -> int:
        return len(self._beside) + int(self._order.size)

    def __getitem__(self, place: Any) -> Any:
        if not -len(self) <= place < len(self):
            raise IndexError(place)
        place %= len(self)
        if place < len(self._beside):
            return self._beside[place]
        code = int(self._order[place - len(self._beside)])
        key, label = self._name(code)
        users, median, p95, worst, repeats = self._figures[code].tolist()
        rows = self.rows[self._members[self._starts[code] : self._starts[code + 1]]]
        return Group(
            (*self._trail, key),
            label,
            int(self._counts[code]),
            users,
            median,
            p95,
            worst,
            self._sums[code],
            repeats,
            self._low[code],
            self._high[code],
            rows,
        )

    def place_of(self, key: str) -> int:
        """Where the group with this last part of its trail stands; -1 if it is not here."""
        for place, code in enumerate(self._order.tolist()):
            if self._name(code)[0] == key:
                return len(self._beside) + place
        return -1

    @property
    def widest_ns(self) -> int:
        """The greatest wait of a group."""
        own = int(self._sums[self._order[0]].sum()) if self._order.size else 1
        return max([own, *(group.wait_ns for group in self._beside)])

    def _name(self, code: int) -> tuple[str, str]:
        """Part of the trail, and label."""
        evidence, level = self._evidence, len(self._trail)
        if level == 0:
            return evidence.application.texts[code], evidence.application.texts[code]
        if level == 1:
            address, port = evidence.services[code]
            return f"{address} {port}", f"{evidence.places.short(address)}, {address} port {port}"
        if level == 2:
            key = evidence.client.texts[code]
            name = evidence.places.brief(key)
            return key, f"{name}  {key}" if name != key else key
        if level == 3:
            return str(code), f"port {int(evidence.client_port[code])}"
        row = int(self.rows[code])
        protocol, asked, outcome = evidence.said(row)
        began = moment(int(evidence.waits.first_ns[row]))
        if evidence.waits.exchange[row] < 0:
            return str(row), f"{began}  failed connection attempt"
        return str(row), f"{began}  {asked or f'{protocol} exchange'}" + (
            f"  → {outcome}" if outcome not in ("", "answered") else ""
        )


def groups(evidence: Evidence, rows: Int64s, trail: tuple[str, ...]) -> Sequence[Group]:
    """The next level below a trail, worst first. `rows` are the waits of that trail. A server opens into what it waited
    for itself, too, and a client that is a server itself into those it asked for.
    """
    if len(trail) >= _CLIENT:
        _ = evidence.analysis.behind.in_front  # Made here, not by the interface when it asks what opens.
    if len(trail) > EXCHANGE:
        return tiers_of(evidence, rows)
    beside = behind_server(evidence, rows) if len(trail) == _SERVER else ()
    return Level(evidence, rows, trail, beside or (before_client(evidence, rows) if len(trail) == _CLIENT else ()))


def levels_along(evidence: Evidence, rows: Array, trail: tuple[str, ...]) -> list[Sequence[Group]]:
    """The top level of some waits, and the levels that open along a trail; without a trail along its first row."""
    levels = [groups(evidence, rows, ())]
    for part in trail or ("",):
        level = levels[-1]
        place = level.place_of(part) if isinstance(level, Level) and trail else 0 if len(level) else -1
        if place < 0 or level[place].level >= EXCHANGE:
            break
        levels.append(groups(evidence, level[place].rows, level[place].trail))
    return levels
