"""All findings of an analysis, worst first: of waits, of services, of markings; what is one story is told once."""

from dataclasses import replace

from yaffle.analysis import Analysis
from yaffle.findings.air import air_findings
from yaffle.findings.cyclic import cyclic_findings
from yaffle.findings.finding import Finding
from yaffle.findings.full_links import interface_findings
from yaffle.findings.held_up import name_who_held_up
from yaffle.findings.long_waits import long_wait_findings
from yaffle.findings.markings import marking_findings
from yaffle.findings.queues import queue_findings
from yaffle.findings.services import service_findings
from yaffle.findings.slow_exchanges import find
from yaffle.findings.strained_hosts import strained_hosts
from yaffle.ledger import causes

_SEVERITIES = ("critical", "major", "minor")  # ITU-T X.733
_NAME = causes.CHARGES[causes.NAME][1]


def all_findings(analysis: Analysis) -> list[Finding]:
    """Everything found, the most severe first; of one severity what cost its users most, then what cost nobody time."""
    of_waits = name_who_held_up(analysis, find(analysis, analysis.speaker))
    of_services = service_findings(analysis)
    found = interface_findings(analysis) + strained_hosts(analysis) + queue_findings(analysis)
    for service in of_services:
        victims = [f for f in of_waits if _is_told_by(f, service)]
        of_waits = [f for f in of_waits if f not in victims]
        found.append(_with_victims(service, victims) if victims else service)
    of_months = long_wait_findings(analysis)  # After what may have made them wait: full links, hosts at their limits.
    worst_first = sorted(of_waits + found, key=lambda f: -f.lost_ns)
    on_links = air_findings(analysis) + cyclic_findings(analysis)
    every = worst_first + of_months + on_links + marking_findings(analysis)
    return sorted(every, key=lambda f: _SEVERITIES.index(f.severity))


def _is_told_by(finding: Finding, service: Finding) -> bool:
    """Whether those who waited for names waited for this name server, and then."""
    if (
        finding.cause != _NAME
        or service.grounds.get("protocol") != "dns"
        or service.subject not in finding.grounds.get("name_servers", [])
    ):
        return False
    return finding.first_ns <= service.last_ns and finding.last_ns >= service.first_ns


def _with_victims(service: Finding, victims: list[Finding]) -> Finding:
    sites = [v.site for v in victims]
    exchanges = sum(int(v.grounds["exchanges"]) for v in victims)
    named = ", ".join(sites[:-1]) + f" and {sites[-1]}" if len(sites) > 1 else sites[0]
    sentence = (
        f"{service.sentence} {named} waited for it before {exchanges} exchange{'s' if exchanges != 1 else ''} could"
        " begin."
    )
    connections = [c for v in victims for c in v.connections]
    return replace(
        service,
        sentence=sentence,
        exchanges=[x for v in victims for x in v.exchanges],
        connections=connections,
        grounds={**service.grounds, "exchanges": exchanges},
    )
