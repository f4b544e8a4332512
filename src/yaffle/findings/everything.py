"""All findings of an analysis, in one order."""

from yaffle.analysis import Analysis
from yaffle.findings.finding import Finding, find
from yaffle.findings.services import service_findings


def all_findings(analysis: Analysis) -> list[Finding]:
    """Of connections and of services, the most time lost first."""
    return sorted([*find(analysis, analysis.speaker), *service_findings(analysis)], key=lambda f: -f.lost_ns)
