"""Findings about servers, with what lies behind them: the server that held things up is named, however deep; those in
front of it that waited for it are told with it, and those in between are cleared.
"""

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s
from yaffle.capture.addresses import end_text, server_address
from yaffle.findings.finding import Finding
from yaffle.findings.fronts import HELD_UP, OWN_WORDS, SPENT, join_fronts
from yaffle.ledger import causes
from yaffle.tiers.split import NETWORK, OWN
from yaffle.units import duration

_MOST = 0.5  # of the servers' time: so much at one place behind, and it is that one's fault
_TOLD = 0.005  # of the servers' time: less is not told
WITH_UNSEEN = ", with a server behind that was not seen"
_TOLD_BY_FRONT = 0.5  # of a finding's time: so much behind exchanges of another one, and that tells it


@dataclass(frozen=True)
class Place:
    """Where servers' time went: a server, or the network in front of it."""

    address: str
    port: int
    kind: int


@dataclass(frozen=True)
class Spent:
    """Where the server's time of some exchanges went, ns."""

    own_ns: float
    by_place: dict[Place, float]  # behind it, the most first
    least_ns: dict[Place, float]
    unseen: bool  # whether some of it lies beyond servers whose own requests no point saw: these are in own_ns, too

    @property
    def total_ns(self) -> float:
        """All of it."""
        return self.own_ns + sum(self.by_place.values())

    @property
    def own_words(self) -> str:
        """How long it was their own."""
        return duration(self.own_ns) + (WITH_UNSEEN if self.unseen else "")


def spent_by(analysis: Analysis, rows: Int64s) -> Spent:
    """Where the servers' time of some exchanges went; all of it is their own where nothing is known behind them."""
    parts, account, flows = analysis.behind.parts, analysis.account, analysis.capture.conversations
    server_ns = account.exchange_charges[rows][:, causes.party_columns(causes.SERVER)].sum(axis=1)
    mine, known = analysis.behind.parts_among(rows), analysis.behind.known_of(rows)
    itself = parts.at[mine] == parts.of[mine]
    own = float(server_ns[~known].sum() + parts.ns[mine[itself]].sum())  # All of it where nothing is known behind.
    beyond = mine[~itself]
    key = account.of_exchange("connection")[parts.at[beyond]] * 2 + (parts.kind[beyond] == OWN)
    by_place: defaultdict[Place, float] = defaultdict(float)
    least: defaultdict[Place, float] = defaultdict(float)
    distinct, place_of = np.unique(key, return_inverse=True)
    sums = [np.bincount(place_of.reshape(-1), column[beyond], distinct.size) for column in (parts.ns, parts.least_ns)]
    for one, ns, least_ns in zip(distinct.tolist(), *(column.tolist() for column in sums), strict=True):
        row = int(account.flow[one // 2])
        place = Place(server_address(flows, row), int(flows.b_port[row]), OWN if one % 2 else NETWORK)
        by_place[place] += ns
        least[place] += least_ns
    unseen = not bool(analysis.behind.seen[analysis.behind.links_among(rows)].all())
    return Spent(own, dict(sorted(by_place.items(), key=lambda entry: -entry[1])), least, unseen)


def _is_told_by(analysis: Analysis, finding: Finding, fronts: set[int]) -> bool:
    """Whether most of a finding's time lies behind some exchanges that are not its own."""
    rows, others = np.array(finding.exchanges), np.array(sorted(fronts - set(finding.exchanges)), np.int64)
    wait = analysis.account.exchange_charges[rows].sum(axis=1)
    return bool(wait[analysis.behind.lie_behind(rows, others)].sum() >= _TOLD_BY_FRONT * wait.sum())


def _about(finding: Finding) -> str:
    """The server that a finding is about."""
    return finding.subject.removesuffix(f" for {finding.site}")


def name_who_held_up(analysis: Analysis, of_waits: list[Finding]) -> list[Finding]:
    """The findings, with those about servers told by who held them up. One is left out where another that stays names
    the same server, and most of what it tells lies behind that one's exchanges.
    """
    if not analysis.behind.call.size:
        return of_waits
    found = [_with_what_is_behind(analysis, f) if f.party == causes.SERVER and f.exchanges else f for f in of_waits]
    naming = [f for f in found if HELD_UP in f.grounds]
    told: list[Finding] = []
    for finding in found:
        if finding.party == causes.SERVER and finding.exchanges:
            fronts = {
                row
                for other in naming
                if other is not finding and other not in told and _about(other) == _about(finding)
                for row in other.exchanges
            }
            if _is_told_by(analysis, finding, fronts):
                told.append(finding)
    return join_fronts(analysis, [f for f in found if f not in told])


def _with_what_is_behind(analysis: Analysis, finding: Finding) -> Finding:
    """A finding about a server, with where its time went; about another one where that held it up."""
    spent = spent_by(analysis, np.array(finding.exchanges))
    if not spent.by_place:
        return finding
    worst, ns = next(iter(spent.by_place.items()))
    grounds = {
        **finding.grounds,
        "own_ms": spent.own_ns / 1e6,
        "behind": [
            {"server": end_text(p.address, p.port), "network": p.kind != OWN, "ms": part / 1e6}
            for p, part in list(spent.by_place.items())[:8]
        ],
    }
    if ns < _MOST * spent.total_ns or finding.cause == "window":  # How a server reads is its own affair.
        return replace(finding, grounds=grounds)
    front = _about(finding)
    name = f"{analysis.places.application(worst.address, worst.port)} ({end_text(worst.address, worst.port)})"
    app = analysis.places.application(worst.address, worst.port)
    what = name if worst.kind == OWN else f"the network in front of {name}"
    sentence = (
        f"{finding.sentence} Behind it, {what} took {duration(ns)} of {duration(spent.total_ns)} in all;"
        f" {front} itself took {spent.own_words}."
    )
    sure = spent.least_ns[worst] / ns
    step = finding.next_step.replace(f"Ask the owners of {front} what it was", f"Ask the owners of {app} what it was")
    step = step.replace(", or servers behind it.", "; it waited for nobody that was seen.")
    if worst.kind != OWN:
        step = f"Look at the path to {app} from the servers in front of it."
    return replace(
        finding,
        subject=f"{app} for {finding.site}",
        sentence=sentence,
        next_step=step,
        confidence=round(min(finding.confidence, 0.5 + 0.5 * sure), 2),
        grounds={
            **grounds,
            HELD_UP: front,
            SPENT: [ns / 1e6, spent.total_ns / 1e6],
            OWN_WORDS: spent.own_words,
            "ruled_out": f"{finding.grounds['ruled_out']} {_cleared(analysis, spent, worst)}",
        },
    )


def split_in_words(spent: Spent, name: Callable[[str, int], str], exchanges: int) -> str:
    """Where the time of the servers of so many exchanges went, for people; empty where nothing is known behind them.
    name: of an address and port.
    """
    if not spent.by_place:
        return ""
    parts = [
        f"{'' if p.kind == OWN else 'network to '}{name(p.address, p.port)} {duration(ns)}"
        for p, ns in spent.by_place.items()
        if ns >= _TOLD * spent.total_ns
    ]
    whose, own = ("the server's", "its own") if exchanges == 1 else ("the servers'", "their own")
    return f"Of {whose} {duration(spent.total_ns)}: {', '.join([*parts, f'{own} {spent.own_words}'])}."


def _cleared(analysis: Analysis, spent: Spent, worst: Place) -> str:
    """Who else was in it, and took little."""
    others = [
        f"{analysis.places.application(p.address, p.port)} {duration(ns)}"
        for p, ns in list(spent.by_place.items())[:4]
        if p != worst and p.kind == OWN
    ]
    return f"Beside it: {', '.join(others)}." if others else ""


def behind_in_words(analysis: Analysis, connection: int) -> str:
    """Where a connection's server's time went, for its verdict; empty where nothing is known behind it."""
    owner = analysis.account.of_exchange("connection")
    spent = spent_by(analysis, np.arange(*np.searchsorted(owner, [connection, connection + 1])))
    if not spent.by_place:
        return ""
    place, ns = next(iter(spent.by_place.items()))
    where = end_text(place.address, place.port)
    return (
        f" Behind it: {'' if place.kind == OWN else 'the network to '}{where} {duration(ns)},"
        f" the server itself {spent.own_words}."
    )
