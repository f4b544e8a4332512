"""Addresses that change on the way, as learnt from packets that are the same; and the path without those that the user
says are not.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Bools, Int64s
from yaffle.capture.addresses import client_labels, server_labels
from yaffle.capture.captured import Capture
from yaffle.path.ordering import by_group
from yaffle.path.points_path import PointsPath
from yaffle.path.segments import PathSegment, Way


@dataclass(frozen=True)
class PairedEnds:
    """Client and server of conversations at the nearer point and at the farther one, by name of point and address."""

    near: str
    far: str
    client_near: str
    server_near: str
    client_far: str
    server_far: str

    @property
    def translated(self) -> bool:
        """Whether an address is another one at the farther point; whoever is told to be the client."""
        return {self.client_near, self.server_near} != {self.client_far, self.server_far}


@dataclass(frozen=True)
class Translation:
    """What one segment does to the addresses of some conversations."""

    ends: PairedEnds
    conversations: int
    ports_change: int  # of these conversations
    packets: int  # that were seen at both points


def _grouped(capture: Capture, segment: PathSegment) -> tuple[Int64s, list[PairedEnds]]:
    """For each of the segment's conversations the number of its ends, and the ends."""
    flows, points = capture.conversations, capture.points
    columns = [labels(flows, segment.flows[:, side]) for side in (0, 1) for labels in (client_labels, server_labels)]
    codes = np.stack([labels.codes for labels in columns], axis=1)
    distinct, number = np.unique(codes, axis=0, return_inverse=True)
    texts = [[labels.texts[code] for labels, code in zip(columns, row, strict=True)] for row in distinct.tolist()]
    return number.reshape(-1), [PairedEnds(points[segment.near], points[segment.far], *row) for row in texts]


def translations(capture: Capture, path: PointsPath) -> list[Translation]:
    """All addresses that change on the way, those with most conversations first."""
    flows, found = capture.conversations, []
    for segment in path.segments:
        if not segment.flows.size:
            continue
        number, every = _grouped(capture, segment)
        place = np.full(flows.point.size, -1, np.int64)
        place[segment.flows.ravel()] = np.repeat(number, 2)
        came = np.concatenate([place[capture.packets.flow[way.matched[0]]] for way in (segment.up, segment.down)])
        packets = np.bincount(came[came >= 0], minlength=len(every))
        near, far = segment.flows[:, 0], segment.flows[:, 1]
        moved = (
            np.minimum(flows.a_port[near], flows.b_port[near]) != np.minimum(flows.a_port[far], flows.b_port[far])
        ) | (np.maximum(flows.a_port[near], flows.b_port[near]) != np.maximum(flows.a_port[far], flows.b_port[far]))
        ports = np.bincount(number[moved], minlength=len(every))
        counts = np.bincount(number, minlength=len(every))
        found += [
            Translation(ends, int(counts[k]), int(ports[k]), int(packets[k]))
            for k, ends in enumerate(every)
            if ends.translated
        ]
    return sorted(found, key=lambda one: (-one.conversations, -one.packets))


def without(capture: Capture, path: PointsPath, apart: tuple[PairedEnds, ...]) -> PointsPath:
    """The path without conversations that are not the same, as the user says."""
    if not apart:
        return path
    segments = []
    for segment in path.segments:
        number, every = _grouped(capture, segment) if segment.flows.size else (np.zeros(0, np.int64), [])
        refused = np.array([ends in apart for ends in every], bool)
        gone = refused[number] if number.size else np.zeros(0, bool)
        segments.append(_kept(capture, segment, gone) if gone.any() else segment)
    left = [segment for segment in segments if segment.flows.size or segment.up.sent.size or segment.down.sent.size]
    return PointsPath(path.clocks, left, path.corrected)


def _kept(capture: Capture, segment: PathSegment, gone: Bools) -> PathSegment:
    mark = np.zeros(capture.conversations.point.size, bool)
    mark[segment.flows[gone].ravel()] = True
    return PathSegment(
        segment.near,
        segment.far,
        _way(capture, segment.up, mark),
        _way(capture, segment.down, mark),
        segment.flows[~gone],
    )


def _way(capture: Capture, way: Way, gone: Bools) -> Way:
    """A direction without the packets of some conversations."""
    flow = capture.packets.flow
    own, came = ~gone[flow[way.sent]], way.arrived >= 0
    delay_ns, stream = way.delay_ns[own[came]], flow[way.sent[own & came]].astype(np.int64)
    order = by_group(stream, np.arange(stream.size))
    steps = np.abs(np.diff(delay_ns[order]))[np.diff(stream[order]) == 0]
    copies, born, late = (rows[~gone[flow[rows]]] for rows in (way.copies, way.born, way.reordered))
    return Way(
        way.from_client,
        way.sent[own],
        way.arrived[own],
        copies,
        born,
        delay_ns,
        late,
        float(steps.mean()) if steps.size else float("nan"),
    )
