"""Which service calls which: how often a request does, and how much of its time it waits there."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s
from yaffle.tiers.behind import Behind
from yaffle.tiers.split import NETWORK


@dataclass(frozen=True)
class Dependency:
    """One service behind another one; what is expected over all that may be, not a sum of guesses."""

    front: int  # number of the calling service
    behind: int  # of the called one
    requests: int  # of the calling one
    calls: float  # to the called one for them
    with_calls: float  # requests that make any
    wait_ns: (
        float  # of the calling server's time, what it waited for these calls: what lies behind them, and the way there
    )
    network_ns: float  # of that, the way from the one to the other
    server_ns: float  # the calling server's time
    certainty: float  # of the links, on average, by how likely each is


def dependencies(behind: Behind, service: Int64s, server_ns: Int64s) -> list[Dependency]:
    """All of them, those with the longest waits first.

    service: number of each exchange's service, -1 for exchanges that do not count; server_ns: of each exchange.
    """
    if not behind.call.size:
        return []
    size = int(service.max()) + 1
    pair = service[behind.front] * size + service[behind.call]
    parts = behind.parts
    beyond = parts.via != parts.of
    of, via, ns = parts.of[beyond], parts.via[beyond], parts.ns[beyond]
    part_pair = service[of] * size + service[via]
    way = (parts.kind[beyond] == NETWORK) & (parts.at[beyond] == via)
    own = service >= 0
    requests = np.bincount(service[own], minlength=size)
    spent = np.bincount(service[own], server_ns[own], size)
    kept = (service[behind.front] >= 0) & (service[behind.call] >= 0) & (behind.certainty > 0)
    found = []
    for number in np.unique(pair[kept]).tolist():
        links = kept & (pair == number)
        certainty, mine = behind.certainty[links], part_pair == number
        _, place = np.unique(behind.front[links], return_inverse=True)
        without = np.ones(int(place.max(initial=-1)) + 1)
        np.multiply.at(without, place.reshape(-1), 1.0 - certainty)
        front, called = divmod(number, size)
        found.append(
            Dependency(
                front,
                called,
                int(requests[front]),
                float(certainty.sum()),
                float((1.0 - without).sum()),
                float(ns[mine].sum()),
                float(ns[mine & way].sum()),
                float(spent[front]),
                float((certainty**2).sum() / max(certainty.sum(), 1e-9)),
            )
        )
    return sorted((one for one in found if one.calls >= 0.5), key=lambda one: -one.wait_ns)
