"""On which segment of the path the packets of some connections were lost, where several points saw them."""

from collections import Counter

import numpy as np

from yaffle.analysis import Analysis


def where_lost(analysis: Analysis, connections: list[int]) -> list[tuple[str, str, int, int]]:
    """(point passed first, point passed then, packets lost between, packets sent) in each direction of each segment, most lost first; empty where one point alone saw them."""
    flows, packets, points = analysis.capture.conversations, analysis.capture.packets, analysis.capture.points
    columns = (flows.a_hi, flows.a_lo, flows.b_hi, flows.b_lo, flows.a_port, flows.b_port, flows.protocol)
    wanted = set(zip(*(column[analysis.account.flow[connections]].tolist() for column in columns), strict=True))
    own = np.array([ends in wanted for ends in zip(*(column.tolist() for column in columns), strict=True)], bool) if analysis.path.segments else np.zeros(0, bool)
    lost: Counter[tuple[str, str]] = Counter()
    sent: Counter[tuple[str, str]] = Counter()
    for segment in analysis.path.segments:
        for way, start, end in ((segment.up, segment.near, segment.far), (segment.down, segment.far, segment.near)):
            key = (points[start], points[end])
            sent[key] += int(own[packets.flow[way.sent]].sum())
            lost[key] += int(own[packets.flow[way.lost]].sum())
    return sorted(((start, end, lost[start, end], count) for (start, end), count in sent.items() if count), key=lambda one: -one[2])
