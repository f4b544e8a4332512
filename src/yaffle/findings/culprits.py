"""Behind whose traffic others waited: who filled the path while they did."""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Bools, Int64s, Int64s2
from yaffle.capture.addresses import client_address, server_address
from yaffle.capture.packets import Columns
from yaffle.halves import sum_of_halves
from yaffle.kernels import kernel
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


@kernel
def _sent_meanwhile(
    packets: Columns, begin: int, end: int, own: Bools, starts: Int64s, ends: Int64s, sent: Int64s2
) -> None:
    """Adds to sent[conversation, direction] the bytes of some packets, from one to before another, of the `own`
    conversations that passed in any of some periods. starts, ends: of the periods in order of their beginning, each end
    no earlier than the one before.
    """
    place, last = 0, starts.size - 1
    for i in range(begin, end):
        flow, t = packets.flow[i], packets.time_ns[i]
        if flow < 0 or not own[flow]:
            continue
        if t < starts[place] or (place < last and starts[place + 1] <= t):
            place = max(0, np.searchsorted(starts, t, "right") - 1)
        if starts[place] <= t <= ends[place]:
            sent[flow, packets.direction[i]] += packets.wire_bytes[i]


def _together(starts: Int64s, ends: Int64s) -> tuple[Int64s, Int64s]:
    """Periods in order of their beginning, each end no earlier than the one before: those that touch as one."""
    apart = np.flatnonzero(starts[1:] > ends[:-1])
    return starts[np.append(0, apart + 1)], ends[np.append(apart, ends.size - 1)]


def culprits(analysis: Analysis, rows: Int64s) -> tuple[list[Culprit], float]:
    """(who else filled the path of some exchanges while these waited, most first; their own connections' share).

    The path is that of the clients' networks at the points where the exchanges were seen, whatever servers they talk
    to.
    """
    if not rows.size:
        return [], 0.0
    account, capture = analysis.account, analysis.capture
    flows, packets = capture.conversations, capture.packets
    members = np.unique(account.flow[account.of_exchange("connection")[rows]])
    network = networks(flows.a_hi, flows.a_lo, flows.ipv6)
    own = np.isin(network, network[members]) & np.isin(flows.point, flows.point[members])
    first, last = account.of_exchange("first_ns")[rows], account.of_exchange("end_ns")[rows]
    order = np.argsort(first, kind="stable")
    starts, ends = _together(first[order], np.maximum.accumulate(last[order]))

    def work(half: slice) -> Int64s2:
        found = np.zeros((flows.point.size, 2), np.int64)
        _sent_meanwhile(packets, half.start, half.stop, own, starts, ends, found)
        return found

    sent = sum_of_halves(work, packets.time_ns.size)
    if not sent.any():
        return [], 0.0
    sums = sent.sum(axis=1)
    whole = float(sums.sum())
    themselves = float(sums[members].sum()) / whole
    sums[members] = 0
    found = []
    for flow in np.argsort(-sums, kind="stable")[:_MOST].tolist():
        if sums[flow] < _LEAST_SHARE * whole:
            break
        both = client_address(flows, flow), server_address(flows, flow)
        source = int(sent[flow].argmax())
        found.append(Culprit(both[source], both[1 - source], int(sums[flow]), float(sums[flow]) / whole))
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
