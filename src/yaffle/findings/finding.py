"""Findings: many slow exchanges with one cause become one sentence with its grounds and the next step."""

from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array
from yaffle.capture.addresses import client_address, client_labels, end_text, server_address, server_labels
from yaffle.capture.icmp_errors import in_words
from yaffle.findings.certainty import bounds_of_groups, confidences, could_be_nil
from yaffle.findings.culprits import culprits
from yaffle.findings.culprits import in_words as in_words_of
from yaffle.findings.groups import grouped
from yaffle.findings.inside import inside_grounds, inside_words
from yaffle.findings.location import WaitedAt, seen_close_by, where_lost, where_waited
from yaffle.findings.verdict import AVOIDABLE, FELT_REPAIR_NS, SLOW_EXCHANGE_NS, SLOW_TOTAL_NS, moved_paths
from yaffle.inventory.places import Places
from yaffle.ledger import bounds, causes
from yaffle.ledger.account import OPENINGS
from yaffle.ledger.sums import by_party, totals
from yaffle.quantiles import median, p95
from yaffle.units import duration, moment, share

_LEAST_LOST_NS = 300_000_000  # A finding costs its users at least this much in all,
_WHILE_IT_GROWS = 12  # findings of waits that are worked out at each look at captures that grow
_WIDE = 0.1  # Bounds further apart than this share of the estimate are told.
_MEASURED = 0.8  # So much of the network's part between two points makes it no inference.
_LEAST_SHARE = 0.01  # and at least this share of what the worst one costs.


@dataclass
class Finding:
    """A sentence about a subject, with everything it rests on."""

    party: str
    cause: str
    severity: str  # critical, major, minor (ITU-T X.733)
    subject: str
    sentence: str
    next_step: str
    confidence: float
    first_ns: int
    last_ns: int
    lost_ns: int  # time lost to this cause
    users: int
    site: str = ""  # whose users waited; empty where it is nobody's in particular
    exchanges: list[int] = field(default_factory=list)  # rows
    connections: list[int] = field(default_factory=list)
    grounds: dict[str, Any] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """Tells the finding again in a later analysis of the same evidence."""
        return f"{self.party}/{self.cause}/{self.subject}"


def _slow_exchanges(analysis: Analysis, speaker: Array, sums: Array) -> Array:
    """Rows of exchanges that made someone wait, seen where they speak. sums: of all, by party."""
    account = analysis.account
    owner = account.of_exchange("connection")
    felt = totals(sums) >= SLOW_EXCHANGE_NS
    short = np.flatnonzero(~felt)  # Most are either slow or short and well.
    felt[short] = sum(account.exchange_charges[short, column] for column in AVOIDABLE) >= FELT_REPAIR_NS
    some = np.zeros(account.flow.size, bool)
    some[owner[felt]] = True
    chatty = (account.fact("wait_ns") >= SLOW_TOTAL_NS) & ~some
    return np.flatnonzero((felt | chatty[owner]) & (speaker[owner] == owner))


def find(analysis: Analysis, speaker: Array) -> list[Finding]:
    """All findings, worst first. Healthy traffic gives none."""
    places = analysis.places
    account, flows = analysis.account, analysis.capture.conversations
    sums, heaviest = by_party(account.exchange_charges)
    rows = _slow_exchanges(analysis, speaker, sums)
    if rows.size < sums.shape[0]:
        sums, heaviest = np.take(sums, rows, axis=0), np.take(heaviest, rows, axis=0)
    party = np.argmax(sums, axis=1)
    column = heaviest[np.arange(rows.size), party].astype(np.int64)
    low = (
        np.stack([account.of_exchange(f"{party}_low_ns")[rows] for party in bounds.BOUNDED], axis=1)
        if rows.size
        else np.zeros((0, 3))
    )
    nil = could_be_nil(sums, party, low)  # Nobody is named whose part may be none.
    party[nil], column[nil] = causes.PARTIES.index(causes.UNEXPLAINED), causes.UNSEEN
    named = (column == causes.NAME) | (column == causes.SERVER_NAME)
    # What was lost is told before what it had to wait for besides; a slow pace and full queues are one story.
    felt = account.exchange_charges[rows, causes.LOSS] >= FELT_REPAIR_NS
    column[felt & (party == causes.PARTIES.index(causes.NETWORK))] = causes.LOSS
    column[column == causes.RATE] = causes.QUEUEING
    owner = account.exchange[rows, 0]
    new = np.diff(owner, prepend=-1) > 0  # Exchanges stand in order of their connections.
    seen, place = owner[new], np.cumsum(new) - 1
    flow = account.flow[seen]
    site = client_labels(flows, flow).named(places.site)
    server = server_labels(flows, flow)
    service = np.where((party <= 1) | named, -1, server.codes[place]) if rows.size else np.empty(0, np.int64)
    port = (
        np.where((party == 1) | named, -1, flows.b_port[flow].astype(np.int64)[place])
        if rows.size
        else np.empty(0, np.int64)
    )
    places_of = site.codes[place] if rows.size else party
    keys = (
        (
            ((party * causes.COUNT + column) * max(1, len(site.texts)) + places_of) * (len(server.texts) + 1)
            + service
            + 1
        )
        * 65537
        + port
        + 1
    )
    order, edges = grouped(keys)
    begins, ends = edges[:-1], edges[1:]
    found = [
        f
        for f in _failed_openings(analysis, places, speaker)
        if f.lost_ns >= _LEAST_LOST_NS or f.cause in ("refused", "unanswered")
    ]
    lost = np.add.reduceat(sums[np.arange(rows.size), party][order], begins) if rows.size else order
    worst = max([*lost[lost >= _LEAST_LOST_NS].tolist(), *(f.lost_ns for f in found)], default=0)
    moved = np.asarray(moved_paths(account).any(axis=1))
    told = np.flatnonzero((lost >= _LEAST_LOST_NS) & (lost >= _LEAST_SHARE * worst))
    if analysis.provisional:
        told = told[np.argsort(-lost[told], kind="stable")[:_WHILE_IT_GROWS]]
    for k in told.tolist():
        own = order[begins[k] : ends[k]]
        one = int(own[0])
        key = causes.PARTIES[party[one]], causes.CHARGES[column[one]][1], site.texts[places_of[one]]
        found.append(_finding(analysis, places, key, rows[own], sums[own], moved))
    found.sort(key=lambda f: -f.lost_ns)
    return [f for f in found if f.lost_ns >= _LEAST_SHARE * worst or f.cause == "refused"]


def _period(first: int, last: int) -> str:
    digits = 0 if last - first > 5_000_000_000 else 1
    return f"{moment(first, digits=digits)} to {moment(last, digits=digits)}"


def severity_of(lost_ns: int, users: int) -> str:
    """How bad so much lost time of so many is (ITU-T X.733)."""
    seconds = lost_ns / 1e9
    return "critical" if seconds >= 20 or (seconds >= 5 and users >= 3) else "major" if seconds >= 2 else "minor"


def _finding(
    analysis: Analysis, places: Places, key: tuple[str, str, str], rows: Array, sums: Array, moved: Array
) -> Finding:
    """key: party, cause and site; rows: of the exchanges; sums: of these, by party; moved: of each connection, whether
    its path changed.
    """
    account, flows = analysis.account, analysis.capture.conversations
    charged = account.exchange_charges
    who, cause, site = key
    wait = totals(sums)
    own = sums[:, causes.PARTIES.index(who)]
    members = np.unique(account.exchange[rows, 0])
    clients = sorted(client_labels(flows, account.flow[members]).texts)
    address = server_labels(flows, account.flow[members])
    ends = np.unique(address.codes << 16 | flows.b_port[account.flow[members]])
    servers = sorted((address.texts[end >> 16], end & 0xFFFF) for end in ends.tolist())
    first, last = int(account.of_exchange("first_ns")[rows].min()), int(account.of_exchange("end_ns")[rows].max())
    parts = [account.fact(f"to_{side}_min_ns")[members] for side in ("server", "client")]
    trip = np.sum(parts, axis=0)[(parts[0] >= 0) & (parts[1] >= 0)]
    sent = sum(int(account.side(s, "packets")[members].sum()) for s in (0, 1))
    again = sum(int(account.side(s, "retransmitted_packets")[members].sum()) for s in (0, 1))
    expired = sum(int(account.side(s, "timeouts")[members].sum()) for s in (0, 1))
    repeat_share = again / max(1, sent)
    middle = int(np.argpartition(wait, (wait.size - 1) // 2)[(wait.size - 1) // 2])
    app = (
        " and ".join(dict.fromkeys(places.application(*s) for s in servers))
        if len(servers) <= 3
        else f"{len(servers)} servers"
    )
    grounds: dict[str, Any] = {
        "exchanges": int(rows.size),
        "connections": members.tolist(),
        "users": len(clients),
        "wait_ms": float(wait.sum() / 1e6),
        "charged_ms": float(own.sum() / 1e6),
        "median_wait_ms": median(wait) / 1e6,
        "p95_wait_ms": p95(wait) / 1e6,
        "round_trip_floor_ms": [float(trip.min() / 1e6), float(trip.max() / 1e6)] if trip.size else None,
        "repeats": again,
        "timeouts": expired,
        "packets": sent,
        "first_ns": first,
        "last_ns": last,
    }
    floor, measured = duration(median(trip)), False
    many = (
        f"{rows.size:,} exchange{'s' if rows.size > 1 else ''} of {len(clients)}"
        f" client{'s' if len(clients) > 1 else ''}, {_period(first, last)}"
    )
    of = f"{duration(int(own[middle]))} of {duration(int(wait[middle]))} (median)"
    changed = int(moved[members].sum())
    kept = (
        f"the path's RTT stayed at {floor}"
        if changed * 4 < members.size
        else f"the path's minimum RTT changed during {changed} of {members.size} connections (lowest {floor})"
    )
    if not trip.size:
        kept = "the path's RTT is unknown (no handshake was captured)"
    grounds["path_changed_connections"] = changed
    steady = f"{kept} and {share(repeat_share)} of the packets were retransmitted"
    where = f"{app} ({end_text(*servers[0])})" if len(servers) == 1 else app
    if cause == "name":
        cause_ns, sentence, step = _waits_for_names(
            analysis, places, grounds, site, app, rows, (wait, middle), clients, (first, last), many
        )
        grounds["cause_ms"] = cause_ns / 1e6
        grounds["ruled_out"] = ""
    elif who == causes.SERVER:
        sentence = f"{site} waits for {where}: {causes.WORDS[cause]} takes {of}; {many}."
        grounds["ruled_out"] = f"Network ruled out: {steady}."
        step = (
            f"Ask the owners of {app} what it was doing from {_period(first, last)}: locks, slow queries, or servers"
            " behind it."
        )
        if cause == "window":
            step = f"Look at how {app} reads its requests: it advertised a zero window."
    elif who == causes.CLIENT:
        one = len(clients) == 1
        behind = ("reads" if one else "read") + " received data too slowly"
        if cause != "window":
            behind = "pauses" if one else "pause"
        if cause == "encryption":
            behind = "takes" if one else "take"
        hosts = ", ".join(places.short(c) for c in clients[:3]) + (" and others" if len(clients) > 3 else "")
        sentence = f"{site} is limited by its own hosts: {hosts} {behind}; client time is {of} with {where}; {many}."
        grounds["ruled_out"] = f"Network and server ruled out: {steady}, and the server was ready to send."
        step = (
            f"Look at the application on {hosts}: what keeps it from {'reading' if cause == 'window' else 'sending'}"
            " (processor, disk, its own pauses)."
        )
    elif who == causes.NETWORK:
        cause_ns = int(charged[rows, causes.LOSS].sum()) if cause == "loss" else int(own.sum())
        if cause == "loss":
            timers = f", {expired:,} timeout{'s' if expired > 1 else ''}" if expired else ""
            sentence = (
                f"The path of {site} loses packets: {share(repeat_share)} retransmitted ({again:,} of"
                f" {sent:,}{timers}); network time is {of}; {many}."
            )
            step = (
                f"Look at the links between {site} and {app} for errors and full queues; a capture at the far end would"
                " tell which segment loses."
            )
            if segments := where_lost(analysis, members.tolist()):
                grounds["segments"] = [
                    {"from": start, "to": end, "lost": count, "packets": of_all}
                    for start, end, count, of_all in segments
                ]
                told, step = _between(segments, step)
                sentence += told
        elif cause == "queueing":
            sentence = f"The path of {site} is congested: queuing and bottleneck bandwidth account for {of}; {many}."
            step = (
                f"Find what fills the link of {site} in this period, and its rate; a second capture beyond it would"
                " name the segment."
            )
            others, themselves = culprits(analysis, rows)
            grounds["culprits"] = [
                {"source": c.source, "destination": c.target, "bytes": c.octets, "share": c.share} for c in others
            ]
            grounds["own_share"] = themselves
            sentence += in_words_of(
                others, themselves, {a: places.short(a) for c in others for a in (c.source, c.target)}
            )
        elif cause == "round-trip":
            sentence = (
                f"The path of {site} has a high RTT for this many round trips: {floor} each; network time is {of};"
                f" {many}."
            )
            step = f"Fewer, larger exchanges or a nearer server would help; {app} sends requests one after another."
        else:
            sentence = f"{site} waits for connection setup: network time is {of}; {many}."
            step = "Keep connections open between exchanges, or look for what delays the handshake."
        grounds["cause_ms"] = cause_ns / 1e6
        if waited := where_waited(analysis, rows):
            grounds["waited"] = [{"from": one.start, "to": one.end, "ms": one.ns / 1e6} for one in waited if one.told]
            told, step, measured = _waited_between(waited, cause, step)
            sentence += told
        sentence += inside_words(analysis, rows)
        grounds |= inside_grounds(analysis, rows)
        grounds["ruled_out"] = (
            f"The servers took {duration(int(sums[middle, causes.PARTIES.index(causes.SERVER)]))} at the median"
            " exchange."
        )
    else:
        sentence = f"{site} waits for {where}, and this capture cannot tell why; {many}."
        grounds["ruled_out"] = ""
        step = f"A capture near {app} from {_period(first, last)} would settle it."
    lost = int(own.sum())
    close = seen_close_by(analysis, members) if who == causes.SERVER else None
    if close is not None:
        grounds["ruled_out"] += (
            f" {close[0]} lies {duration(close[1])} from the server and saw the same, so that no network delay hides"
            " in it."
        )
    whole = np.zeros(rows.size, np.int64)
    low, high = bounds_of_groups(account, rows, whole, 1, sums)
    confidence = float(confidences(sums.sum(axis=0)[None, :], np.array([causes.PARTIES.index(who)]), low, high)[0])
    if who in bounds.BOUNDED:
        k = bounds.BOUNDED.index(who)
        grounds["charged_ms_low"], grounds["charged_ms_high"] = float(low[0, k] / 1e6), float(high[0, k] / 1e6)
        if high[0, k] - low[0, k] > _WIDE * own.sum():
            sentence += f" In all it is {duration(low[0, k])} to {duration(high[0, k])} of {duration(int(wait.sum()))}."
    if any(segment["lost"] for segment in grounds.get("segments", [])):
        confidence = 0.99  # Packets that one point saw and the next did not are no inference.
    elif measured or close is not None:
        confidence = max(confidence, 0.97)  # What lies between was measured at both of its ends.
    return Finding(
        who,
        cause,
        severity_of(lost, len(clients)),
        _subject(who, cause, site, app),
        sentence,
        step,
        round(confidence, 2),
        first,
        last,
        lost,
        len(clients),
        site,
        rows.tolist(),
        members.tolist(),
        grounds,
    )


def _subject(who: str, cause: str, site: str, app: str) -> str:
    """What the finding is about."""
    if cause == "name":
        return f"DNS for {site}"
    return site if who != causes.SERVER else f"{app} for {site}"


def _waits_for_names(
    analysis: Analysis,
    places: Places,
    grounds: dict[str, Any],
    site: str,
    app: str,
    rows: Array,
    waits: tuple[Array, int],
    clients: list[str],
    period: tuple[int, int],
    many: str,
) -> tuple[int, str, str]:
    """(time spent on names, sentence, next step); adds the name servers to the grounds."""
    wait, middle = waits
    own, trips = (analysis.account.exchange_charges[rows, column] for column in (causes.SERVER_NAME, causes.NAME))
    spent = own + trips
    grounds["name_servers"] = _name_servers(analysis, clients, period[0] - int(spent.max()), period[1])
    asked = " and ".join(places.short(server) for server in grounds["name_servers"][:2]) or "the name server"
    of = f"{duration(int(spent[middle]))} of {duration(int(wait[middle]))} at the median"
    split = f" ({duration(int(own[middle]))} server, {duration(int(trips[middle]))} network)"
    sentence = (
        f"{site} is delayed by DNS lookups before connecting to {app}: the lookup at {asked} takes {of}{split}; {many}."
    )
    return (
        int(spent.sum()),
        sentence,
        (
            f"Look at how {asked} answers (services, in Survey): which servers it depends on, and whether queries were"
            " retransmitted."
        ),
    )


def _between(segments: list[tuple[str, str, int, int]], step: str) -> tuple[str, str]:
    """What the segments say of losses, and the next step with it."""
    worst = [one for one in segments if one[2]]
    if not worst:
        start, end = segments[0][:2]
        return (
            f" Nothing was lost between {start} and {end}: the loss is beyond them.",
            f"Look outside of {start} and {end}: a capture further out would tell where.",
        )
    parts = [f"{count:,} of {of_all:,} from {start} to {end}" for start, end, count, of_all in worst[:2]]
    return (
        f" Lost between capture points: {' and '.join(parts)}.",
        (
            f"Look at what lies between {worst[0][0]} and {worst[0][1]}: errors, full queues, radio; both its ends saw"
            " which packets are missing (Path)."
        ),
    )


def _waited_between(waited: list[WaitedAt], cause: str, step: str) -> tuple[str, str, bool]:
    """(what the stretches of the path say of the waiting, the next step with it, whether most was measured between two
    points).
    """
    whole, worst = sum(one.ns for one in waited), waited[0]
    if cause == "name" or not worst.told or worst.ns * 2 < whole:
        return "", step, False
    told = f" {duration(worst.ns)} of {duration(whole)} network time arose {worst.words}."
    if cause == "queueing":
        step = f"Find what loads the link {worst.words} in this period, and its rate."
    elif cause == "round-trip":
        step = f"Look at the RTT {worst.words}; fewer, larger exchanges would cross it less often."
    return told, step, worst.between and worst.ns >= _MEASURED * whole


def _name_servers(analysis: Analysis, clients: list[str], first_ns: int, last_ns: int) -> list[str]:
    """The name servers that some clients asked in a period, the busiest first."""
    own = set(clients)
    asked = Counter(
        k.server
        for k in analysis.lookups.rows
        if k.protocol == "dns" and k.client in own and first_ns <= k.asked_ns <= last_ns
    )
    return [server for server, _ in asked.most_common(8)]


def _failed_openings(analysis: Analysis, places: Places, speaker: Array) -> list[Finding]:
    """Servers that refused, or that never answered, one finding for each."""
    account, flows = analysis.account, analysis.capture.conversations
    opening = account.fact("opening")
    found = []
    for what in ("refused", "unanswered"):
        groups: dict[tuple[str, int], list[int]] = {}
        for c in np.flatnonzero((opening == OPENINGS.index(what)) & (speaker == np.arange(opening.size))).tolist():
            flow = int(account.flow[c])
            groups.setdefault((server_address(flows, flow), int(flows.b_port[flow])), []).append(c)
        for (server, port), members in groups.items():
            clients = {client_address(flows, int(account.flow[c])) for c in members}
            lost = int(account.fact("wait_ns")[members].sum())
            first, last = int(account.fact("first_ns")[members].min()), int(account.fact("last_ns")[members].max())
            name = f"{places.application(server, port)} ({end_text(server, port)})"
            tries = (
                f"{len(members)} connection attempt{'s' if len(members) > 1 else ''} of {len(clients)}"
                f" client{'s' if len(clients) > 1 else ''}, {_period(first, last)}"
            )
            if what == "refused":
                sentence, step, party = (
                    f"{name} refuses connections: {tries}.",
                    f"See whether the service at {name} runs and listens.",
                    causes.SERVER,
                )
            else:
                said = {
                    in_words(kind, bool(flows.ipv6[account.flow[c]]))
                    for c in members
                    for kind in analysis.quotes.get(int(account.flow[c]), {})
                }
                sentence, party = f"{name} never answers: {tries}, {duration(lost)} total delay.", causes.UNEXPLAINED
                if said:
                    sentence = (
                        f"{name} cannot be reached: ICMP reports {' and '.join(sorted(said))}; {tries},"
                        f" {duration(lost)} total delay."
                    )
                    party = causes.NETWORK
                step = (
                    f"A capture near {server} would tell whether the SYNs arrive: if so it is the server, else a"
                    " filter or the path."
                )
            grounds = {
                "connections": members,
                "users": len(clients),
                "wait_ms": lost / 1e6,
                "first_ns": first,
                "last_ns": last,
                "exchanges": 0,
            }
            found.append(
                Finding(
                    party,
                    what,
                    severity_of(lost, len(clients)),
                    name,
                    sentence,
                    step,
                    0.9 if what == "refused" else 0.5,
                    first,
                    last,
                    lost,
                    len(clients),
                    "",
                    [],
                    members,
                    grounds,
                )
            )
    return found
