"""ICMP echo (RFC 792, RFC 4443 section 4): each request with its reply, by number, in the conversation of its
identifier.
"""

import numpy as np

from yaffle.arrays import Bools, Int64s
from yaffle.capture.addresses import client_labels, server_labels
from yaffle.capture.captured import Capture
from yaffle.exchanges.lookup import UNANSWERED, Lookup

_ASK, _REPLY = (8 << 8, 128 << 8), (0, 129 << 8)  # type << 8 | code, IPv4 and IPv6
MOST = 200_000  # Beyond that conversations are still counted, each echo for itself is not listed.


def _paired(flow: Int64s, number: Int64s, asked: Bools) -> Int64s:
    """For each packet in order of time: the index of its reply; -1 where it has none, or asks nothing.

    flow, number: int64 (n,); asked: bool (n,), whether it asks. A reply answers the request of its number right before
    it.
    """
    reply = np.full(flow.size, -1, np.int64)
    if not flow.size:
        return reply
    order = np.lexsort((np.arange(flow.size), number, flow))
    one, two = order[:-1], order[1:]
    tied = (flow[one] == flow[two]) & (number[one] == number[two]) & asked[one] & ~asked[two]
    reply[one[tied]] = two[tied]
    return reply


def find_echoes(capture: Capture) -> list[Lookup]:
    """All echoes of a capture, no more than MOST."""
    packets, flows = capture.packets, capture.conversations
    own = np.append((flows.protocol == 1) | (flows.protocol == 58), False)  # The last is that of no conversation.
    if not own.any():
        return []
    rows = np.flatnonzero(own[packets.flow])
    four, word = packets.protocol[rows] == 1, packets.flags[rows].astype(np.int64)
    rows = rows[np.where(four, np.isin(word, (_ASK[0], _REPLY[0])), np.isin(word, (_ASK[1], _REPLY[1])))]
    rows = rows[np.argsort(packets.time_ns[rows], kind="stable")][: 2 * MOST]
    kind = packets.flags[rows].astype(np.int64)
    asked = np.isin(kind, _ASK)
    flow = packets.flow[rows].astype(np.int64)
    reply = _paired(flow, packets.head["seq"][rows].astype(np.int64), asked)
    every = np.arange(flows.point.size)
    one, two = client_labels(flows, every), server_labels(flows, every)
    found = []
    times, forward = packets.time_ns[rows], packets.direction[rows] == 0
    for k in np.flatnonzero(asked)[:MOST].tolist():
        of = int(flow[k])
        client, server = (one[of], two[of]) if forward[k] else (two[of], one[of])
        t, answer = int(times[k]), int(reply[k])
        outcome, answered = ("reply", int(times[answer])) if answer >= 0 else (UNANSWERED, -1)
        found.append(
            Lookup("icmp", client, server, "", "echo", outcome, t, answered, point=int(flows.point[of]), latest_ns=t)
        )
    return found
