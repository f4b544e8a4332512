"""Who waits on what: the waits in focus, grouped by application, server, client and connection."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.reader import Progress, go_on, step
from yaffle.kernels import kernel
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED, combined
from yaffle.ledger.selection import select
from yaffle.session.behind import behind_words
from yaffle.session.evidence import Evidence
from yaffle.session.measures import counted_packets, edges
from yaffle.session.scene import Scene
from yaffle.units import count, duration, hour, moment

EXCHANGE = 4  # the deepest level
QUARTER_NS = 900 * 10**9


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
    charges: Array  # ns by charge column
    repeats: int
    low_ns: Array  # least of each party's part, in the order of ledger.bounds.BOUNDED
    high_ns: Array  # and most
    rows: Array = field(repr=False)  # rows of the waits

    @property
    def wait_ns(self) -> int:
        """All waiting of the group."""
        return int(self.charges.sum())

    @property
    def level(self) -> int:
        """0 application, 1 server, 2 client, 3 connection, 4 exchange."""
        return len(self.trail) - 1


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
    return "Retransmissions: " + ", ".join(f"{n:,} {words}" for n, words in told if n)


@kernel
def _arrange(code, place, members):  # type: ignore[no-untyped-def]
    """Sorts positions by code, in order within each; place: where the next of each code goes."""
    for i in range(code.size):
        members[place[code[i]]] = i
        place[code[i]] += 1


@kernel
def _summarize(  # type: ignore[no-untyped-def]
    starts, members, rows, wait, charges, owner, client, again, seen_client, seen_connection, values, figures, sums
):
    """Figures of each group: users, median, 95th percentile, worst, repeats; sums of its charges. charges: a row a
    column of the ledger.
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
        figures[k, 1] = select(values, np.int64(0), n, middle)
        figures[k, 2] = select(values, middle, n, high)
        figures[k, 3] = select(values, high, n, n - 1)
    for column in range(charges.shape[0]):
        for k in range(starts.size - 1):
            total = np.int64(0)
            for m in range(starts[k], starts[k + 1]):
                total += charges[column, rows[members[m]]]
            sums[k, column] = total


class Level(Sequence[Group]):
    """The groups below one row of the tree, worst first.

    A group is made when it is asked for: there may be very many.
    """

    def __init__(self, evidence: Evidence, rows: Array, trail: tuple[str, ...]) -> None:
        self._evidence, self._trail, self.rows = evidence, trail, rows
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
        _arrange(code, starts[:-1].copy(), self._members)
        figures, sums = np.zeros((counts.size, 5), np.int64), np.zeros((counts.size, causes.COUNT), np.int64)
        again = account.side(0, "retransmitted_packets") + account.side(1, "retransmitted_packets")
        seen_client, seen_connection = (
            np.zeros(len(evidence.client.texts) + 1, np.int64),
            np.zeros(account.flow.size + 1, np.int64),
        )
        values = np.empty(int(counts.max()) if counts.size else 1, np.int64)
        _summarize(
            starts, self._members, rows, waits.wait_ns, waits.by_column, np.ascontiguousarray(waits.connection),
            evidence.client.codes, again,
            seen_client, seen_connection, values, figures, sums,
        )  # fmt: skip
        single = evidence.bounds[rows]
        self._low, self._high = np.zeros((counts.size, len(BOUNDED))), np.zeros((counts.size, len(BOUNDED)))
        for k, party in enumerate(BOUNDED):
            part = waits.parties[rows, causes.PARTIES.index(party)]
            self._low[:, k], self._high[:, k] = combined(
                part, single[:, 2 * k], single[:, 2 * k + 1], code, counts.size
            )
        held = np.flatnonzero(counts)
        self._order = held[np.argsort(-sums[held].sum(axis=1), kind="stable")]
        self._counts, self._starts, self._figures, self._sums = counts, starts, figures, sums

    def __len__(self) -> int:
        return int(self._order.size)

    def __getitem__(self, place: Any) -> Any:
        if not -len(self) <= place < len(self):
            raise IndexError(place)
        code = int(self._order[place])
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
        for place in range(len(self)):
            if self._name(int(self._order[place]))[0] == key:
                return place
        return -1

    @property
    def widest_ns(self) -> int:
        """The greatest wait of a group."""
        return int(self._sums[self._order[0]].sum()) if len(self) else 1

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


def groups(evidence: Evidence, rows: Array, trail: tuple[str, ...]) -> Sequence[Group]:
    """The next level below a trail, worst first. `rows` are the waits of that trail."""
    return Level(evidence, rows, trail) if len(trail) <= EXCHANGE else ()


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


def summary(scene: Scene) -> str:
    """The waits in focus in a sentence."""
    evidence, rows = scene.evidence, scene.rows
    if not rows.size:
        return "No exchanges here: widen the period or go up a level."
    total = int(evidence.waits.wait_ns[rows].sum())
    parts = evidence.waits.parties[rows].sum(axis=0)
    named = ", ".join(
        f"{party} {100 * parts[i] / total:.0f} %"
        for i, party in enumerate(causes.PARTIES)
        if total and parts[i] > 0.004 * total
    )
    seen = np.zeros(len(evidence.client.texts), bool)
    seen[evidence.client.codes[evidence.waits.connection[rows]]] = True
    users = int(seen.sum())
    return (
        f"{count(rows.size)} exchanges of {count(users)} client{'s' if users != 1 else ''}, total wait"
        f" {duration(total)}{': ' + named if named else ''}"
    )


def trail_rows(evidence: Evidence, rows: Array, trail: tuple[str, ...]) -> Array:
    """Those of the waits that lie on a trail."""
    owner = evidence.waits.connection[rows]
    keep = np.ones(rows.size, bool)
    if len(trail) > 0:
        keep &= evidence.application.codes[owner] == evidence.application.code(trail[0])
    if len(trail) > 1:
        address, _, port = trail[1].rpartition(" ")
        keep &= (evidence.server.codes[owner] == evidence.server.code(address)) & (
            evidence.port[owner] == (int(port) if port.isdigit() else -1)
        )
    if len(trail) > 2:
        keep &= evidence.client.codes[owner] == evidence.client.code(trail[2])
    if len(trail) > 3:
        keep &= owner == (int(trail[3]) if trail[3].isdigit() else -1)
    return rows[keep]


def trail_of(evidence: Evidence, connection: int) -> tuple[str, ...]:
    """The whole trail that leads to a connection."""
    server = evidence.server.texts[evidence.server.codes[connection]]
    return (
        evidence.application.texts[evidence.application.codes[connection]],
        f"{server} {int(evidence.port[connection])}",
        evidence.client.texts[evidence.client.codes[connection]],
        str(connection),
    )


def over_time(evidence: Evidence, rows: Array, edge_ns: Array) -> Array:
    """Charges (bins, columns), ns, of the waits that began in each interval; those outside go to the first or last."""
    bins = edge_ns.size - 1
    place = np.clip(np.searchsorted(edge_ns, evidence.waits.first_ns[rows], "right") - 1, 0, bins - 1)
    sums = np.zeros((bins, causes.COUNT))
    for k in range(causes.COUNT):
        weight = evidence.waits.by_column[k][rows]
        if weight.any():
            sums[:, k] = np.bincount(place, weight, bins)
    return sums


def by_hour(evidence: Evidence, rows: Array) -> tuple[Array, Array]:
    """Charges (24, columns), ns, and number of the waits that began in each hour of the day, in the zone of the
    screen.
    """
    quarter, place = np.unique(evidence.waits.first_ns[rows] // QUARTER_NS, return_inverse=True)
    hours = (
        np.array([hour(int(q) * QUARTER_NS) for q in quarter], np.int64)[place] if rows.size else np.empty(0, np.int64)
    )
    sums = np.zeros((24, causes.COUNT))
    for k in range(causes.COUNT):
        sums[:, k] = np.bincount(hours, evidence.waits.by_column[k][rows], 24)
    return sums, np.bincount(hours, minlength=24)


def distribution(evidence: Evidence, rows: Array, points: int = 200) -> tuple[Array, Array]:
    """Quantiles of the waits: shares (0 to 1) and ns. Nearest rank, so that each is a wait that occurred."""
    wait = np.sort(evidence.waits.wait_ns[rows])
    if not wait.size:
        return np.empty(0), np.empty(0, np.int64)
    shares = np.unique(np.concatenate([np.linspace(0, 1, points), [0.5, 0.9, 0.95, 0.99, 0.999]]))
    return shares, wait[np.maximum(0, np.ceil(shares * wait.size).astype(np.int64) - 1)]


def dearest(evidence: Evidence, rows: Array, columns: Sequence[int] | None, most: int = 1000) -> Array:
    """The waits that paid most for some causes (all: None), dearest first; those that paid nothing are left out."""
    paid = (
        evidence.waits.wait_ns[rows]
        if columns is None
        else evidence.waits.by_column[list(columns)][:, rows].sum(axis=0)
    )
    if rows.size > 4 * most:
        top = np.argpartition(-paid, most)[:most]
        rows, paid = rows[top], paid[top]
    order = np.argsort(-paid, kind="stable")[:most]
    return np.asarray(rows[order][paid[order] > 0])


@dataclass(frozen=True)
class Asked:
    """Exchanges that asked the same, values left out."""

    protocol: str
    label: str
    exchanges: int
    failures: int
    median_ns: int
    p95_ns: int
    charges: Array


def by_label(evidence: Evidence, rows: Array, most: int = 300) -> list[Asked]:
    """What was asked, by labels with their values masked, most waiting first.

    Exchanges of unknown protocols stand together.
    """
    waits, message = evidence.waits, evidence.messages_of(rows)
    asked, failures = evidence.asked
    places = (
        len(asked.texts) + evidence.spoken.codes[waits.connection[rows]]
    )  # Of unknown protocols: together, by what they speak.
    bad = np.zeros(rows.size, bool)
    known = message >= 0
    places[known], bad[known] = asked.codes[message[known]], failures[message[known]]
    names = [tuple(text.split("\n", 1)) for text in asked.texts] + [
        (protocol, "") for protocol in evidence.spoken.texts
    ]
    wait = waits.wait_ns[rows]
    found = []
    order = np.lexsort((wait, places))
    for part in np.split(order, np.flatnonzero(np.diff(places[order])) + 1) if rows.size else []:
        protocol, label = names[int(places[part[0]])]
        n = part.size
        charges = waits.charges[rows[part]].sum(axis=0)
        found.append(
            Asked(
                protocol,
                label,
                n,
                int(bad[part].sum()),
                int(wait[part[(n + 1) // 2 - 1]]),
                int(wait[part[(95 * n + 99) // 100 - 1]]),
                charges,
            )
        )
    return sorted(found, key=lambda a: -int(a.charges.sum()))[:most]


@dataclass(frozen=True)
class ApportionPicture:
    """What stands below the tree for one group."""

    edges_ns: Array
    charges: Array  # (bins, columns)
    own_bps: Array
    rest_bps: Array
    hours: Array  # (24, columns)
    hour_counts: Array
    shares: Array
    quantiles_ns: Array
    all_quantiles_ns: Array
    dearest: Array  # rows of the waits
    asked: list[Asked]
    behind: str  # where the servers' time went, in words; empty where nothing is known behind them


def picture(
    scene: Scene, rows: Array, bins: int, columns: Sequence[int] | None, progress: Progress = go_on
) -> ApportionPicture:
    """Computes it for some waits of the scene; `columns`: the causes that are asked after.

    Raises Cancelled when `progress` says so.
    """
    step(progress, 0.0, "counting over time")
    evidence = scene.evidence
    edge_ns = edges(scene.first_ns, scene.last_ns, max(1, (scene.last_ns - scene.first_ns) // bins))
    spans_s = np.diff(edge_ns) / 1e9
    own = counted_packets(scene, scene.packets_of(rows), edge_ns, None, "wire_bytes") * 8 / spans_s
    everything = counted_packets(scene, scene.in_period, edge_ns, None, "wire_bytes") * 8 / spans_s
    step(progress, 0.3, "sorting the waits")
    hours, hour_counts = by_hour(evidence, rows)
    shares, quantiles = distribution(evidence, rows)
    step(progress, 0.6, "grouping what was asked")
    return ApportionPicture(
        edge_ns, over_time(evidence, rows, edge_ns), own, everything - own, hours, hour_counts, shares, quantiles,
        distribution(evidence, scene.filtered)[1],
        dearest(evidence, rows, columns), by_label(evidence, rows), behind_words(evidence, rows),
    )  # fmt: skip
