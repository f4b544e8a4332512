"""Interfaces that count errors or discards: how many, when, and whether they were full then."""

from dataclasses import dataclass

import numpy as np

from yaffle.findings.finding import Finding
from yaffle.findings.interfaces import OVER, InterfaceUse
from yaffle.ledger import causes
from yaffle.units import count, date_and_moment, share

_HOUR_NS = 3600 * 10**9
_MOST = 10


@dataclass(frozen=True)
class _Kind:
    """What is counted. least: in the worst hour, from which on it is a finding."""

    cause: str
    least: int
    words: str


_ERRORS = _Kind("interface errors", 10, "packets with errors")
_DISCARDS = _Kind("discards", 100, "discarded packets, which had no error")


def worn_interfaces(found: list[InterfaceUse]) -> list[Finding]:
    """A finding for each interface with errors, and for each with discards, those with most first."""
    told = [
        finding
        for one in found
        for kind, counts in ((_ERRORS, one.errors_at), (_DISCARDS, one.discards_at))
        if (finding := _finding(one, kind, counts)) is not None
    ]
    return sorted(told, key=lambda finding: -int(finding.grounds["count"]))[:_MOST]


def _finding(one: InterfaceUse, kind: _Kind, counts: np.ndarray) -> Finding | None:
    some = np.flatnonzero(counts > 0)
    if not some.size:
        return None
    hours, place = np.unique(one.middles_ns[some] // _HOUR_NS, return_inverse=True)
    sums = np.bincount(place, counts[some])
    worst = int(np.argmax(sums))
    if sums[worst] < kind.least:
        return None
    total, then = int(counts.sum()), int(hours[worst]) * _HOUR_NS
    most_used = max(float(way[some].max()) for way in one.bps) / one.speed_bps if one.speed_bps > 0 else None
    subject = f"{one.device} {one.name}"
    use = f"; utilization was at most {share(most_used)} then" if most_used is not None else ""
    sentence = (
        f"{subject} counted {count(total)} {kind.words}, most from {date_and_moment(then)[:16]} on"
        f" ({count(int(sums[worst]))} in an hour){use}."
    )
    return Finding(
        causes.NETWORK, kind.cause, "major", subject, sentence, _step(kind, one, most_used), 0.85,
        int(one.middles_ns[some[0]]), int(one.middles_ns[some[-1]]), 0, 0, "", [], [],
        {"device": one.device, "interface": one.number, "count": total, "utilization": most_used, "connections": [],
         "stretches": [[then, then + _HOUR_NS]]},
    )  # fmt: skip


def _step(kind: _Kind, one: InterfaceUse, most_used: float | None) -> str:
    """What would settle it."""
    if kind is _ERRORS:
        return (
            f"Compare duplex and the far end's counters, then replace cable and transceiver of {one.name} of"
            f" {one.device}; FCS errors and late collisions (Survey, hosts) tell which."
        )
    if most_used is not None and most_used > OVER:
        return "The link is the bottleneck: see what fills it (Survey, interfaces, Enter), or give it more bandwidth."
    return (
        "Between two readings the mean was low, so bursts overran the queue, or the device lacks buffers: read it more"
        ' often (every = "1s"), or capture there.'
    )
