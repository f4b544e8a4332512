"""On which segment of the path the packets of some connections were lost, where several points saw them."""

from collections import Counter

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.points import conversation_keys


def where_lost(analysis: Analysis, connections: list[int]) -> list[tuple[str, str, int, int]]:
    """(point passed first, point passed then, packets lost between, packets sent) in each direction of each segment, most lost first; empty where one point alone saw them."""
    flows, packets, points = analysis.capture.conversations, analysis.capture.packets, analysis.capture.points
    if not analysis.path.segments:
        return []
    keys = conversation_keys(flows)
    own = np.isin(keys, keys[analysis.account.flow[connections]])
    lost: Counter[tuple[str, str]] = Counter()
    sent: Counter[tuple[str, str]] = Counter()
    for segment in analysis.path.segments:
        for way, start, end in ((segment.up, segment.near, segment.far), (segment.down, segment.far, segment.near)):
            key = (points[start], points[end])
            sent[key] += int(own[packets.flow[way.sent]].sum())
            lost[key] += int(own[packets.flow[way.lost]].sum())
    return sorted(((start, end, lost[start, end], count) for (start, end), count in sent.items() if count), key=lambda one: -one[2])
