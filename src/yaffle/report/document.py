"""The analysis document: one JSON object with everything that was found. docs/analysis-document.md describes it."""

from collections.abc import Collection
from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.addresses import address_text, client_address, end_text, server_address
from yaffle.capture.conversations import Rows
from yaffle.capture.icmp_errors import in_words
from yaffle.capture.tunnels import tunnel_of
from yaffle.exchanges import labels
from yaffle.exchanges.lookup import LOOKUPS
from yaffle.findings.cleared import cleared
from yaffle.findings.finding import Finding
from yaffle.findings.held_up import behind_in_words
from yaffle.findings.inside import inside_of_connection
from yaffle.findings.location import WaitedAt, network_by_segment
from yaffle.findings.ranking import all_findings
from yaffle.findings.verdict import path_changed, verdict_columns, verdict_of
from yaffle.ledger import bounds, causes
from yaffle.ledger.accounts import Account
from yaffle.ledger.fields import CLOSINGS, OPENINGS, SIDE_FIELDS
from yaffle.ledger.orientation import HOW
from yaffle.quantiles import median
from yaffle.records.flow_table import PROTOCOLS
from yaffle.report import cyclic_part, hops_part, media_part, path_part, radio_part, tiers_part
from yaffle.transport.bursts import bursts
from yaffle.transport.datagrams import FIELDS
from yaffle.units import transport_name

NS_PER_MS = 1e6
_BOUNDS = tuple(f"{party}_ms_{end}" for party in bounds.BOUNDED for end in ("low", "high"))


def _ms(ns: int) -> float | None:
    return None if ns < 0 else ns / NS_PER_MS


def _added(*values: float | None) -> float | None:
    known = [v for v in values if v is not None]
    return sum(known) if known else None


def _floors(account: Account, c: int, side: str) -> dict[str, Any]:
    """How the floor to a side moved."""
    early, late = (_ms(int(account.fact(f"to_{side}_{when}_min_ns")[c])) for when in ("early", "late"))
    return {"to": side, "from_ms": early, "to_ms": late}


def _round_trip(account: Account, c: int) -> dict[str, Any]:
    fact = {name: _ms(int(account.fact(name)[c])) for name in (
        "handshake_ns", "to_client_min_ns", "to_client_median_ns", "to_client_p95_ns", "to_client_max_ns",
        "to_server_min_ns", "to_server_median_ns", "to_server_p95_ns", "to_server_max_ns",
    )}  # fmt: skip
    return {
        "handshake": fact["handshake_ns"],
        "min": _added(fact["to_client_min_ns"], fact["to_server_min_ns"]),
        "median": _added(fact["to_client_median_ns"], fact["to_server_median_ns"]),
        "p95": _added(fact["to_client_p95_ns"], fact["to_server_p95_ns"]),
        "max": _added(fact["to_client_max_ns"], fact["to_server_max_ns"]),
        "to_client_min": fact["to_client_min_ns"],
        "to_server_min": fact["to_server_min_ns"],
        "path_changed": [_floors(account, c, side) for side in path_changed(account, c)],
    }


def _side(account: Account, side: int, c: int) -> dict[str, float]:
    found: dict[str, float] = {}
    for name in SIDE_FIELDS:
        value = int(account.side(side, name)[c])
        if name == "zero_window_ns":
            found["zero_window_ms"] = value / NS_PER_MS
        else:
            found[name] = value
    return found


def connections(analysis: Analysis, shown: list[int]) -> list[dict[str, Any]]:
    """The connections' part of the document."""
    account, flows = analysis.account, analysis.capture.conversations
    verdicts = verdict_columns(account)
    counts, split = _counts(account), network_by_segment(analysis)
    fronts = np.zeros(account.flow.size, bool)
    fronts[account.of_exchange("connection")[analysis.behind.parts.of]] = True
    listed = []
    for c in shown:
        row = int(account.flow[c])
        verdict = verdict_of(account, c, verdicts)
        wait, first, last = (int(account.fact(name)[c]) for name in ("wait_ns", "first_ns", "last_ns"))
        listed.append(
            {
                "transport": "tcp",
                "client": end_text(client_address(flows, row), int(flows.a_port[row])),
                "server": end_text(server_address(flows, row), int(flows.b_port[row])),
                "point": analysis.capture.points[int(flows.point[row])],
                "client_told": HOW[int(account.how[row])],
                "first_ns": first,
                "last_ns": last,
                "opening": OPENINGS[int(account.fact("opening")[c])],
                "closing": CLOSINGS[int(account.fact("closing")[c])],
                "round_trip_ms": _round_trip(account, c),
                "from_client": _side(account, 0, c),
                "from_server": _side(account, 1, c),
                "exchanges": int(account.fact("exchanges")[c]),
                "wait_ms": wait / NS_PER_MS,
                "idle_ms": max(0, last - first - wait) / NS_PER_MS,
                "icmp_errors": [
                    {"says": in_words(kind, bool(flows.ipv6[row])), "count": n}
                    for kind, n in analysis.quotes.get(row, {}).items()
                ],
                "tunnel": _tunnel(flows, row),
                "charges": [
                    {
                        "party": party,
                        "cause": cause,
                        "ms": int(account.connection_charges[c, k]) / NS_PER_MS,
                        "count": int(counts[c, k]),
                        **_split(split, c, cause if party == causes.NETWORK else ""),
                    }
                    for k, (party, cause) in enumerate(causes.CHARGES)
                    if account.connection_charges[c, k]
                ],
                "verdict": {
                    "party": verdict.party,
                    "cause": verdict.cause,
                    "confidence": verdict.confidence,
                    "sentence": verdict.sentence
                    + (behind_in_words(analysis, c) if fronts[c] else "")
                    + inside_of_connection(analysis, c),
                },
            }
        )
    return listed


def _inside(analysis: Analysis, x: int) -> dict[str, Any]:
    """An exchange's network part by node, and what of it was on the air, where either is told."""
    found: dict[str, Any] = {}
    if analysis.at_nodes is not None and (told := analysis.at_nodes.of_exchange(x)):
        found["network_by_node"] = [{"node": node, "ms": ns / NS_PER_MS} for node, ns in told]
    if analysis.on_air is not None and (air := analysis.on_air.of_exchange(x)) is not None:
        found["on_air"] = {"moves_ms": air[0] / NS_PER_MS, "retries_ms": air[1] / NS_PER_MS}
    return found


def _split(split: dict[int, list[WaitedAt]], c: int, cause: str) -> dict[str, Any]:
    """A network charge by stretch of the path, where several points saw the connection."""
    parts = [(one, one.by_cause_ns[cause]) for one in split.get(c, []) if cause in one.by_cause_ns]
    return (
        {
            "segments": [
                {"from": one.start if one.told else None, "to": one.end if one.told else None, "ms": ns / NS_PER_MS}
                for one, ns in parts
            ]
        }
        if parts
        else {}
    )


def _tunnel(flows: Rows, row: int) -> dict[str, Any] | None:
    """What carries the conversation, where it is a tunnel."""
    found = tunnel_of(flows, row)
    return (
        {"kind": found.kind, "id": found.number, "client_end": found.client_end, "server_end": found.server_end}
        if found
        else None
    )


def conversations(analysis: Analysis) -> list[dict[str, Any]]:
    """Conversations that are not TCP: how much, how often, and how fast they were answered."""
    flows, talks = analysis.capture.conversations, analysis.datagrams
    listed = []
    for row, flow in enumerate(talks.flow.tolist()):
        fact = dict(zip(FIELDS, talks.facts[row].tolist(), strict=True))
        answers = talks.latencies_ns(row) / NS_PER_MS
        span_s = max(1, fact["last_ns"] - fact["first_ns"]) / 1e9
        listed.append(
            {
                "transport": transport_name(int(flows.protocol[flow])),
                "client": end_text(client_address(flows, flow), int(flows.a_port[flow])),
                "server": end_text(server_address(flows, flow), int(flows.b_port[flow])),
                "point": analysis.capture.points[int(flows.point[flow])],
                "first_ns": fact["first_ns"],
                "last_ns": fact["last_ns"],
                "from_client": {"packets": fact["client_packets"], "bytes": fact["client_bytes"]},
                "from_server": {"packets": fact["server_packets"], "bytes": fact["server_bytes"]},
                "rate_bps": (
                    (fact["client_bytes"] + fact["server_bytes"]) * 8 / span_s
                    if fact["last_ns"] > fact["first_ns"]
                    else None
                ),
                "longest_gap_ms": fact["longest_gap_ns"] / NS_PER_MS,
                "answers": fact["answers"],
                "unanswered": fact["unanswered"],
                "tries": fact["tries"],
                "answer_ms": (
                    {"min": float(answers.min()), "median": median(answers), "max": float(answers.max())}
                    if answers.size
                    else None
                ),
                "icmp_errors": [
                    {"says": in_words(kind, bool(flows.ipv6[flow])), "count": n}
                    for kind, n in analysis.quotes.get(flow, {}).items()
                ],
                "tunnel": _tunnel(flows, flow),
            }
        )
    return listed


def line_use(analysis: Analysis, line_bps: float | None) -> dict[str, Any] | None:
    """Bursts over the whole period."""
    held = [s for s in analysis.capture.sources if s.packets]
    if not held:
        return None
    packets = analysis.capture.packets
    found = bursts(
        packets, np.ones(packets.time_ns.size, bool), min(s.first_ns for s in held), max(s.last_ns for s in held)
    )
    peaks = dict(zip(("1", "10", "100"), found.peak_bps, strict=True))
    use: dict[str, Any] = {"peak_bps_over_ms": peaks, "peak_at_ns": found.peak_at_ns, "bytes_by_cast": found.octets}
    if line_bps:
        full = found.full_ms_per_s(line_bps)
        use |= {
            "line_bps": line_bps,
            "share_of_line_over_ms": {k: v / line_bps for k, v in peaks.items()},
            "full_ms": float(full.sum()),
            "worst_second_full_ms": float(full.max()),
        }
    return use


def _counts(account: Account) -> Any:
    """In how many exchanges of each connection each charge occurs (set-up without an exchange counts once)."""
    counts = np.zeros_like(account.connection_charges)
    np.add.at(counts, account.of_exchange("connection"), (account.exchange_charges > 0).astype(np.int64))
    return np.where((counts == 0) & (account.connection_charges > 0), 1, counts)


def exchanges(analysis: Analysis, shown: list[int], literals: bool = False) -> list[dict[str, Any]]:
    """The exchanges' part; `connection` counts in the listed connections. literals: those of statements are shown."""
    account = analysis.account
    number, messages = {c: i for i, c in enumerate(shown)}, analysis.messages
    party = {name: account.exchange_charges[:, causes.party_columns(name)].sum(axis=1) for name in causes.PARTIES}
    owner = account.of_exchange("connection")
    place = {x: k for k, x in enumerate(np.flatnonzero(np.isin(owner, shown)).tolist())}
    tiers = tiers_part.Tiers(analysis, place)
    listed = []
    for x, row in enumerate(account.exchange.tolist()):
        c, first, asked, answered, last, _end, request, response, _set_up, message, *bounded = row
        if c not in number:
            continue
        listed.append(
            {
                "connection": number[c],
                "first_ns": first,
                "asked_ns": asked,
                "answered_ns": answered if answered >= 0 else None,
                "last_ns": last,
                "request_bytes": request,
                "response_bytes": response,
                "wait_ms": int(account.exchange_charges[x].sum()) / NS_PER_MS,
                **{f"{name}_ms": int(party[name][x]) / NS_PER_MS for name in causes.PARTIES},
                **{name: ns / NS_PER_MS for name, ns in zip(_BOUNDS, bounded, strict=True)},
                "protocol": messages.protocol.get(c, "tcp"),
                "label": (
                    ""
                    if message < 0
                    else (
                        messages.label[message]
                        if literals
                        else labels.shown(messages.protocol[c], messages.label[message])
                    )
                ),
                "outcome": messages.outcome_of(message, answered >= 0),
                **tiers.of(x),
                **_inside(analysis, x),
            }
        )
    return listed


def lookups(analysis: Analysis, *, others: bool = False) -> list[dict[str, Any]]:
    """The look-ups' part: names, leases and sign-ons; with `others` what else was asked and answered in single
    packets.
    """
    return [
        {
            "protocol": found.protocol,
            "client": found.client,
            "server": found.server,
            "name": found.name,
            "kind": found.kind,
            "outcome": found.outcome,
            "asked_ns": found.asked_ns,
            "latency_ms": _ms(found.latency_ns),
            "tries": found.tries,
            **(found.figures or {}),
        }
        for found in analysis.lookups.rows
        if (found.protocol not in LOOKUPS) == others
    ]


def sources(analysis: Analysis) -> list[dict[str, Any]]:
    """The sources' part."""
    return [
        {
            "name": s.name,
            "packets": s.packets,
            "bytes": s.bytes,
            "first_ns": s.first_ns,
            "last_ns": s.last_ns,
            "complete": s.complete,
            "notes": s.notes,
        }
        for s in analysis.capture.sources
    ]


def findings(found: list[Finding], shown: list[int]) -> list[dict[str, Any]]:
    """The findings' part; grounds name connections by their place in the document."""
    number = {c: i for i, c in enumerate(shown)}
    return [
        {
            "party": f.party,
            "cause": f.cause,
            "severity": f.severity,
            "subject": f.subject,
            "sentence": f.sentence,
            "confidence": f.confidence,
            "grounds": {**f.grounds, "connections": [number[c] for c in f.connections if c in number]},
            "next_step": f.next_step,
        }
        for f in found
    ]


INCLUDED = ("flows", "lost_packets")  # tables that come only when asked for


def exporters(analysis: Analysis) -> list[dict[str, Any]]:
    """The exporters' part."""
    return [
        {
            "address": e.address,
            "domain": e.domain,
            "protocol": PROTOCOLS[e.protocol],
            "records": e.records,
            "flow_records": e.flow_records,
            "datagrams": e.datagrams,
            "lost_records": e.lost_records,
            "lost_datagrams": e.lost_datagrams,
            "lost_is_estimated": e.estimated,
            "sampling": e.sampling,
            "counts": e.counts,
            "clock_offset_ms": e.clock_offset_ns / NS_PER_MS,
            "boots": e.boots,
            "interfaces": [{"index": index, "name": name} for index, name in sorted(e.interfaces.items())],
            "notes": e.notes,
        }
        for e in analysis.exporters
    ]


def flows(analysis: Analysis) -> list[dict[str, Any]]:
    """The flow records, one by one, counts scaled by sampling."""
    rows, known = analysis.flows.rows, analysis.flows.exporters
    source = [
        address_text(h, w, bool(v))
        for h, w, v in zip(rows["src_hi"].tolist(), rows["src_lo"].tolist(), rows["ipv6"].tolist(), strict=True)
    ]
    target = [
        address_text(h, w, bool(v))
        for h, w, v in zip(rows["dst_hi"].tolist(), rows["dst_lo"].tolist(), rows["ipv6"].tolist(), strict=True)
    ]
    found = []
    for k, row in enumerate(rows):
        e = known[int(row["exporter"])]
        number = int(row["application"])
        found.append(
            {
                "protocol": PROTOCOLS[int(row["protocol"])], "exporter": e.address, "domain": e.domain,
                "transport": transport_name(int(row["transport"])),
                "src": source[k], "src_port": int(row["src_port"]), "dst": target[k], "dst_port": int(row["dst_port"]),
                "dscp": int(row["dscp"]),
                "post_dscp": _or_none(row["post_dscp"]), "direction": _or_none(row["direction"]),
                "ingress": _or_none(row["ingress"]), "egress": _or_none(row["egress"]),
                "application": e.applications.get(number, str(number) if number >= 0 else None),
                "first_ns": int(row["first_ns"]), "last_ns": int(row["last_ns"]),
                "packets": int(row["packets"]), "bytes": int(row["octets"]), "sampling": int(row["sampling"]),
                "counts": e.counts_of(int(row["sampling"])),
                **({"own": analysis.flows.own[k]} if k in analysis.flows.own else {}),
            }
        )  # fmt: skip
    return found


def _or_none(value: Any) -> int | None:
    return int(value) if value >= 0 else None


def document(
    analysis: Analysis, line_bps: float | None = None, *, literals: bool = False, include: Collection[str] = ()
) -> dict[str, Any]:
    """The whole document.

    A connection seen at several points stands once, as seen nearest to its client. include: large tables that are asked
    for.
    """
    shown = [int(c) for c in np.flatnonzero(analysis.speaker == np.arange(analysis.speaker.size))]
    found = all_findings(analysis)
    return {
        "format": "yaffle-analysis",
        "version": 1,
        "sources": sources(analysis),
        "connections": connections(analysis, shown),
        "exchanges": exchanges(analysis, shown, literals),
        "dependencies": tiers_part.dependencies_part(analysis),
        "conversations": conversations(analysis),
        "line": line_use(analysis, line_bps),
        "lookups": lookups(analysis),
        "answers": lookups(analysis, others=True),
        "media": media_part.media(analysis),
        "programmes": media_part.programs(analysis),
        "calls": media_part.calls(analysis),
        "segments": path_part.segments(analysis),
        "clocks": path_part.clocks(analysis),
        "translations": path_part.translated(analysis),
        "answered_between": path_part.answered_between(analysis),
        "flow_paths": path_part.flow_paths(analysis),
        "flow_changes": path_part.flow_changes(analysis),
        "exporters": exporters(analysis),
        "hops": hops_part.hops(analysis),
        "radio": radio_part.radio(analysis),
        "cyclic": cyclic_part.cyclic(analysis),
        "findings": findings(found, shown),
        **({"flows": flows(analysis)} if "flows" in include else {}),
        **({"lost_packets": path_part.lost_packets(analysis)} if "lost_packets" in include else {}),
        "cleared": [
            {"subject": place.site, "sentence": place.sentence} for place in cleared(analysis, analysis.speaker, found)
        ],
    }
