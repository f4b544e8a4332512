"""An exchange with its tiers: what lies behind it, however deep, on one time axis, and what of it was waited for."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s
from yaffle.session.behind import behind_words
from yaffle.session.evidence import Evidence
from yaffle.tiers.critical_path import Stretch, critical_path
from yaffle.tiers.hops import times_of
from yaffle.tiers.split import NETWORK, OWN
from yaffle.tiers.tree import Tree, tree_of
from yaffle.units import duration

MOST = 300  # tiers that are shown
SURE = 0.9  # a link less certain than this is drawn as such


@dataclass(frozen=True)
class Tier:
    """One exchange of the picture, below the one behind whose answer it lies."""

    wait: int  # row of the waits
    connection: int
    depth: int
    front: int  # place of the tier in front of it; -1 for the first
    certainty: float  # of that
    server: str
    asked: str
    outcome: str
    first_ns: int
    server_begin_ns: int  # between these two its server had it
    server_end_ns: int
    last_ns: int
    held_ns: int  # how long the first server waited for this one's server alone
    way_ns: int  # and for the network between it and who asked it

    @property
    def span_ns(self) -> int:
        """How long it took."""
        return self.last_ns - self.first_ns


@dataclass(frozen=True)
class TiersPicture:
    """Tiers each below the one in front of it, in order of time."""

    tiers: tuple[Tier, ...]
    path: tuple[Stretch, ...]  # of the first one's server's time; `hop` is a place in tiers
    words: str
    left_out: int

    @property
    def first_ns(self) -> int:
        """When the first one began."""
        return min(tier.first_ns for tier in self.tiers)

    @property
    def span_ns(self) -> int:
        """From then to its end."""
        return max(tier.last_ns for tier in self.tiers) - self.first_ns


def tiered_exchanges(evidence: Evidence, connection: int) -> Int64s:
    """The exchanges of a connection that lie behind another one, or have something behind them, in order of time."""
    behind, account = evidence.analysis.behind, evidence.analysis.account
    first, last = np.searchsorted(account.of_exchange("connection"), [connection, connection + 1])
    rows = np.arange(first, last)
    in_front = np.array([row in behind.in_front for row in rows.tolist()], bool)
    return np.asarray(rows[in_front | np.isin(rows, behind.front[behind.links_among(rows)])])


def foremost(evidence: Evidence, exchange: int) -> int:
    """The exchange in front of all behind which this one lies; itself where there is none."""
    in_front, seen = evidence.analysis.behind.in_front, {exchange}
    while (front := in_front.get(exchange)) is not None and front not in seen:
        seen.add(front)
        exchange = front
    return exchange


def _below(evidence: Evidence, root: int) -> tuple[list[tuple[int, int, int, float]], int]:
    """((exchange, depth, place of the one in front, certainty) of all tiers, how many more there are)."""
    behind, found, left_out = evidence.analysis.behind, [(root, 0, -1, 1.0)], 0
    stack = [(root, 0, 0)]
    seen = {root}
    while stack:
        exchange, depth, place = stack.pop()
        links = behind.links_of(exchange)
        calls = [
            (call, sure)
            for call, sure in zip(behind.call[links].tolist(), behind.certainty[links].tolist(), strict=True)
            if call not in seen
        ]
        for call, sure in calls:
            if len(found) >= MOST:
                left_out += 1
                continue
            seen.add(call)
            found.append((call, depth + 1, place, sure))
            stack.append((call, depth + 1, len(found) - 1))
    return found, left_out


def _in_order(found: list[tuple[int, int, int, float]]) -> list[int]:
    """Places so that each stands below the one in front of it, before that one's next."""
    below: dict[int, list[int]] = {}
    for place, one in enumerate(found):
        below.setdefault(one[2], []).append(place)
    order, stack = [], [0]
    while stack:
        place = stack.pop()
        order.append(place)
        stack += reversed(below.get(place, []))
    return order


def tiers_of_exchange(evidence: Evidence, exchange: int) -> TiersPicture:
    """The tiers of the foremost exchange in front of one."""
    analysis, root = evidence.analysis, foremost(evidence, exchange)
    found, left_out = _below(evidence, root)
    order = _in_order(found)
    place_of = {place: k for k, place in enumerate(order)}
    rows = np.array([found[place][0] for place in order])
    owner = np.array([place_of.get(found[place][2], -1) for place in order])
    tree = tree_of(times_of(analysis.account, analysis.capture.packets, analysis.speaker, rows), owner[np.newaxis])
    path = critical_path(tree, 0)
    tiers = tuple(_tier(evidence, tree, k, found[place], int(owner[k]), path) for k, place in enumerate(order))
    return TiersPicture(tiers, tuple(path), _words(evidence, tiers), left_out)


def _tier(
    evidence: Evidence, tree: Tree, k: int, found: tuple[int, int, int, float], front: int, path: list[Stretch]
) -> Tier:
    exchange, depth, _, certainty = found
    wait = int(evidence.wait_of_exchange[exchange])
    connection = int(evidence.analysis.account.of_exchange("connection")[exchange])
    protocol, asked, outcome = evidence.said(wait)
    held, way = (sum(s.end_ns - s.begin_ns for s in path if s.hop == k and s.kind == kind) for kind in (OWN, NETWORK))
    root = k == 0
    return Tier(
        wait, connection, depth, front, certainty, evidence.application[connection], asked or f"{protocol} exchange",
        outcome, int(tree.begin_ns[k]),
        int(tree.received_ns[k] if root else tree.server_begin_ns[k]),
        int(tree.answered_ns[k] if root else tree.server_end_ns[k]), int(tree.end_ns[k]), held, way,
    )  # fmt: skip


def _words(evidence: Evidence, tiers: tuple[Tier, ...]) -> str:
    first, doubtful = tiers[0], sum(tier.certainty < SURE for tier in tiers[1:])
    text = f"{duration(first.span_ns)} at {first.server}. {behind_words(evidence, np.array([first.wait]))}"
    if doubtful:
        links = f"{doubtful} of {len(tiers) - 1} links {'is' if doubtful == 1 else 'are'}"
        text += f" {links} less than {100 * SURE:.0f} % sure, and drawn broken."
    return text.strip()
