"""Devices on the way that answer connections themselves: the same ends at two points, but another sequence space on
either side.
"""

from collections import Counter
from dataclasses import dataclass

import numpy as np

from yaffle.capture.addresses import end_text, server_address
from yaffle.capture.captured import Capture
from yaffle.capture.shared_conversations import conversation_keys, other_sequences

_MOST_AT_A_POINT = 16  # Conversations of the same ends that are compared.


@dataclass(frozen=True)
class SplitConnections:
    """Connections to one server that something between two points answers itself."""

    near: str
    far: str
    server: str
    connections: int
    packets: tuple[int, int]  # at either point


def split_connections(capture: Capture) -> list[SplitConnections]:
    """By points and server, those with most connections first."""
    flows = capture.conversations
    if len(capture.points) < 2:
        return []
    keys = conversation_keys(flows)
    order = np.argsort(keys, kind="stable")
    pairs = []
    for group in np.split(order, np.flatnonzero(np.diff(keys[order])) + 1):
        if group.size > 1 and np.unique(flows.point[group]).size > 1:
            few = group[:_MOST_AT_A_POINT].tolist()
            pairs += [(a, b) for k, a in enumerate(few) for b in few[k + 1 :] if flows.point[a] < flows.point[b]]
    split = other_sequences(flows, np.array(pairs, np.int64).reshape(-1, 2))
    counts: Counter[tuple[int, int, str]] = Counter()
    packets: Counter[tuple[int, int, str, int]] = Counter()
    for (a, b), differs in zip(pairs, split.tolist(), strict=True):
        if differs:
            key = int(flows.point[a]), int(flows.point[b]), end_text(server_address(flows, a), int(flows.b_port[a]))
            counts[key] += 1
            for side, row in enumerate((a, b)):
                packets[*key, side] += int(flows.packets[row].sum())
    return [
        SplitConnections(
            capture.points[p], capture.points[q], server, count, (packets[p, q, server, 0], packets[p, q, server, 1])
        )
        for (p, q, server), count in counts.most_common()
    ]
