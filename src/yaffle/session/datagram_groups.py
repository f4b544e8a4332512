"""Conversations that are not TCP, grouped by what runs at the server, for the screen."""

from dataclasses import dataclass

import numpy as np

from yaffle.quantiles import median, p95
from yaffle.session.evidence import Evidence

_KINDS = {1: "ICMP", 17: "UDP", 58: "ICMPv6", 132: "SCTP"}


@dataclass(frozen=True)
class OtherGroup:
    """Conversations of one kind with one service."""

    label: str
    conversations: int
    packets: int
    answers: int
    unanswered: int
    median_ns: float | None
    p95_ns: float | None


def other_groups(evidence: Evidence, first_ns: int, last_ns: int) -> list[OtherGroup]:
    """Groups active in the period, most packets first. Each conversation counts once, wherever it was seen."""
    talks, flows = evidence.analysis.datagrams, evidence.analysis.capture.conversations
    shown = evidence.counted[talks.flow] & (talks.fact("first_ns") <= last_ns) & (talks.fact("last_ns") >= first_ns)
    labels = evidence.flow_application
    code = labels.codes[talks.flow] * 256 + np.minimum(255, flows.protocol[talks.flow].astype(np.int64))
    found = []
    for key in np.unique(code[shown]).tolist():
        member = shown & (code == key)
        latencies = talks.answer_ns[member[talks.answer_row]] if talks.answer_row.size else talks.answer_ns
        kind = _KINDS.get(key % 256, f"IP {key % 256}")
        name = labels.texts[key // 256]
        found.append(
            OtherGroup(
                kind if name == "port 0" or kind.startswith("ICMP") else f"{name}, {kind}",
                int(member.sum()),
                int(talks.fact("client_packets")[member].sum() + talks.fact("server_packets")[member].sum()),
                int(talks.fact("answers")[member].sum()),
                int(talks.fact("unanswered")[member].sum()),
                median(latencies) if latencies.size else None,
                p95(latencies) if latencies.size else None,
            )
        )
    return sorted(found, key=lambda g: -g.packets)
