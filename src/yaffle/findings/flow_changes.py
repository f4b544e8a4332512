"""Changes of the way in time, by flow records: when the traffic between two hosts began to pass other exporters or
interfaces.

Time is cut into stretches; of each is told which interfaces of which exporters reported the two hosts' flows. A change
is where that set becomes another one and stays so: both sides of it must last for two stretches or more. What changed
is told with what was before and after: the packets that each exporter of the way counted, and the highest hop limit.
"""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Structs
from yaffle.capture.addresses import labels_of
from yaffle.findings.flow_labels import exporter_words
from yaffle.findings.flow_source import HeldFlows
from yaffle.records.flow_table import PACKETS
from yaffle.units import count

_STRETCHES = 120
_LEAST_NS = 1_000_000_000
_LASTS = 2  # Stretches that each side of a change must last.
_MOST_PAIRS = 500


@dataclass(frozen=True)
class Side:
    """What was told on one side of a change."""

    stations: tuple[str, ...]  # exporters with their interfaces, in and out
    records: int
    packets: dict[str, float]  # by station, scaled by sampling
    hop_limit: int  # the highest that was told; 0 where none was

    @property
    def words(self) -> str:
        """In words."""
        limit = f", hop limit up to {self.hop_limit}" if self.hop_limit else ""
        packets = "; ".join(f"{station}: {count(round(self.packets[station]))} packets" for station in self.stations)
        return f"{packets}{limit}"


@dataclass(frozen=True)
class WayChange:
    """The traffic from one host to another takes another way from a moment on."""

    source: str
    target: str
    at_ns: int
    within_ns: int  # how exactly the moment is known
    gone: tuple[str, ...]
    come: tuple[str, ...]
    before: Side
    after: Side


def way_changes(held: HeldFlows) -> list[WayChange]:
    """All changes, in order of time; of the pairs of hosts with most bytes. Sums tell none."""
    told = np.array([e.protocol != PACKETS for e in held.exporters] or [False])
    rows = held.rows[told[held.rows["exporter"]]] if held.rows.size else held.rows
    if not rows.size or held.width_ns:
        return []
    source, target = (labels_of(rows[f"{side}_hi"], rows[f"{side}_lo"], rows["ipv6"]) for side in ("src", "dst"))
    wide = len(target.texts)
    pairs, pair = np.unique(source.codes * wide + target.codes, return_inverse=True)
    order = np.argsort(pair, kind="stable")
    parts = np.split(order, np.cumsum(np.bincount(pair))[:-1])
    largest = sorted(range(len(parts)), key=lambda k: -float(rows["octets"][parts[k]].sum()))[:_MOST_PAIRS]
    found = []
    for k in largest:
        own = rows[parts[k]]
        stations, number = np.unique(
            np.stack([own["exporter"].astype(np.int64), own["ingress"], own["egress"]], axis=1),
            axis=0,
            return_inverse=True,
        )
        if stations.shape[0] > 1:
            ends = source.texts[int(pairs[k]) // wide], target.texts[int(pairs[k]) % wide]
            found += _changes(held, own, stations, number.reshape(-1), ends)
    return sorted(found, key=lambda one: one.at_ns)


def _changes(
    held: HeldFlows, rows: Structs, stations: Int64s2, number: Int64s, ends: tuple[str, str]
) -> list[WayChange]:
    first, last = int(rows["first_ns"].min()), int(rows["last_ns"].max())
    width = max(_LEAST_NS, -(-(last - first) // _STRETCHES))
    begin, end = (rows["first_ns"] - first) // width, (np.maximum(rows["last_ns"], rows["first_ns"]) - first) // width
    stretches = int(end.max()) + 1
    active = np.zeros((stations.shape[0], stretches + 1), np.int64)
    np.add.at(active, (number, begin), 1)
    np.add.at(active, (number, end + 1), -1)
    there = np.cumsum(active[:, :-1], axis=1) > 0
    states = [tuple(np.flatnonzero(column).tolist()) for column in there.T]
    runs: list[list[int]] = []  # [first stretch, stretch after the last] of each set that lasts
    for k in range(stretches):
        if runs and states[k] == states[runs[-1][0]]:
            runs[-1][1] = k + 1
        elif states[k]:
            runs.append([k, k + 1])
    runs = [run for run in runs if run[1] - run[0] >= _LASTS]
    merged: list[list[int]] = []
    for run in runs:
        if merged and states[run[0]] == states[merged[-1][0]]:
            merged[-1][1] = run[1]
        else:
            merged.append(run)
    found = []
    for (a, b), (c, d) in pairwise(merged):
        one, two = set(states[a]), set(states[c])
        if not (one - two and two - one):
            continue  # An exporter more or less is no other way: it may only have begun to tell.
        names = [_name(held, *station) for station in stations.tolist()]
        sides = [
            _side(rows, number, names, sorted(state), first + low * width, first + high * width)
            for state, low, high in ((one, a, b), (two, c, d))
        ]
        begun = int(
            rows["first_ns"][np.isin(number, list(two - one)) & (begin >= b - 1)].min(initial=first + c * width)
        )
        ended = int(rows["last_ns"][np.isin(number, list(one - two)) & (end <= c)].max(initial=first + b * width))
        at = min(begun, first + (c + 1) * width)
        found.append(
            WayChange(
                *ends,
                at,
                max(0, begun - ended),
                tuple(names[s] for s in sorted(one - two)),
                tuple(names[s] for s in sorted(two - one)),
                sides[0],
                sides[1],
            )
        )
    return found


def _name(held: HeldFlows, exporter: int, ingress: int, egress: int) -> str:
    told = held.exporters[exporter]
    faces = [told.interfaces.get(n, f"interface {n}") if n >= 0 else "not told" for n in (ingress, egress)]
    return f"{exporter_words(told)} ({faces[0]} to {faces[1]})"


def _side(rows: Structs, number: Int64s, names: list[str], state: list[int], low_ns: int, high_ns: int) -> Side:
    own = (rows["first_ns"] < high_ns) & (rows["last_ns"] >= low_ns) & np.isin(number, state)
    packets = {names[s]: float(rows["packets"][own & (number == s)].sum()) for s in state}
    return Side(tuple(names[s] for s in state), int(own.sum()), packets, int(rows["highest_ttl"][own].max(initial=0)))
