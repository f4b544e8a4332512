"""Services and how they answer: name servers, leases, sign-on, web hosts, databases; latency, failures, users."""

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s
from yaffle.capture.addresses import address_of
from yaffle.exchanges.lookup import UNANSWERED
from yaffle.findings.services import failed
from yaffle.quantiles import median, p95
from yaffle.session.evidence import Evidence
from yaffle.session.expressions import one_of, only
from yaffle.session.make_up import TREND

_KINDS = {
    "dns": "DNS",
    "mdns": "mDNS",
    "dhcp": "DHCP",
    "dhcpv6": "DHCPv6",
    "ntp": "NTP",
    "snmp": "SNMP",
    "icmp": "ICMP echo",
    "quic": "QUIC",
    "radius": "RADIUS",
    "http": "HTTP",
    "http2": "HTTP/2",
    "smb": "SMB",
    "ldap": "LDAP",
    "tls": "TLS",
    "postgresql": "PostgreSQL",
    "mysql": "MySQL",
    "redis": "Redis",
}

_MOST_NAMED = 50


def kind_name(protocol: str) -> str:
    """A protocol as it is written for people."""
    return _KINDS.get(protocol, protocol.upper())


@dataclass(frozen=True)
class Service:
    """One service in a period."""

    kind: str
    name: str
    asked: int
    failures: int  # of the answers
    unanswered: int
    users: int
    users_affected: int  # with a failure or no answer
    median_ns: float | None
    p95_ns: float | None
    worst_ns: float | None
    trend: Int64s  # questions over the period
    address: str = ""  # of the server; empty where several answer under one name
    clients: tuple[str, ...] = ()  # some of those that asked: where it failed, those it failed
    where: str = ""  # the filter that selects its exchanges; what is not TCP has none
    asked_ns: Int64s = field(default_factory=lambda: np.empty(0, np.int64))  # of each question, in order of time
    latency_ns: Int64s = field(default_factory=lambda: np.empty(0, np.int64))  # -1 without an answer
    bad: Bools = field(default_factory=lambda: np.empty(0, bool))  # failed, or no answer

    @property
    def failed_share(self) -> float:
        """Failures and silence as a share of what was asked."""
        return (self.failures + self.unanswered) / max(1, self.asked)


@dataclass
class _Tally:
    latency: list[int] = field(default_factory=list)
    asked: list[int] = field(default_factory=list)
    bad: list[bool] = field(default_factory=list)
    failures: int = 0
    unanswered: int = 0
    users: set[str] = field(default_factory=set)
    affected: set[str] = field(default_factory=set)
    servers: dict[tuple[str, int], None] = field(default_factory=dict)  # over TCP
    addresses: set[str] = field(default_factory=set)

    def add(self, asked_ns: int, latency_ns: int, user: str, bad: bool, silent: bool) -> None:
        self.asked.append(asked_ns)
        self.latency.append(-1 if silent else latency_ns)
        self.bad.append(bad or silent)
        self.users.add(user)
        self.failures += bad and not silent
        self.unanswered += silent
        if bad or silent:
            self.affected.add(user)


def services(evidence: Evidence, first_ns: int, last_ns: int) -> list[Service]:
    """Services that were asked in the period: those that fail most first, then the busiest."""
    tallies: dict[tuple[str, str], _Tally] = defaultdict(_Tally)
    places, analysis = evidence.places, evidence.analysis
    for lookup in analysis.lookups.rows:
        if first_ns <= lookup.asked_ns <= last_ns:
            with_port = lookup.protocol in ("radius", "quic")
            address = address_of(lookup.server) if with_port else lookup.server
            silent = lookup.outcome == UNANSWERED
            tallies[lookup.protocol, places.short(address)].addresses.add(address)
            user = address_of(lookup.client) if with_port else lookup.client
            tallies[lookup.protocol, places.short(address)].add(
                lookup.asked_ns, lookup.latency_ns, user, failed(lookup.protocol, lookup.outcome), silent
            )
    _of_exchanges(evidence, first_ns, last_ns, tallies)
    found = []
    for (protocol, name), tally in tallies.items():
        span = max(1, last_ns - first_ns)
        place = np.minimum(TREND - 1, (np.array(tally.asked) - first_ns) * TREND // span)
        order = np.argsort(tally.asked, kind="stable")
        every = np.array(tally.latency, np.int64)[order]
        latency = every[every >= 0]
        found.append(
            Service(
                kind_name(protocol), name, len(tally.asked), tally.failures, tally.unanswered,
                len(tally.users), len(tally.affected),
                median(latency) if latency.size else None, p95(latency) if latency.size else None,
                float(latency.max()) if latency.size else None,
                np.bincount(place, minlength=TREND), next(iter(tally.addresses)) if len(tally.addresses) == 1 else "",
                tuple(sorted(tally.affected or tally.users)[:_MOST_NAMED]),
                _where(protocol, list(tally.servers)), np.array(tally.asked, np.int64)[order], every,
                np.array(tally.bad, bool)[order],
            )
        )  # fmt: skip
    return sorted(found, key=lambda s: (-(s.failures + s.unanswered), -s.asked))


def _where(protocol: str, servers: list[tuple[str, int]]) -> str:
    """The filter that selects what some servers answered in a protocol."""
    if not servers or len(servers) > _MOST_NAMED:
        return ""
    ports = sorted({port for _, port in servers})
    return " and ".join(
        (
            only("protocol", protocol),
            one_of("server", sorted({address for address, _ in servers})),
            one_of("server_port", ports),
        )
    )


def _of_exchanges(evidence: Evidence, first_ns: int, last_ns: int, tallies: dict[tuple[str, str], _Tally]) -> None:
    """Services over TCP whose messages are known; latency is what the user waited."""
    waits, analysis = evidence.waits, evidence.analysis
    messages = analysis.messages
    inside = np.flatnonzero((waits.exchange >= 0) & (waits.first_ns >= first_ns) & (waits.first_ns <= last_ns))
    message = analysis.account.of_exchange("message")[waits.exchange[inside]] if inside.size else inside
    rows, message = inside[message >= 0], message[message >= 0]
    owner = waits.connection[rows]
    for m, c, asked, wait, answered in zip(
        message.tolist(), owner.tolist(), waits.first_ns[rows].tolist(), waits.wait_ns[rows].tolist(),
        evidence.answered(rows).tolist(), strict=True,
    ):  # fmt: skip
        protocol = messages.protocol[c]
        if protocol == "dns":
            continue
        name = messages.host.get(c) or f"{evidence.places.short(evidence.server[c])} port {int(evidence.port[c])}"
        outcome = messages.outcome_of(m, answered)
        tallies[protocol, name].servers[evidence.server[c], int(evidence.port[c])] = None
        tallies[protocol, name].add(asked, wait, evidence.client[c], failed(protocol, outcome), outcome == UNANSWERED)


@dataclass(frozen=True)
class Answering:
    """How a service answered over time: per interval, nan where it was not asked."""

    edges_ns: Int64s
    median_ns: Float64s
    p95_ns: Float64s
    asked: Int64s
    bad: Int64s  # failed, or no answer


def answering(service: Service, edges_ns: Int64s) -> Answering:
    """The service in intervals; edges_ns: int64 (n + 1,)."""
    bins = edges_ns.size - 1
    place = np.clip(np.searchsorted(edges_ns, service.asked_ns, "right") - 1, 0, bins - 1)
    answered = service.latency_ns >= 0
    own, latency = place[answered], service.latency_ns[answered]
    order = np.lexsort((latency, own))
    sizes = np.bincount(own, minlength=bins)
    begins = np.cumsum(sizes) - sizes
    some = sizes > 0
    found = []
    for share in (0.5, 0.95):
        line = np.full(bins, np.nan)
        line[some] = latency[order][begins[some] + np.minimum(sizes[some] - 1, (share * sizes[some]).astype(np.int64))]
        found.append(line)
    return Answering(
        edges_ns,
        found[0],
        found[1],
        np.bincount(place, minlength=bins),
        np.bincount(place[service.bad], minlength=bins),
    )
