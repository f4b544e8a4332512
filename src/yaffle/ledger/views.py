"""The same connection seen at several points: which view speaks for it.

The view nearest to the client speaks, because the client's wait is seen there as the client had it.
"""

from typing import Any

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.conversations import Rows
from yaffle.ledger.accounts import Account

_AROUND_NS = 30_000_000_000


def speaking_views(account: Account, flows: Rows, same: Int64s) -> Any:
    """For each connection the number of the connection that speaks for it (its own, if it does).

    same: for each conversation the one it is elsewhere, by its packets (`path.journeys`): its ends there may be
    translated.
    """
    count = account.flow.size
    speaker = np.arange(count)
    points = flows.point[account.flow]
    if count == 0 or np.unique(points).size < 2:
        return speaker
    rows = same[account.flow]
    key = np.zeros(count, np.uint64)
    for column in (flows.a_hi, flows.a_lo, flows.b_hi, flows.b_lo, flows.a_port, flows.b_port):
        key = (key ^ column[rows].astype(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        key ^= key >> np.uint64(31)
    first = account.fact("first_ns")
    nearness = account.fact("to_client_min_ns").copy()
    nearness[nearness < 0] = 1 << 60
    order = np.lexsort((first, key))
    groups = np.split(order, np.flatnonzero(np.diff(key[order])) + 1)
    for group in groups:
        if group.size < 2:
            continue
        cluster = [int(group[0])]
        for c in [*group[1:].tolist(), -1]:
            fresh = c < 0 or first[c] - first[cluster[0]] > _AROUND_NS or points[c] in points[cluster]
            if fresh:
                best = min(cluster, key=lambda m: int(nearness[m]))
                speaker[cluster] = best
                cluster = []
            cluster.append(c)
    return speaker
