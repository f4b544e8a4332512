"""Who waited on what, from the waits that a history keeps by the minute: the tree down to hours, and what stands below
it, as from packets.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Float64s, Float64s2, Int64s
from yaffle.findings.flow_labels import BETWEEN, FlowLabels
from yaffle.findings.flow_source import held_flows
from yaffle.history.layout import HOUR_NS, Level
from yaffle.history.wait_rows import BIN_COUNTS, BINS, CHARGES, quantile, values_of
from yaffle.history.wait_sums import Grouping, WaitHistory, text
from yaffle.ledger import causes
from yaffle.ledger.bounds import FIELDS
from yaffle.progress import Progress, go_on, step
from yaffle.session.apportion import ApportionPicture
from yaffle.session.evidence import Evidence
from yaffle.session.flow_parts import octets_over
from yaffle.session.kept_names import application_of
from yaffle.session.measures import edges
from yaffle.session.scene import Scene
from yaffle.session.wait_group import Group, GroupLevel
from yaffle.units import count, date_and_moment, duration, hour

APPLICATION, SERVER, CLIENT, HOUR = range(4)
_SITE = "site "  # begins the third part of a trail where clients are not kept any more
_VOLUMES = ("this application, flow records", "all other traffic, flow records")
_SHARES = tuple(k / 200 for k in range(1, 200))


@dataclass(frozen=True)
class KeptWaits:
    """Of one state of the focus."""

    evidence: Evidence
    first_ns: int
    last_ns: int

    @cached_property
    def kept(self) -> WaitHistory:
        """Where they are kept."""
        history = self.evidence.analysis.history
        assert history is not None
        return history.waits

    @cached_property
    def level(self) -> Level:
        """How fine they are kept of this period."""
        return self.kept.coarsest(self.first_ns, self.last_ns)

    @property
    def words(self) -> str:
        """What they are, for people."""
        return f"from {self.level.words} kept in the history"

    @cached_property
    def application(self) -> str:
        """The application as SQL: as the user names it, else as it was kept."""
        return application_of(self.kept, self.evidence.places, self.first_ns, self.last_ns)

    def where(self, trail: tuple[str, ...]) -> str:
        """Rows on a trail, as SQL."""
        parts = ["application <> ''"]
        if trail:
            parts.append(f"({self.application}) = {text(trail[APPLICATION])}")
        if len(trail) > SERVER:
            address, _, port = trail[SERVER].rpartition(" ")
            parts.append(f"server = {text(address)} AND port = {int(port) if port.isdigit() else -1}")
        if len(trail) > CLIENT:
            name = trail[CLIENT]
            own = f"site = {text(name.removeprefix(_SITE))} AND client = ''" if name.startswith(_SITE) else ""
            parts.append(own or f"client = {text(name)}")
        if len(trail) > HOUR:
            begin = int(trail[HOUR]) if trail[HOUR].isdigit() else -1
            parts.append(f"time_ns >= {begin} AND time_ns < {begin + HOUR_NS}")
        return " AND ".join(parts)

    def _asked(self, keys: dict[str, str], trail: tuple[str, ...] | None) -> pa.Table:
        where = "application <> ''" if trail is None or not trail else self.where(trail)
        return self.kept.asked(Grouping(keys, where), self.first_ns, self.last_ns, self.level)

    def groups(self, trail: tuple[str, ...]) -> "KeptLevel":
        """The next level below a trail, worst first. Raises HistoryError."""
        client = f"CASE WHEN client <> '' THEN client ELSE '{_SITE}' || site END"
        key = (
            self.application,
            "server || ' ' || port",
            client,
            f"time_ns // {HOUR_NS} * {HOUR_NS}",
        )[len(trail)]
        rows = self._asked({"part": key}, trail).to_pylist()
        return KeptLevel([self._group(trail, row) for row in rows])

    def _group(self, trail: tuple[str, ...], row: dict[str, Any]) -> Group:
        part = str(row["part"])
        bins, counts = np.array(row[BINS] or [], np.int64), np.array(row[BIN_COUNTS] or [], np.int64)
        bounds = np.array([row[name] for name in FIELDS], np.float64)
        begin = row["part"] if len(trail) == HOUR else 0
        return Group(
            (*trail, part), self._label(len(trail), part), row["exchanges"], row["clients"],
            quantile(bins, counts, 0.5), quantile(bins, counts, 0.95), quantile(bins, counts, 1.0),
            np.array([row[name] for name in CHARGES], np.int64), row["retransmissions"],
            bounds[0::2], bounds[1::2], np.empty(0, np.int64),
            period=(begin, begin + HOUR_NS - 1) if begin else None,
        )  # fmt: skip

    def _label(self, level: int, part: str) -> str:
        places = self.evidence.places
        if level == SERVER:
            address, _, port = part.rpartition(" ")
            return f"{places.short(address)}, {address} port {port}"
        if level == CLIENT:
            if part.startswith(_SITE):
                return f"{part.removeprefix(_SITE)} (all clients)"
            name = places.brief(part)
            return f"{name}  {part}" if name != part else part
        return date_and_moment(int(part)) if level == HOUR else part

    def levels_along(self, trail: tuple[str, ...]) -> list[GroupLevel]:
        """The top level, and the levels that open along a trail; without a trail along its first row."""
        levels: list[GroupLevel] = [self.groups(())]
        for part in trail or ("",):
            level = levels[-1]
            place = level.place_of(part) if trail else 0 if len(level) else -1
            if place < 0 or level[place].level >= HOUR:
                break
            levels.append(self.groups(level[place].trail))
        return levels

    def summary(self, trail: tuple[str, ...]) -> str:
        """The waits in focus in a sentence."""
        rows = self._asked({"all_of_it": "1"}, trail).to_pylist()
        if not rows or not rows[0]["exchanges"]:
            return "No waits are kept of this period: widen it, or go up a level."
        row = rows[0]
        charges = np.array([row[name] for name in CHARGES], np.int64)
        total = max(1, int(charges.sum()))
        sums = {party: int(charges[causes.party_columns(party)].sum()) for party in causes.PARTIES}
        named = ", ".join(f"{party} {100 * own / total:.0f} %" for party, own in sums.items() if own > 0.004 * total)
        covered = self._covered()
        return f"{count(row['exchanges'])} exchanges, total wait {duration(total)}: {named} ({self.words}){covered}"

    def _covered(self) -> str:
        """What of the period was not captured whole, in words."""
        rows = self.kept.asked(
            Grouping({"all_of_it": "1"}, "application = ''"), self.first_ns, self.last_ns, self.level
        ).to_pylist()
        lost = rows[0]["dropped_packets"] if rows else 0
        captured = rows[0]["captured_packets"] if rows else 0
        return f"; {count(lost)} of {count(lost + captured)} packets were dropped by captures" if lost else ""

    def picture(self, group: Group, bins: int, progress: Progress = go_on) -> ApportionPicture:
        """What stands below the tree for a group. Raises HistoryError; Cancelled when `progress` says so."""
        width = max(self.level.width_ns, (self.last_ns - self.first_ns) // bins)
        width = -(-width // self.level.width_ns) * self.level.width_ns
        begin = self.first_ns // width * width
        edge_ns = edges(begin, max(self.last_ns, begin + width), width)
        step(progress, 0.0, "counting over time")
        rows = self._asked({"at": f"(time_ns - {begin}) // {width}"}, group.trail)
        charges = np.zeros((edge_ns.size - 1, causes.COUNT))
        place = np.clip(rows["at"].to_numpy(), 0, edge_ns.size - 2)
        for k, name in enumerate(CHARGES):
            np.add.at(charges[:, k], place, rows[name].to_numpy())
        step(progress, 0.4, "reading what else passed")
        own, rest = self._volumes(group, edge_ns)
        hours, counts = self._by_hour(group)
        return ApportionPicture(
            edge_ns, charges, own, rest, hours, counts, *self._lengths(group),
            self._lengths(None)[1], np.empty(0, np.int64), [], "", _VOLUMES,
        )  # fmt: skip

    def _by_hour(self, group: Group) -> tuple[Float64s2, Int64s]:
        hours, counts = np.zeros((24, causes.COUNT)), np.zeros(24, np.int64)
        for row in self._asked({"at": f"time_ns // {HOUR_NS} * {HOUR_NS}"}, group.trail).to_pylist():
            hours[hour(row["at"])] += [row[name] for name in CHARGES]
            counts[hour(row["at"])] += row["exchanges"]
        return hours, counts

    def _lengths(self, group: Group | None) -> tuple[Float64s, Int64s]:
        """(shares, waits) of a group, or of all."""
        rows = self._asked({"all_of_it": "1"}, group.trail if group is not None else ()).to_pylist()
        shares = np.unique(np.array([0.0, *_SHARES, 0.99, 0.999, 1.0]))
        if not rows or not rows[0][BINS]:
            return shares, np.zeros(shares.size, np.int64)
        counts = np.cumsum(rows[0][BIN_COUNTS])
        place = np.searchsorted(counts, np.maximum(1, np.ceil(shares * counts[-1] - 1e-9)))
        return shares, values_of(np.array(rows[0][BINS])[place])

    def _volumes(self, group: Group, edge_ns: Int64s) -> tuple[Float64s, Float64s]:
        """What flow records say passed meanwhile, bit/s: of this application, and of all others; to and from the site,
        where the trail leads to one. By the exporter that told most of that.
        """
        bins = edge_ns.size - 1
        first, last = int(edge_ns[0]), int(edge_ns[-1])
        held = held_flows(self.evidence.analysis, first, last)
        rows = held.rows
        if (site := self._site(group.trail)) and rows.size:
            pairs = FlowLabels(held, rows, self.evidence.places).by("site pair")
            touched = np.array([site in pair.split(BETWEEN) for pair in pairs.texts], bool)
            rows = rows[touched[pairs.codes]]
        if not rows.size:
            return np.zeros(bins), np.zeros(bins)
        most = int(np.argmax(np.bincount(rows["exporter"], rows["octets"])))
        rows = rows[rows["exporter"] == most]
        labels = FlowLabels(held, rows, self.evidence.places).by("application")
        mine = labels.codes == labels.code(group.trail[0])
        seconds = np.diff(edge_ns) / 1e9
        own, rest = (octets_over(rows[mask], first, last, bins) * 8 / seconds for mask in (mine, ~mine))
        return own, rest

    def _site(self, trail: tuple[str, ...]) -> str:
        """The site to which a trail leads; empty above that."""
        if len(trail) <= CLIENT:
            return ""
        own = trail[CLIENT]
        return own.removeprefix(_SITE) if own.startswith(_SITE) else self.evidence.places.site(own)


class KeptLevel(GroupLevel):
    """Groups of kept waits, worst first."""

    def __init__(self, groups: Sequence[Group]) -> None:
        self._groups = sorted(groups, key=lambda group: -group.wait_ns)
        self._places = {group.trail[-1]: k for k, group in enumerate(self._groups)}

    def __len__(self) -> int:
        return len(self._groups)

    def __getitem__(self, place: Any) -> Any:
        return self._groups[place]

    def place_of(self, key: str) -> int:
        return self._places.get(key, -1)

    @property
    def widest_ns(self) -> int:
        return self._groups[0].wait_ns if self._groups else 1


def kept_waits(scene: Scene) -> KeptWaits | None:
    """Those of the focus, where the packets tell of no wait in it and a history keeps some; None elsewhere."""
    history = scene.evidence.analysis.history
    if history is None or scene.filtered.size or (span := history.waits.span) is None:
        return None
    first, last = max(scene.first_ns, span[0]), min(scene.last_ns, span[1])
    if first >= last:
        return None
    width = history.waits.coarsest(first, last).width_ns  # An hour that is kept whole counts where the period begins.
    return KeptWaits(scene.evidence, first // width * width, last)
