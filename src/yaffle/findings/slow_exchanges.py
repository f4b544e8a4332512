"""Findings of waits: many slow exchanges with one cause become one sentence with its grounds and the next step."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Float64s, Int64s, Int64s2
from yaffle.capture.addresses import Labels, client_labels, server_labels
from yaffle.findings.certainty import bounds_of_groups, confidences, could_be_nil
from yaffle.findings.failed_openings import failed_openings
from yaffle.findings.finding import Finding, severity_of
from yaffle.findings.groups import grouped
from yaffle.findings.location import seen_close_by
from yaffle.findings.slow_group import SlowGroup
from yaffle.findings.slow_words import said_of
from yaffle.findings.verdict import AVOIDABLE, FELT_REPAIR_NS, SLOW_EXCHANGE_NS, SLOW_TOTAL_NS, moved_paths
from yaffle.halves import in_halves
from yaffle.ledger import bounds, causes
from yaffle.ledger.sums import by_party, totals
from yaffle.units import duration

_LEAST_LOST_NS = 300_000_000  # A finding costs its users at least this much in all,
_LEAST_SHARE = 0.01  # and at least this share of what the worst one costs.
_WHILE_IT_GROWS = 12  # findings of waits that are worked out at each look at captures that grow
_PORTS = 65537  # and none
_BESIDE_THE_SITE = np.array([1, 0, 2, 2])  # by party: nothing, the port, the server and port are told apart
_WIDE = 0.1  # Bounds further apart than this share of the estimate are told.


def _slow_exchanges(analysis: Analysis, speaker: Int64s, sums: Int64s2) -> Int64s:
    """Rows of exchanges that made someone wait, seen where they speak. sums: of all, by party."""
    account = analysis.account
    owner = account.of_exchange("connection")
    felt = totals(sums) >= SLOW_EXCHANGE_NS
    short = np.flatnonzero(~felt)  # Most are either slow or short and well.
    avoidable = np.intersect1d(AVOIDABLE, account.charged)
    felt[short] = sum(account.exchange_charges[short, column] for column in avoidable.tolist()) >= FELT_REPAIR_NS
    some = np.zeros(account.flow.size, bool)
    some[owner[felt]] = True
    chatty = (account.fact("wait_ns") >= SLOW_TOTAL_NS) & ~some
    return np.flatnonzero((felt | chatty[owner]) & (speaker[owner] == owner))


@dataclass(frozen=True)
class _Blamed:
    """Exchanges that made someone wait, with whom each is laid to.

    rows: of the exchanges; sums: int64 (n, parties), ns; party, column: the party and the charge that is named;
    own_ns: the part of that party.
    """

    rows: Int64s
    sums: Int64s2
    party: Int64s
    column: Int64s
    own_ns: Int64s


def _blamed(analysis: Analysis, speaker: Int64s) -> _Blamed:
    """Who is to blame for each exchange that made someone wait: nobody whose part may be none."""
    account = analysis.account
    sums, heaviest = by_party(account.exchange_charges, account.charged)
    rows = _slow_exchanges(analysis, speaker, sums)
    if rows.size < sums.shape[0]:
        sums, heaviest = np.take(sums, rows, axis=0), np.take(heaviest, rows, axis=0)
    low = [account.of_exchange(f"{name}_low_ns") for name in bounds.BOUNDED]
    party, column, own_ns = (np.empty(rows.size, np.int64) for _ in range(3))

    def work(half: slice) -> None:
        party[half] = np.argmax(sums[half], axis=1)
        nil = could_be_nil(sums[half], party[half], np.stack([one[rows[half]] for one in low], axis=1))
        column[half] = heaviest[np.arange(half.start, half.stop), party[half]]
        party[half][nil], column[half][nil] = causes.PARTIES.index(causes.UNEXPLAINED), causes.UNSEEN
        own_ns[half] = sums[np.arange(half.start, half.stop), party[half]]

    in_halves(work, rows.size)
    return _Blamed(rows, sums, party, column, own_ns)


@dataclass(frozen=True)
class _Groups:
    """Exchanges by what is said of them together: rows of `_Blamed` in order, and where each group begins."""

    order: Int64s
    edges: Int64s
    column: Int64s  # of each exchange, the charge under which it is told
    site: Labels  # of each connection that has any
    place: Int64s  # of each exchange, its connection among these


def _grouped(analysis: Analysis, blamed: _Blamed) -> _Groups:
    """Groups of one party, cause, site and, where that is to blame, server."""
    account, flows = analysis.account, analysis.capture.conversations
    rows, column = blamed.rows, blamed.column.copy()
    owner = account.exchange[rows, 0]
    new = np.diff(owner, prepend=-1) > 0  # Exchanges stand in order of their connections.
    flow, place = account.flow[owner[new]], np.cumsum(new) - 1
    site = client_labels(flows, flow).named(analysis.places.site)
    server, port = server_labels(flows, flow), flows.b_port[flow].astype(np.int64)
    nobody, width = site.codes * (len(server.texts) + 1), max(1, len(site.texts)) * (len(server.texts) + 1) * _PORTS
    told = np.stack([nobody * _PORTS, nobody * _PORTS + port + 1, (nobody + server.codes + 1) * _PORTS + port + 1])
    keys = np.empty(rows.size, np.int64)

    def work(half: slice) -> None:
        party, own = blamed.party[half], column[half]
        named = (own == causes.NAME) | (own == causes.SERVER_NAME)
        # What was lost is told before what it had to wait for besides; a slow pace and full queues are one story.
        felt = account.exchange_charges[rows[half], causes.LOSS] >= FELT_REPAIR_NS
        own[felt & (party == causes.PARTIES.index(causes.NETWORK))] = causes.LOSS
        own[own == causes.RATE] = causes.QUEUEING
        beside = _BESIDE_THE_SITE[party]
        beside[named] = 0
        keys[half] = (party * causes.COUNT + own) * width + told[beside, place[half]]

    in_halves(work, rows.size)
    return _Groups(*grouped(keys), column, site, place)


def find(analysis: Analysis, speaker: Int64s) -> list[Finding]:
    """All findings of waits, worst first. Healthy traffic gives none."""
    places = analysis.places
    blamed = _blamed(analysis, speaker)
    groups = _grouped(analysis, blamed)
    begins, ends = groups.edges[:-1], groups.edges[1:]
    found = [
        f
        for f in failed_openings(analysis, places, speaker)
        if f.lost_ns >= _LEAST_LOST_NS or f.cause in ("refused", "unanswered")
    ]
    lost = np.add.reduceat(blamed.own_ns[groups.order], begins) if blamed.rows.size else groups.order
    worst = max([*lost[lost >= _LEAST_LOST_NS].tolist(), *(f.lost_ns for f in found)], default=0)
    moved = np.asarray(moved_paths(analysis.account).any(axis=1))
    told = np.flatnonzero((lost >= _LEAST_LOST_NS) & (lost >= _LEAST_SHARE * worst))
    if analysis.provisional:
        told = told[np.argsort(-lost[told], kind="stable")[:_WHILE_IT_GROWS]]

    def finding(k: int) -> Finding:
        own = groups.order[begins[k] : ends[k]]
        one = int(own[0])
        party, cause = causes.PARTIES[blamed.party[one]], causes.CHARGES[groups.column[one]][1]
        site = groups.site[groups.place[one]]
        return _finding(SlowGroup(analysis, places, party, cause, site, blamed.rows[own], blamed.sums[own], moved))

    with ThreadPoolExecutor(2) as pool:  # The largest first, so that neither thread waits long for the other.
        begun = {k: pool.submit(finding, k) for k in told[np.argsort(begins[told] - ends[told])].tolist()}
        found += [begun[k].result() for k in told.tolist()]
    found.sort(key=lambda f: -f.lost_ns)
    return [f for f in found if f.lost_ns >= _LEAST_SHARE * worst or f.cause == "refused"]


def _finding(group: SlowGroup) -> Finding:
    """What is found of a group, and how sure that is."""
    said, grounds = said_of(group), group.grounds()
    grounds |= said.grounds
    close = seen_close_by(group.analysis, group.members) if group.party == causes.SERVER else None
    if close is not None:
        grounds["ruled_out"] += (
            f" {close[0]} lies {duration(close[1])} from the server and saw the same, so that no network delay hides"
            " in it."
        )
    low, high, confidence = _bounds(group)
    sentence, lost = said.sentence, int(group.own_ns.sum())
    if group.party in bounds.BOUNDED:
        k = bounds.BOUNDED.index(group.party)
        grounds["charged_ms_low"], grounds["charged_ms_high"] = float(low[k] / 1e6), float(high[k] / 1e6)
        if high[k] - low[k] > _WIDE * lost:
            whole = duration(int(group.wait_ns.sum()))
            sentence += f" In all it is {duration(low[k])} to {duration(high[k])} of {whole}."
    if any(segment["lost"] for segment in grounds.get("segments", [])):
        confidence = 0.99  # Packets that one point saw and the next did not are no inference.
    elif said.measured or close is not None:
        confidence = max(confidence, 0.97)  # What lies between was measured at both of its ends.
    first_ns, last_ns = group.span_ns
    return Finding(
        group.party, group.cause, severity_of(lost, len(group.clients)), _subject(group), sentence, said.step,
        round(confidence, 2), first_ns, last_ns, lost, len(group.clients), group.site, group.rows.tolist(),
        group.members.tolist(), grounds,
    )  # fmt: skip


def _bounds(group: SlowGroup) -> tuple[Float64s, Float64s, float]:
    """(least, most of each bounded party's part, ns, how sure it is who is to blame)."""
    together = np.zeros(group.rows.size, np.int64)
    low, high = bounds_of_groups(group.analysis.account, group.rows, together, 1, group.sums)
    party = np.array([causes.PARTIES.index(group.party)])
    return low[0], high[0], float(confidences(group.sums.sum(axis=0)[None, :], party, low, high)[0])


def _subject(group: SlowGroup) -> str:
    """What the finding is about."""
    if group.cause == "name":
        return f"DNS for {group.site}"
    return group.site if group.party != causes.SERVER else f"{group.app} for {group.site}"
