"""Which interfaces are one observation point (RFC 7011 section 2), and which see the same packets elsewhere.

Files that follow each other in time, or that share no packet, are taken for one point: a ring of files, or the two
sides of a tap. Interfaces that see the same packets at the same moments are one point too, and the copies are dropped.
Those that see the same packets at other moments are points of their own.
"""

import itertools
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.capture.continued import begins_of, join_continued
from yaffle.capture.doubles import drop_packets
from yaffle.capture.draft import Draft
from yaffle.capture.records import Interface
from yaffle.capture.shared_conversations import SharedConversations, conversation_keys, other_sequences

_GAP_NS = 10**9  # At most between the files of a ring.


def merge_points(capture: Draft) -> None:
    """Sets the points and their names; joins conversations that go on in the next file; drops copies."""
    labels: list[str] = []
    for source in capture.sources:
        faces: list[Interface | None] = [*source.interfaces] or [None]
        for face in faces:
            labels.append(
                source.name if len(faces) == 1 or face is None else f"{source.name} {face.name or len(labels)}"
            )
    if len(labels) == 1:
        capture.points = labels
        return
    flows = capture.conversations
    spans = [(np.inf, -np.inf)] * len(labels)
    for point in range(len(labels)):
        own = flows.point == point
        if own.any():
            spans[point] = (int(flows.first_ns[own].min()), int(flows.last_ns[own].max()))
    keys = conversation_keys(flows)
    order = np.argsort(keys, kind="stable")
    seen = SharedConversations(capture, order, begins_of(keys[order]))
    parent = list(range(len(labels)))

    def root(point: int) -> int:
        while parent[point] != point:
            point = parent[point]
        return point

    chain = _chains(spans)
    none = np.empty((0, 2), np.int64)
    apart: set[tuple[int, int]] = set()
    copies: list[Array] = []

    def related(p: int, q: int) -> tuple[str, Int64s]:
        pairs = seen.together.get((p, q), none)
        pieces = chain[p] == chain[q]
        kind, extra = seen.compare(pairs, pieces=pieces)
        odd = seen.at_odds.get((p, q), none)
        if kind == "nothing shared" and seen.compare(odd, pieces=pieces)[0] == "elsewhere":
            kind = "elsewhere"
        if kind == "nothing shared" and other_sequences(flows, pairs).any():
            kind = "elsewhere"
        return kind, extra

    every = list(itertools.combinations(range(len(labels)), 2))
    with ThreadPoolExecutor(2) as pool:
        relations = list(pool.map(related, *zip(*every, strict=True)))
    for (p, q), (kind, extra) in zip(every, relations, strict=True):
        overlap = spans[p][0] <= spans[q][1] and spans[q][0] <= spans[p][1]
        if kind == "elsewhere" or (kind == "nothing shared" and overlap and (p, q) not in seen.together):
            apart.add((p, q))
        else:
            copies.append(extra)
    for p in range(len(labels)):
        for q in range(p + 1, len(labels)):
            groups = {root(p), root(q)}
            clash = any(
                (min(a, b), max(a, b)) in apart
                for a in range(len(labels))
                if root(a) == root(p)
                for b in range(len(labels))
                if root(b) == root(q)
            )
            if (p, q) not in apart and len(groups) == 2 and not clash:
                parent[max(groups)] = min(groups)
    roots = sorted({root(p) for p in range(len(labels))})
    number = np.array([roots.index(root(p)) for p in range(len(labels))], np.uint16)
    flows.point[:] = number[flows.point]
    capture.points = [labels[r] for r in roots]
    drop_packets(capture, np.concatenate(copies) if copies else np.empty(0, np.int64))
    join_continued(capture, keys)


def _chains(spans: list[tuple[float, float]]) -> list[int]:
    """A number for each interface, the same for those that follow each other in time without a gap: of rings of
    files.
    """
    number = list(range(len(spans)))
    for p, (first, last) in enumerate(spans):
        for q, (begin, _) in enumerate(spans):
            if first < last and last <= begin <= last + _GAP_NS and number[p] != number[q]:
                old, new = number[q], number[p]
                number = [new if n == old else n for n in number]
    return number
