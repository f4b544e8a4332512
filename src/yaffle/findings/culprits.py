"""Behind whose traffic others waited: who filled the path while they did."""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array
from yaffle.capture.addresses import client_address, server_address
from yaffle.ledger.path_observation import networks

_LEAST_SHARE = 0.1  # Of what passed meanwhile; less fills no queue.
_MOST = 3


@dataclass(frozen=True)
class Culprit:
    """A conversation that filled the path while others waited on it."""

    source: str  # who sent most of it
    target: str
    octets: int  # while they waited
    share: float  # of all that passed the path then


def _inside(time_ns: Array, first_ns: Array, last_ns: Array) -> Array:
    """Which moments lie in any of some periods."""
    order = np.argsort(first_ns, kind="stable")
    starts, ends = first_ns[order], np.maximum.accumulate(last_ns[order])
    place = np.searchsorted(starts, time_ns, "right") - 1
    return np.asarray((place >= 0) & (time_ns <= ends[np.maximum(0, place)]))


def culprits(analysis: Analysis, rows: Array) -> tuple[list[Culprit], float]:
    """(who else filled the path of some exchanges while these waited, most first; their own connections' share).

    The path is that of the clients' networks at the points where the exchanges were seen, whatever servers they talk
    to.
    """
    account, capture = analysis.account, analysis.capture
    flows, packets = capture.conversations, capture.packets
    members = np.unique(account.flow[account.of_exchange("connection")[rows]])
    network = networks(flows.a_hi, flows.a_lo, flows.ipv6)
    own = np.isin(network, network[members]) & np.isin(flows.point, flows.point[members])
    first, last = account.of_exchange("first_ns")[rows], account.of_exchange("end_ns")[rows]
    here = np.flatnonzero((packets.flow >= 0) & (packets.time_ns >= first.min()) & (packets.time_ns <= last.max()))
    here = here[own[packets.flow[here]]]
    here = here[_inside(packets.time_ns[here], first, last)]
    if not here.size:
        return [], 0.0
    count = flows.point.size
    octets = packets.wire_bytes[here].astype(np.float64)
    by_direction = packets.flow[here] * 2 + packets.direction[here].astype(np.int64)
    sent = np.bincount(by_direction, octets, 2 * count).reshape(count, 2)
    sums = sent.sum(axis=1)
    whole = float(sums.sum())
    themselves = float(sums[members].sum()) / whole
    sums[members] = 0
    found = []
    for flow in np.argsort(-sums, kind="stable")[:_MOST].tolist():
        if sums[flow] < _LEAST_SHARE * whole:
            break
        ends = client_address(flows, flow), server_address(flows, flow)
        source = int(sent[flow].argmax())
        found.append(Culprit(ends[source], ends[1 - source], int(sums[flow]), float(sums[flow]) / whole))
    return found, themselves


def in_words(found: list[Culprit], themselves: float, name: dict[str, str]) -> str:
    """A sentence about them; empty where nobody stands out."""
    if found and found[0].share > themselves:
        ends = [(name.get(c.source, c.source), name.get(c.target, c.target), 100 * c.share) for c in found]
        behind = " and ".join(f"{source}'s transfer to {target} ({part:.0f} %)" for source, target, part in ends)
        return f" It waited behind {behind} of what passed then."
    if themselves > 0.5:
        return f" It filled the path itself: {100 * themselves:.0f} % of what passed then was its own."
    return ""
