"""One server held up several services in front of it, and those who ask it themselves: one finding for each site."""

from dataclasses import replace
from itertools import groupby

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.addresses import client_labels
from yaffle.findings.finding import Finding, severity_of
from yaffle.ledger import causes
from yaffle.quantiles import median, p95
from yaffle.units import duration

HELD_UP = "held_up"  # in a finding's grounds: the service that its own server was blamed for at first
OWN_WORDS = "own"  # how long it was their own, in words
SPENT = "spent"  # and of its servers' time: [what the one behind took, all], ms


def _story(finding: Finding) -> tuple[str, str, str]:
    return finding.site, finding.subject, finding.cause


def join_fronts(analysis: Analysis, findings: list[Finding]) -> list[Finding]:
    """The findings, with those of one server, cause and site joined to one, where servers in front of it waited."""
    about_servers = [f for f in findings if f.party == causes.SERVER and f.exchanges]
    others = [f for f in findings if f.party != causes.SERVER or not f.exchanges]
    for _, members in groupby(sorted(about_servers, key=_story), key=_story):
        one_story = sorted(members, key=lambda f: -f.lost_ns)
        direct = [f for f in one_story if HELD_UP not in f.grounds]
        fronts = [f for f in one_story if HELD_UP in f.grounds]
        # Who asks the server directly tells most plainly how it fared.
        joined, others = direct[:1] + fronts, others + direct[1:]
        others += [_joined(analysis, joined)] if len(joined) > 1 else joined
    return sorted(others, key=lambda f: -f.lost_ns)


def _joined(analysis: Analysis, findings: list[Finding]) -> Finding:
    account, flows = analysis.account, analysis.capture.conversations
    first, *fronts = findings
    exchanges = sorted({row for f in findings for row in f.exchanges})
    connections = sorted({c for f in findings for c in f.connections})
    clients = len(client_labels(flows, account.flow[np.array(connections)]).texts)
    lost = sum(f.lost_ns for f in findings)
    wait = account.exchange_charges[np.array(exchanges)].sum(axis=1)
    app = first.subject.removesuffix(f" for {first.site}")
    suffered = [
        {
            "service": f.grounds[HELD_UP], "exchanges": len(f.exchanges), "clients": f.users,
            "lost_ms": f.lost_ns / 1e6,
        }
        for f in findings
        if HELD_UP in f.grounds
    ]  # fmt: skip
    words = [_waited(f, app) for f in fronts if HELD_UP in f.grounds]
    grounds = {
        **first.grounds,
        "exchanges": len(exchanges),
        "connections": connections,
        "users": clients,
        "wait_ms": float(wait.sum() / 1e6),
        "charged_ms": sum(float(f.grounds["charged_ms"]) for f in findings),
        "median_wait_ms": median(wait) / 1e6,
        "p95_wait_ms": p95(wait) / 1e6,
        "first_ns": min(f.first_ns for f in findings),
        "last_ns": max(f.last_ns for f in findings),
        "suffered": suffered,
        "asked_itself": [] if HELD_UP in first.grounds else first.connections,
    }
    for bound in ("charged_ms_low", "charged_ms_high"):
        if all(bound in f.grounds for f in findings):
            grounds[bound] = sum(float(f.grounds[bound]) for f in findings)
    return replace(
        first,
        severity=severity_of(lost, clients),
        sentence=" ".join([first.sentence, *words]),
        first_ns=grounds["first_ns"],
        last_ns=grounds["last_ns"],
        lost_ns=lost,
        users=clients,
        exchanges=exchanges,
        connections=connections,
        grounds=grounds,
    )


def _waited(finding: Finding, app: str) -> str:
    """How a service in front of it fared."""
    front, (took, spent) = finding.grounds[HELD_UP], finding.grounds[SPENT]
    clients = f"{finding.users} client{'s' if finding.users != 1 else ''}"
    exchanges = f"{len(finding.exchanges):,} exchange{'s' if len(finding.exchanges) != 1 else ''}"
    return (
        f"{front} waited for it, too ({exchanges} of {clients}): of its servers' {duration(int(spent * 1e6))}"
        f" {app} took {duration(int(took * 1e6))}, {front} itself {finding.grounds[OWN_WORDS]}."
    )
