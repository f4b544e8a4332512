"""Queues that nodes told of, as findings: where, how long, who filled them, who waited; and dropped packets."""

from collections import defaultdict

from yaffle.analysis import Analysis
from yaffle.findings.finding import Finding
from yaffle.hops.queues import Congestion
from yaffle.hops.visits import FlowKey
from yaffle.ledger import causes
from yaffle.units import count, duration, moment, share, size

CAUSE = "queue at a node"
_MOST = 6
_MAJOR_NS, _CRITICAL_NS = 10_000_000, 100_000_000  # that a victim waited longer, at most


def queue_findings(analysis: Analysis) -> list[Finding]:
    """A finding for each queue that made somebody else wait, or dropped, worst first."""
    if analysis.telemetry.is_empty:
        return []
    by_queue: dict[tuple[int, int], list[Congestion]] = defaultdict(list)
    for one in analysis.telemetry.congestion:
        if one.victims or one.dropped:
            by_queue[one.node, one.egress].append(one)
    found = [_finding(analysis, own) for own in by_queue.values()]
    return sorted(found, key=lambda one: -one.lost_ns)[:_MOST]


def flow_words(analysis: Analysis, key: FlowKey) -> str:
    """A flow as people name it."""
    places = analysis.places
    return f"{places.short(key.src)} to {places.short(key.dst)} port {key.dst_port}"


def node_words(analysis: Analysis, node: int, egress: int) -> str:
    """A queue as people name it."""
    return analysis.node_name(node) + (f", egress {egress}" if egress >= 0 else "")


def _finding(analysis: Analysis, own: list[Congestion]) -> Finding:
    worst = max(own, key=lambda one: max((v.added_ns for v in one.victims), default=one.peak_delay_ns))
    where = node_words(analysis, worst.node, worst.egress)
    stood = sum(one.last_ns - one.first_ns for one in own)
    victims = {v.flow for one in own for v in one.victims}
    added = max((v.added_ns for one in own for v in one.victims), default=0)
    dropped = sum(one.dropped for one in own)
    depth = f", {size(worst.peak_queue)} deep" if worst.peak_queue > 0 else ""
    times = f"{count(len(own))} times, {duration(stood)} in all" if len(own) > 1 else f"for {duration(stood)}"
    who = "; ".join(f"{share(c.share)} of it was {flow_words(analysis, c.flow)}" for c in worst.culprits[:2])
    waited = (
        f" {count(len(victims))} other flow{'s' if len(victims) > 1 else ''} waited for it, up to {duration(added)}"
        " longer than usual."
        if victims
        else ""
    )
    lost = f" It dropped {count(dropped)} packets." if dropped else ""
    sentence = (
        f"The queue at {where} stood {times}; at worst from {moment(worst.first_ns)} on{depth}: {who}.{waited}{lost}"
    )
    severity = "critical" if added >= _CRITICAL_NS else "major" if added >= _MAJOR_NS or dropped else "minor"
    step = "Give the flows that wait a class of their own, pace what fills the queue, or send it by another path."
    return Finding(
        causes.NETWORK, CAUSE, severity, where, sentence, step, 0.95, min(one.first_ns for one in own),
        max(one.last_ns for one in own), sum(v.added_ns for one in own for v in one.victims), len(victims),
        grounds={"node": worst.node, "egress": worst.egress,
                 "stretches": [[one.first_ns, one.last_ns] for one in own]},
    )  # fmt: skip
