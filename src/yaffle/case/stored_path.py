"""What several points saw of each other, as part of a case: two tables of packets, and the rest beside."""

from dataclasses import asdict
from typing import Any

import numpy as np

from yaffle.arrays import Array, Int64s
from yaffle.path.clocks import Clock
from yaffle.path.points_path import PointsPath
from yaffle.path.segments import PathSegment, Way

_COPY, _BORN, _LATE = range(3)


def _ways(path: PointsPath) -> list[Way]:
    return [way for segment in path.segments for way in (segment.up, segment.down)]


def passed_columns(path: PointsPath) -> dict[str, Array]:
    """What was sent, with where it arrived and after how long; `way` counts the directions of all segments."""
    ways = _ways(path)
    whole = [np.full(way.sent.size, -1, np.int64) for way in ways]
    for delays, way in zip(whole, ways, strict=True):
        delays[way.arrived >= 0] = way.delay_ns
    return {
        "way": _joined([np.full(way.sent.size, k) for k, way in enumerate(ways)]).astype(np.int32),
        "sent": _joined([way.sent for way in ways]).astype(np.int32),
        "arrived": _joined([way.arrived for way in ways]).astype(np.int32),
        "delay_ns": _joined(whole),
    }


def odd_columns(path: PointsPath) -> dict[str, Array]:
    """Copies, what was born on the way, and what came late."""
    parts = [
        (k, kind, rows)
        for k, way in enumerate(_ways(path))
        for kind, rows in ((_COPY, way.copies), (_BORN, way.born), (_LATE, way.reordered))
    ]
    return {
        "way": _joined([np.full(rows.size, k) for k, _, rows in parts]),
        "kind": _joined([np.full(rows.size, kind) for _, kind, rows in parts]),
        "row": _joined([rows for _, _, rows in parts]),
    }


def _joined(parts: list[Array]) -> Int64s:
    return np.concatenate(parts).astype(np.int64) if parts else np.zeros(0, np.int64)


def beside_path(path: PointsPath) -> dict[str, Any]:
    """What is no column, for JSON."""
    variation = [None if np.isnan(way.variation_ns) else way.variation_ns for way in _ways(path)]
    return {
        "clocks": [[point, asdict(clock)] for point, clock in path.clocks.items()],
        "corrected": sorted(path.corrected),
        "segments": [[s.near, s.far, s.flows.tolist()] for s in path.segments],
        "variation_ns": variation,
    }


def read_path(
    passed: dict[str, Array], odd: dict[str, Array], told: dict[str, Any], packets: int, points: int, conversations: int
) -> PointsPath:
    """The reverse. Raises KeyError, TypeError or ValueError where it makes no sense."""
    for rows, least in ((passed["sent"], 0), (passed["arrived"], -1), (odd["row"], 0)):
        if rows.size and not (int(rows.min()) >= least and int(rows.max()) < packets):
            raise ValueError("a packet of a segment points outside the packets")
    path = PointsPath(
        {
            int(point): Clock(**{**clock, "steps": tuple((int(at), float(step)) for at, step in clock["steps"])})
            for point, clock in told["clocks"]
        },
        corrected={int(point) for point in told["corrected"]},
    )
    for number, (near, far, flows) in enumerate(told["segments"]):
        if not (0 <= near < points and 0 <= far < points):
            raise ValueError("a segment points outside the points")
        pairs = np.array(flows, np.int64).reshape(-1, 2)
        if pairs.size and not (int(pairs.min()) >= 0 and int(pairs.max()) < conversations):
            raise ValueError("a segment points outside the conversations")
        ways = []
        for k in (2 * number, 2 * number + 1):
            own, odds = passed["way"] == k, odd["way"] == k
            arrived, delays = passed["arrived"][own], passed["delay_ns"][own]
            copies, born, late = (odd["row"][odds & (odd["kind"] == kind)] for kind in (_COPY, _BORN, _LATE))
            variation = told["variation_ns"][k]
            ways.append(
                Way(
                    k % 2 == 0,
                    passed["sent"][own],
                    arrived,
                    copies,
                    born,
                    delays[arrived >= 0],
                    late,
                    float("nan") if variation is None else float(variation),
                )
            )
        path.segments.append(PathSegment(int(near), int(far), ways[0], ways[1], pairs))
    return path
