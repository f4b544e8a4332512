"""Which conversations of several points are the same one: by their packets, so that a translated address does not part
them.
"""

import numpy as np

from yaffle.arrays import Int64s
from yaffle.path.segments import PathSegment


def journeys(segments: list[PathSegment], conversations: int) -> Int64s:
    """For each conversation the first of those that are the same one elsewhere (itself where no other point shares its
    packets), int64 (n,).
    """
    found = np.arange(conversations, dtype=np.int64)
    pairs = [segment.flows for segment in segments if segment.flows.size]
    if not pairs:
        return found
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    both = np.concatenate(pairs)
    graph = coo_array((np.ones(both.shape[0], np.int8), (both[:, 0], both[:, 1])), shape=(conversations, conversations))
    _, group = connected_components(graph, directed=False)
    first = np.full(conversations, conversations, np.int64)
    np.minimum.at(first, group, found)
    return np.asarray(first[group])
