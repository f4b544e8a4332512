"""Who waits on what: the waits in focus, grouped by application, server, client and connection."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from yaffle.arrays import Float64s, Float64s2, Int64s
from yaffle.findings.groups import grouped
from yaffle.ledger import causes
from yaffle.ledger.sums import party_sums
from yaffle.progress import Progress, go_on, step
from yaffle.session.behind import behind_words
from yaffle.session.evidence import Evidence
from yaffle.session.interval_sums import OTHERS, OWN, by_hour, octets_of, over_time
from yaffle.session.measures import edges
from yaffle.session.scene import Scene
from yaffle.units import count, duration


def summary(scene: Scene) -> str:
    """The waits in focus in a sentence."""
    evidence, rows = scene.evidence, scene.rows
    if not rows.size:
        return "No exchanges here: widen the period or go up a level."
    charges = evidence.waits.charged(rows)
    total, parts = int(charges.sum()), party_sums(charges[None, :])[0]
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


def trail_rows(evidence: Evidence, rows: Int64s, trail: tuple[str, ...]) -> Int64s:
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


def distribution(evidence: Evidence, rows: Int64s, points: int = 200) -> tuple[Float64s, Int64s]:
    """Quantiles of the waits: shares (0 to 1) and ns. Nearest rank, so that each is a wait that occurred."""
    wait = np.sort(evidence.waits.wait_ns[rows])
    if not wait.size:
        return np.empty(0), np.empty(0, np.int64)
    shares = np.unique(np.concatenate([np.linspace(0, 1, points), [0.5, 0.9, 0.95, 0.99, 0.999]]))
    return shares, wait[np.maximum(0, np.ceil(shares * wait.size).astype(np.int64) - 1)]


def dearest(evidence: Evidence, rows: Int64s, columns: Sequence[int] | None, most: int = 1000) -> Int64s:
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
    charges: Int64s


def by_label(evidence: Evidence, rows: Int64s, most: int = 300) -> list[Asked]:
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
    order, edges = grouped(places)
    for first, last in pairwise(edges.tolist()):
        part = order[first:last]
        protocol, label = names[int(places[part[0]])]
        middle, high = (part.size + 1) // 2 - 1, (95 * part.size + 99) // 100 - 1  # Nearest rank.
        own = np.partition(wait[part], (middle, high))
        charges = waits.charged(rows[part])
        found.append(Asked(protocol, label, part.size, int(bad[part].sum()), int(own[middle]), int(own[high]), charges))
    return sorted(found, key=lambda a: -int(a.charges.sum()))[:most]


@dataclass(frozen=True)
class ApportionPicture:
    """What stands below the tree for one group."""

    edges_ns: Int64s
    charges: Float64s2  # (bins, columns)
    own_bps: Float64s
    rest_bps: Float64s
    hours: Float64s2  # (24, columns)
    hour_counts: Int64s
    shares: Float64s
    quantiles_ns: Int64s
    all_quantiles_ns: Int64s
    dearest: Int64s  # rows of the waits
    asked: list[Asked]
    behind: str  # where the servers' time went, in words; empty where nothing is known behind them
    volumes: tuple[str, str] = ("these connections", "all other traffic")  # what own_bps and rest_bps are


def picture(
    scene: Scene, rows: Int64s, bins: int, columns: Sequence[int] | None, progress: Progress = go_on
) -> ApportionPicture:
    """Computes it for some waits of the scene; `columns`: the causes that are asked after.

    Raises Cancelled when `progress` says so.
    """
    step(progress, 0.0, "counting over time")
    evidence = scene.evidence
    edge_ns = edges(scene.first_ns, scene.last_ns, max(1, (scene.last_ns - scene.first_ns) // bins))
    spans_s = np.diff(edge_ns) / 1e9
    rates_bps = octets_of(scene, rows, edge_ns) * 8 / spans_s
    step(progress, 0.3, "sorting the waits")
    hours, hour_counts = by_hour(evidence, rows)
    shares, quantiles = distribution(evidence, rows)
    step(progress, 0.6, "grouping what was asked")
    return ApportionPicture(
        edge_ns, over_time(evidence, rows, edge_ns), rates_bps[OWN], rates_bps[OTHERS],
        hours, hour_counts, shares, quantiles, distribution(evidence, scene.filtered)[1],
        dearest(evidence, rows, columns), by_label(evidence, rows), behind_words(evidence, rows),
    )  # fmt: skip
