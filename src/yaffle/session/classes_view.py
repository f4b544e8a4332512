"""Classes of service on one direction of one segment in a period, what violates the user's rules, and a split of the
line.
"""

from dataclasses import dataclass

from yaffle.findings.classes import ClassLoads, class_loads
from yaffle.findings.markings import Violation, applications, violations
from yaffle.findings.planner import Plan, plan
from yaffle.session.scene import Scene


@dataclass(frozen=True)
class ClassSettings:
    """Which direction is looked at (its number among `ways`), and the rate of its line; 0: the highest second of its
    load.
    """

    way: int = 0
    line_bps: float = 0.0


@dataclass(frozen=True)
class ClassPicture:
    """What the page shows."""

    ways: list[str]  # all directions of all segments, in words
    way: int
    loads: ClassLoads | None
    plan: Plan | None
    line_told: bool  # whether the rate was given
    violations: list[Violation]
    applications: list[str]  # that a rule can be about


def class_picture(scene: Scene, settings: ClassSettings) -> ClassPicture:
    """The classes in the period of the focus."""
    analysis = scene.evidence.analysis
    points = analysis.point_names
    every = [
        (f"{points[start]} → {points[end]}", way)
        for segment in analysis.path.segments
        for way, start, end in ((segment.up, segment.near, segment.far), (segment.down, segment.far, segment.near))
        if way.sent.size
    ]
    found = violations(analysis, (scene.first_ns, scene.last_ns))
    names = applications(analysis)
    if not every:
        return ClassPicture([], 0, None, None, False, found, names)
    number = settings.way if 0 <= settings.way < len(every) else 0
    loads = class_loads(analysis.capture, every[number][1], scene.first_ns, scene.last_ns)
    line_bps = settings.line_bps or max((one.peak_bps for one in loads.classes), default=0.0)
    made = plan(loads, line_bps) if loads.classes and line_bps > 0 else None
    return ClassPicture([words for words, _ in every], number, loads, made, settings.line_bps > 0, found, names)
