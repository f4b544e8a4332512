"""A period with everything that is told of it."""

from dataclasses import dataclass
from datetime import UTC, tzinfo

import numpy as np

from yaffle.errors import YaffleError
from yaffle.findings.finding import Finding
from yaffle.periods.happened import Happened, happened
from yaffle.periods.span import Span, span_of
from yaffle.periods.traffic import Traffic, traffic_of
from yaffle.periods.waits import Waits, waits_of
from yaffle.progress import Progress, go_on, step
from yaffle.session.baselines import FLOW_VOLUME, Subject
from yaffle.session.evidence import Evidence
from yaffle.session.focus import Focus
from yaffle.session.investigation import Opened
from yaffle.session.kept import Kept
from yaffle.session.peaks import Peak, peaks
from yaffle.session.scene import Scene
from yaffle.watching.service_levels import LevelKept, kept_levels, levels_over
from yaffle.watching.windows import Windows


@dataclass(frozen=True)
class Period:
    """What there is of it; None where nobody told."""

    evidence: Evidence
    span: Span
    traffic: Traffic | None
    waits: Waits | None
    levels: list[LevelKept]
    happened: Happened
    findings: list[Finding]  # that overlap it, worst first
    peaks: list[Peak]


def period_of(
    opened: Opened, words: str, zone: tzinfo = UTC, progress: Progress = go_on, now_ns: int | None = None
) -> Period:
    """Works it out. Raises YaffleError without a history, PeriodError, HistoryError, Cancelled."""
    evidence, history = opened.evidence, opened.analysis.history
    if history is None:
        raise YaffleError("a period is told of a history: captures have a report of their own (--report)")
    span = span_of(words, history.first_ns, max(history.last_ns, evidence.last_ns), zone, now_ns)
    step(progress, 0.05, "reading traffic")
    traffic = traffic_of(evidence, span)
    step(progress, 0.35, "reading waits")
    waits = waits_of(evidence, span)
    step(progress, 0.55, "judging service levels")
    windows = Windows(history)
    levels = [
        one for level in kept_levels(history.folder) for one in levels_over(windows, level, span.first_ns, span.last_ns)
    ]
    step(progress, 0.8, "reading events")
    told = happened(history, span)
    found = [f for f in opened.findings if f.first_ns < span.last_ns and f.last_ns >= span.first_ns]
    complaints = [c for c in Kept.from_json(opened.memory).complaints if c.last_ns >= span.first_ns]
    step(progress, 0.9, "looking for peaks")
    none = np.zeros(0, np.int64)
    scene = Scene(evidence, Focus(), opened.filter, none, none)
    highest = peaks(scene, tuple(complaints), Subject(FLOW_VOLUME), (span.first_ns, span.last_ns))
    return Period(evidence, span, traffic, waits, levels, told, found, highest)
