"""A finding in one line: who, what, how much. The sentence and its grounds come on demand."""

from yaffle.findings.finding import Finding
from yaffle.ledger import causes
from yaffle.units import count, duration

_WHAT = {
    "refused": "connection refused",
    "unanswered": "no response",
    "failed look-ups": "failed requests",
    "no names": "no name resolved",
    "slower answers": "response time above baseline",
    "late answers": "slow responses",
    "full-line": "high utilization",
    "CPU core saturated": "one CPU core saturated",
    "softnet drops": "packets dropped by the kernel",
    "softnet squeezes": "packet processing out of budget",
    "listen overflows": "accept queue full",
    "UDP buffer drops": "datagrams dropped (socket buffer full)",
    "discards": "packets discarded",
    "interface errors": "interface errors",
    "marking": "unexpected DSCP",
    "queue at a node": "a queue stood",
    "authentication failed": "authentication failed",
    "association failed": "association refused",
    "keys failed": "wrong key",
    "address failed": "no address",
    "moves to and fro": "moves to and fro",
    "weak signal": "weak signal, many retries",
    "channel without room": "channel without room",
    "late address": "late address",
    "slow sign-on": "slow sign-on",
    "low rate takes airtime": "low rate takes the airtime",
    "retries despite signal": "many retries, strong signal",
    "unsteady cycle": "cycle no longer steady",
    "cyclic stream stopped": "cyclic stream stopped",
}


def what(finding: Finding) -> str:
    """The cause in a few words."""
    if "protocol" in finding.grounds and finding.cause == causes.CHARGES[causes.NAME][1]:
        return "slow DNS responses"
    return _WHAT.get(finding.cause) or f"{finding.party} {causes.SHORT.get(finding.cause, finding.cause)}"


def headline(finding: Finding) -> str:
    """The subject, the cause, and the delay in all."""
    return f"{finding.grounds.get('name', finding.subject)}: {what(finding)}{_how_much(finding)}"


def _how_much(finding: Finding) -> str:
    stretches = finding.grounds.get("stretches")
    if stretches:
        return f", {duration(sum(last - first for first, last in stretches))}"
    return f", {duration(finding.lost_ns)}" if finding.lost_ns else ""


def story(finding: Finding) -> str:
    """What findings with one cause behind them share: a server that several sites wait for."""
    if finding.party == causes.SERVER and finding.site:
        return f"{finding.subject.removesuffix(f' for {finding.site}')}: {what(finding)}"
    return finding.key


def story_headline(findings: list[Finding]) -> str:
    """Several findings of one story in one line."""
    delay = duration(sum(finding.lost_ns for finding in findings))
    return f"{story(findings[0])}, {count(len(findings))} sites, {delay}"
