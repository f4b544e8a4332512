"""What is not TCP: UDP, ICMP and others, a row a conversation. Rates, gaps, and answers where requests can be told.

ICMP echo pairs by its number (RFC 792, RFC 4443). Elsewhere a packet of the client that follows an answered one, or the
first, asks; the next packet of the server answers; what the client sends meanwhile is another try. A conversation in
which only one side ever sends is a stream and asks nothing.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s, Int64s2
from yaffle.capture.captured import Capture
from yaffle.capture.packets import Columns
from yaffle.kernels import int64, kernel

FIELDS = (
    "client_packets",
    "server_packets",
    "client_bytes",
    "server_bytes",
    "first_ns",
    "last_ns",
    "longest_gap_ns",
    "answers",
    "unanswered",
    "tries",
)
_SPOKE, _PENDING, _NUMBER = 0, 1, 2


@dataclass(frozen=True)
class Datagrams:
    """Conversations that are not TCP.

    `flow` says which; `facts` int64 (n, FIELDS); latencies of all answers, by row.
    """

    flow: Int64s
    facts: Int64s2
    answer_row: Int64s
    answer_ns: Int64s

    def fact(self, name: str) -> Int64s:
        """A column."""
        return np.asarray(self.facts[:, FIELDS.index(name)])

    def latencies_ns(self, row: int) -> Int64s:
        """Answer times of one conversation, in order of time."""
        return np.asarray(self.answer_ns[self.answer_row == row])


@kernel
def _count(
    packets: Columns, number: Int64s, facts: Int64s2, state: Int64s2, answer_row: Int64s, answer_ns: Int64s
) -> int:
    answers = 0
    for i in range(packets.flow.size):
        flow = packets.flow[i]
        if flow < 0 or number[flow] < 0:
            continue
        r = number[flow]
        t = packets.time_ns[i]
        d = int64(packets.direction[i])
        f, s = facts[r], state[r]
        if f[4] == 0:
            f[4] = f[5] = t
        f[d] += 1
        f[2 + d] += packets.wire_bytes[i]
        f[6] = max(f[6], t - f[5])
        f[5] = max(f[5], t)
        echo = packets.protocol[i] == 1 or packets.protocol[i] == 58
        told = int64(packets.head[i].seq)
        if d == 0:
            if s[_PENDING] > 0 and (not echo or s[_NUMBER] == told):
                f[9] += 1
            else:
                if s[_PENDING] > 0:
                    f[8] += 1
                s[_PENDING], s[_NUMBER] = t, told
                f[9] += 1
        elif s[_PENDING] > 0 and (not echo or s[_NUMBER] == told):
            answer_row[answers] = r
            answer_ns[answers] = max(int64(0), t - s[_PENDING])
            answers += 1
            f[7] += 1
            s[_PENDING] = 0
    for r in range(facts.shape[0]):
        if state[r, _PENDING] > 0:
            facts[r, 8] += 1
        if facts[r, 1] == 0 and facts[r, 0] > 3:  # A stream one way.
            facts[r, 8] = 0
            facts[r, 9] = 0
    return answers


def datagrams(capture: Capture) -> Datagrams:
    """Facts of every conversation that is not TCP."""
    flows = capture.conversations
    others = np.flatnonzero(flows.protocol != 6)
    number = np.full(flows.point.size, -1, np.int64)
    number[others] = np.arange(others.size)
    facts, state = np.zeros((others.size, len(FIELDS)), np.int64), np.zeros((others.size, 3), np.int64)
    room = int(flows.packets[others].sum())
    answer_row, answer_ns = np.empty(room, np.int64), np.empty(room, np.int64)
    count = _count(capture.packets, number, facts, state, answer_row, answer_ns) if others.size else 0
    return Datagrams(others, facts, answer_row[:count].copy(), answer_ns[:count].copy())
