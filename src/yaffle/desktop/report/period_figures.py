"""The figures of a period's report: what was waited for most and what was carried, each against its baseline, and
what a response changed.
"""

import numpy as np

from yaffle.desktop.report import drawn
from yaffle.normal.baseline import BaselineSettings
from yaffle.periods.pages import RESPONSES, TRAFFIC, WAITS
from yaffle.periods.period import Period
from yaffle.progress import Progress, step
from yaffle.records.catalogue import CATALOGUE
from yaffle.report.figure import Figure
from yaffle.session.baselines import FLOW_VOLUME, WIDTHS, NormalSettings, Subject, normal
from yaffle.session.catalogue_values import title
from yaffle.session.filtering import Filter
from yaffle.session.focus import Focus
from yaffle.session.scene import Scene
from yaffle.session.watching import course, watch_picture

# Few weeks are before a period: each hour of the week speaks from the second on.
_LEARNS = BaselineSettings(profile_warm_up=2)
_AROUND_NS = 2 * 86_400 * 10**9


def period_figures(period: Period, progress: Progress) -> dict[str, list[Figure]]:
    """All of them. Needs a QApplication. Raises HistoryError, Cancelled."""
    none = np.zeros(0, np.int64)
    span = (period.span.first_ns, period.span.last_ns)
    scene = Scene(period.evidence, Focus(), Filter(period.evidence), none, none)
    found: dict[str, list[Figure]] = {}

    def baseline(key: str, subject: Subject) -> None:
        made = drawn.baseline(
            normal(scene, NormalSettings(subject, WIDTHS["1 h"], _LEARNS), progress), span, beside_ns=0, high=170
        )
        if made is not None:
            found.setdefault(key, []).append(made)

    if period.waits is not None and period.waits.applications:
        step(progress, 0.3, "drawing waits")
        measure, bad = title(CATALOGUE["wait_median"]), period.waits.bad_hours
        by, label = ("site", bad[0].site) if bad else ("application", period.waits.applications[0].application)
        baseline(WAITS, Subject(measure, by, label))
    if period.traffic is not None and period.traffic.change.sure:
        step(progress, 0.5, "drawing traffic")
        baseline(TRAFFIC, Subject(FLOW_VOLUME))
    step(progress, 0.8, "drawing what responses changed")
    found[RESPONSES] = _responses(period)
    return found


def _responses(period: Period) -> list[Figure]:
    """The last response of the period, with its measure before and after."""
    effects = [one for one in period.happened.effects if one.watch]
    if not effects:
        return []
    effect, none = effects[-1], np.zeros(0, np.int64)
    around = (max(period.evidence.first_ns, effect.time_ns - _AROUND_NS), effect.time_ns + _AROUND_NS)
    scene = Scene(period.evidence, Focus(around), Filter(period.evidence), none, none)
    picture = watch_picture(scene)
    rows = picture.rows if picture is not None else []
    row = next((one for one in rows if (one.watch.name, one.subject) == (effect.watch, effect.subject)), None)
    if picture is None or row is None:
        return []
    made = drawn.answer(course(scene, row, picture.events), around, effect)
    return [made] if made is not None else []
