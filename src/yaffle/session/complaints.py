"""How well a finding explains a complaint: by when, by who, and by what was slow."""

import re

from yaffle.findings.finding import Finding
from yaffle.session.kept import Complaint

_SAID, _SILENT, _OTHER = 1.0, 0.6, 0.15  # The complaint names it; does not say; names something else.
_WELL = 0.5


def _words(text: str) -> set[str]:
    return {
        w
        for w in re.findall(r"[\w.:]{3,}", re.sub(r"[-_]", " ", text.lower()))
        if w not in ("the", "and", "slow", "desk", "with")
    }


def fit(complaint: Complaint, finding: Finding, names: str = "") -> float:
    """0 to 1. A finding outside the complaint's time explains nothing.

    names: further words that tell the finding's users and application (their addresses, sites, hosts).
    """
    first, last = max(complaint.first_ns, finding.first_ns), min(complaint.last_ns, finding.last_ns)
    if last < first:
        return 0.0
    share = (last - first + 1) / max(1, complaint.last_ns - complaint.first_ns + 1)
    about = _words(f"{finding.subject} {finding.site} {finding.sentence} {names}")

    def said(text: str) -> float:
        wanted = _words(text)
        return _SILENT if not wanted else _SAID if wanted & about else _OTHER

    return (0.5 + 0.5 * min(1.0, share)) * said(complaint.who) * said(f"{complaint.what} {complaint.words}")


def ranked(findings: list[Finding], complaints: tuple[Complaint, ...]) -> list[tuple[Finding, float]]:
    """Findings with how well each explains the complaint that it explains best: those that explain one first, then by
    time lost.
    """
    scored = [(f, max((fit(c, f) for c in complaints), default=0.0)) for f in findings]
    return sorted(scored, key=lambda pair: (-round(pair[1], 1), -pair[0].lost_ns))


def in_words(score: float) -> str:
    """What the score means; empty where there is nothing to say."""
    return "explains a complaint well" if score >= _WELL else "may explain a complaint" if score >= 0.2 else ""
