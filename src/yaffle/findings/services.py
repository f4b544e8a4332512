"""Look-ups, leases and sign-ons that fail, stay unanswered or take long: a finding for each service."""

from collections import defaultdict

import numpy as np

from yaffle.analysis import Analysis
from yaffle.exchanges.lookup import UNANSWERED, Lookup
from yaffle.findings.finding import Finding
from yaffle.ledger import causes
from yaffle.units import duration, moment, share

_GOOD = {
    "dns": ("NOERROR", "NXDOMAIN"), "mdns": ("NOERROR", "NXDOMAIN"), "dhcp": ("offer", "ack"),
    "dhcpv6": ("advertise", "reply"), "quic": ("answered", "retry"),
    "icmp": ("reply",), "snmp": ("noError", "noSuchName", "report", "answered"),
    "radius": ("accept", "reject", "challenge", "response"),
    "postgresql": ("00000",), "mysql": ("00000",), "redis": ("OK",),
    "ldap": ("success", "compareTrue", "compareFalse", "referral", "saslBindInProgress", "noSuchObject"),
    "smb": (
        "STATUS_SUCCESS", "STATUS_MORE_PROCESSING_REQUIRED", "STATUS_NO_MORE_FILES", "STATUS_END_OF_FILE",
        "STATUS_OBJECT_NAME_NOT_FOUND", "STATUS_BUFFER_OVERFLOW",
        "STATUS_NO_SUCH_FILE", "STATUS_NOT_FOUND", "STATUS_PATH_NOT_COVERED",
    ),
}  # fmt: skip
_WORDS = {"dns": "DNS queries", "dhcp": "DHCP requests", "dhcpv6": "DHCPv6 requests", "radius": "RADIUS requests"}
_LEAST, _LEAST_SHARE = 3, 0.1
STRETCH = 20  # Answered questions that are judged together.
_TIMES_USUAL, _DEVIATIONS, _MORE_NS = 3.0, 4.0, 300_000_000
_SLOW_NS, _SLOW_TIMES, _SLOW_TOTAL_NS = 200_000_000, 10, 1_000_000_000


def failed(protocol: str, outcome: str) -> bool:
    """Whether an outcome is a failure of the service: not an answer that merely says no such name."""
    if outcome in ("", UNANSWERED, "answered"):
        return outcome == UNANSWERED
    if protocol in ("http", "http2"):
        return outcome[:1] == "5" or outcome.startswith("grpc") or outcome == "reset"
    return protocol in _GOOD and outcome not in _GOOD[protocol]


def service_findings(analysis: Analysis) -> list[Finding]:
    """Services that fail a share of what they are asked, or answer some of it very late."""
    groups: dict[tuple[str, str], list[Lookup]] = defaultdict(list)
    for lookup in analysis.lookups.rows:
        if lookup.protocol in _WORDS:
            groups[lookup.protocol, lookup.server].append(lookup)
    found = []
    for (protocol, server), asked in groups.items():
        bad = [k for k in asked if failed(protocol, k.outcome)]
        if len(bad) >= _LEAST and len(bad) >= _LEAST_SHARE * len(asked):
            found.append(_failing(analysis, protocol, server, asked, bad))
        waits = np.array([k.latency_ns for k in asked if k.answered_ns >= 0])
        late = [k for k in asked if waits.size and k.latency_ns > max(_SLOW_NS, _SLOW_TIMES * int(np.median(waits)))]
        if len(late) >= _LEAST and sum(k.latency_ns for k in late) >= _SLOW_TOTAL_NS:
            found.append(_late(analysis, protocol, server, asked, late))
        elif left := left_range(asked):
            found.append(_slower(analysis, protocol, server, asked, left))
    told = {
        k.client
        for f in found
        if f.cause == "failed look-ups"
        for k in groups[f.grounds["protocol"], f.subject]
        if failed(k.protocol, k.outcome)
    }
    return found + _without_names(
        analysis, [k for (protocol, _), asked in groups.items() if protocol == "dns" for k in asked], told
    )


def left_range(asked: list[Lookup]) -> list[Lookup]:
    """Questions of the stretches in which latency left its usual range; empty where it never did.

    In order of time, stretches of STRETCH answered questions are compared by their medians. Usual is the median of all;
    the range reaches up to _TIMES_USUAL times that, or _DEVIATIONS scaled median absolute deviations (of the logarithm)
    above it, whichever is more. A stretch with more than half of all questions is what is usual.
    """
    answered = sorted((k for k in asked if k.answered_ns >= 0), key=lambda k: k.asked_ns)
    if len(answered) < 3 * STRETCH:
        return []
    logs = np.log(np.array([max(1, k.latency_ns) for k in answered], float))
    usual = float(np.median(logs))
    limit = usual + max(np.log(_TIMES_USUAL), _DEVIATIONS * 1.4826 * float(np.median(np.abs(logs - usual))))
    left: list[Lookup] = []
    for first in range(0, len(answered), STRETCH):
        part = logs[first : first + STRETCH]
        if part.size >= STRETCH // 2 and float(np.median(part)) > limit:
            left += answered[first : first + STRETCH]
    more = sum(k.latency_ns for k in left) - len(left) * np.exp(usual)
    return left if 2 * len(left) <= len(answered) and more >= _MORE_NS else []


def _slower(analysis: Analysis, protocol: str, server: str, asked: list[Lookup], left: list[Lookup]) -> Finding:
    usual = float(np.median([k.latency_ns for k in asked if k.answered_ns >= 0]))
    then = float(np.median([k.latency_ns for k in left]))
    sentence = (
        f"{_name(analysis, server)}: {_WORDS[protocol]} response time above baseline from"
        f" {moment(left[0].asked_ns, digits=0)} to {moment(left[-1].asked_ns, digits=0)}: "
    )
    sentence += f"median {duration(then)}, usually {duration(usual)}; {len(left)} of {len(asked)} requests."
    step = f"See what {server} did then, and what ran on its path at the same time (volume, in Survey)."
    return _made(
        analysis,
        protocol,
        server,
        left,
        causes.UNEXPLAINED,
        "slower answers",
        int(sum(k.latency_ns for k in left) - len(left) * usual),
        sentence,
        step,
    )


def _without_names(analysis: Analysis, asked: list[Lookup], told: set[str]) -> list[Finding]:
    """Hosts that got no name resolved at all, where no finding about their name server tells it."""
    clients: dict[str, list[Lookup]] = defaultdict(list)
    for lookup in asked:
        clients[lookup.client].append(lookup)
    found = []
    for client, own in clients.items():
        if client in told or len(own) < _LEAST or not all(failed("dns", k.outcome) for k in own):
            continue
        servers = sorted({k.server for k in own})
        silent = sum(k.outcome == UNANSWERED for k in own)
        how = (
            "none was answered"
            if silent == len(own)
            else f"{silent} unanswered, the rest with {', '.join(sorted({k.outcome for k in own} - {UNANSWERED}))}"
        )
        others = sum(not failed("dns", k.outcome) for k in asked if k.server in servers)
        sentence = (
            f"{_name(analysis, client)} cannot resolve names: {len(own)} DNS queries to {' and '.join(servers[:2])},"
            f" {how}."
        )
        sentence += f" Others got {others} answers from there." if others else ""
        step = f"Look at the name servers that {client} is told to use, and at filters between."
        if not others:
            step = f"A capture near {servers[0]} would tell whether the requests arrive."
        lost = sum(k.latency_ns if k.answered_ns >= 0 else k.latest_ns - k.asked_ns for k in own)
        found.append(_made(analysis, "dns", client, own, causes.UNEXPLAINED, "no names", lost, sentence, step))
    return found


def _name(analysis: Analysis, server: str) -> str:
    name = analysis.places.host(server.rsplit(":", 1)[0] if server.count(":") == 1 else server)
    return server if name in server else f"{name} ({server})"


def _made(
    analysis: Analysis,
    protocol: str,
    server: str,
    rows: list[Lookup],
    party: str,
    cause: str,
    lost: int,
    sentence: str,
    step: str,
) -> Finding:
    users = len({k.client for k in rows})
    first, last = min(k.asked_ns for k in rows), max(k.latest_ns for k in rows)
    severity = "critical" if lost >= 5e9 and users >= 3 else "major" if lost >= 2e9 or users >= 3 else "minor"
    grounds = {
        "users": users,
        "wait_ms": lost / 1e6,
        "first_ns": first,
        "last_ns": last,
        "exchanges": 0,
        "protocol": protocol,
        "name": analysis.places.short(server.rsplit(":", 1)[0] if server.count(":") == 1 else server),
    }
    return Finding(party, cause, severity, server, sentence, step, 0.8, first, last, lost, users, "", [], [], grounds)


def _failing(analysis: Analysis, protocol: str, server: str, asked: list[Lookup], bad: list[Lookup]) -> Finding:
    silent = [k for k in bad if k.outcome == UNANSWERED]
    codes = sorted({k.outcome for k in bad if k.outcome != UNANSWERED})
    lost = sum(k.latency_ns if k.answered_ns >= 0 else k.latest_ns - k.asked_ns for k in bad)
    name, users = _name(analysis, server), len({k.client for k in bad})
    said = " and ".join(
        [
            *([f"{len(silent)} unanswered"] if silent else []),
            *([f"{len(bad) - len(silent)} with {', '.join(codes)}"] if codes else []),
        ]
    )
    whole = [c for c in {k.client for k in bad} if all(failed(protocol, k.outcome) for k in asked if k.client == c)]
    sentence = (
        f"{name} fails {share(len(bad) / len(asked))} of {len(asked)} {_WORDS[protocol]}: {said}; {users}"
        f" client{'s' if users != 1 else ''}."
    )
    if protocol == "dns" and whole and len(whole) < len({k.client for k in asked}):
        sentence += f" {', '.join(sorted(whole)[:3])} received no response."
    party = causes.UNEXPLAINED if len(silent) > len(bad) - len(silent) else causes.SERVER
    step = (
        f"A capture near {server} would tell whether the requests arrive."
        if party == causes.UNEXPLAINED
        else f"Look at the service on {server}: it returns errors."
    )
    return _made(analysis, protocol, server, bad, party, "failed look-ups", lost, sentence, step)


def _late(analysis: Analysis, protocol: str, server: str, asked: list[Lookup], late: list[Lookup]) -> Finding:
    lost = sum(k.latency_ns for k in late)
    usual = float(np.median([k.latency_ns for k in asked if k.answered_ns >= 0]))
    slow = float(np.median([k.latency_ns for k in late]))
    period = f"{moment(late[0].asked_ns, digits=0)} to {moment(late[-1].asked_ns, digits=0)}"
    sentence = f"{_name(analysis, server)} answers {len(late)} of {len(asked)} {_WORDS[protocol]} late: "
    sentence += f"median {duration(slow)} of those, usually {duration(usual)}; {period}."
    again = [k for k in late if k.tries > 1]
    party = causes.NETWORK if len(again) * 2 > len(late) else causes.SERVER
    step = f"Look at what {server} depends on: the servers behind it, its load."
    if party == causes.NETWORK:
        step = f"{len(again)} of them were retransmitted: look for packet loss on the path."
    return _made(
        analysis,
        protocol,
        server,
        late,
        party,
        causes.CHARGES[causes.NAME][1] if protocol == "dns" else "late answers",
        lost,
        sentence,
        step,
    )
