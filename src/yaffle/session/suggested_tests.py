"""The test that would settle a finding, where one would: what to ask, and whom."""

from dataclasses import dataclass

from yaffle.capture.addresses import end_text
from yaffle.findings.finding import Finding
from yaffle.ledger import causes
from yaffle.session.evidence import Evidence


@dataclass(frozen=True)
class Suggested:
    """kind, target: as `yaffle probe` takes them; why: what its answer would say."""

    kind: str
    target: str
    why: str

    @property
    def words(self) -> str:
        """For a menu."""
        return f"Test now: {self.kind} {self.target}…"


def suggested_test(evidence: Evidence, finding: Finding) -> Suggested | None:
    """None where no test from here would say more."""
    if "protocol" in finding.grounds:
        server = finding.subject.rpartition(":")[0] if finding.subject.count(":") == 1 else finding.subject
        return Suggested("reach", server, "whether the service's host is there, and how far it is")
    if not finding.connections:
        return None
    asked = finding.grounds.get("asked_itself") or finding.connections  # Rather than servers in front of it.
    busiest = max(asked, key=lambda c: int(evidence.analysis.account.fact("worst_wait_ns")[c]))
    server = evidence.server.texts[evidence.server.codes[busiest]]
    client = evidence.client.texts[evidence.client.codes[busiest]]
    end = end_text(server, int(evidence.port[busiest]))
    if finding.cause in ("refused", "unanswered"):
        return Suggested("connect", end, "whether it still does not answer")
    if finding.party == causes.NETWORK:
        return Suggested(
            "route", client if finding.users == 1 else server, "by which way, and where delay or loss begin"
        )
    if finding.party == causes.SERVER:
        return Suggested("connect", end, "how long its host takes to open a connection, without any request")
    return Suggested("reach", client, "how far the client is, without its application")
