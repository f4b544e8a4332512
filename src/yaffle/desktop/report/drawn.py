"""The figures of findings, drawn by the window's own plots, each with the sentence that says what to see in it."""

import numpy as np
from PySide6.QtWidgets import QWidget

from yaffle.arrays import Int64s
from yaffle.desktop.apportion.wait_plots import WaitPlots
from yaffle.desktop.compare.baseline_panel import NormalPanel
from yaffle.desktop.examine.ladder import Ladder
from yaffle.desktop.examine.sequence_plot import SequencePlot
from yaffle.desktop.examine.tier_lanes import TierLanes
from yaffle.desktop.path.queues_page import QueuesPage
from yaffle.desktop.path.segments_page import SegmentsPage
from yaffle.desktop.report.vectors import WIDE, vectors_of
from yaffle.desktop.shared.lanes import ROW
from yaffle.desktop.shared.plots import Plot
from yaffle.desktop.watch.course_plot import draw_course
from yaffle.ledger import causes
from yaffle.ledger.bounds import BOUNDED
from yaffle.report.figure import Figure
from yaffle.session.apportion import ApportionPicture
from yaffle.session.baselines import NormalPicture
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.session.hops_view import QueueCourse
from yaffle.session.path_view import PathPicture
from yaffle.session.tiers_view import TiersPicture
from yaffle.session.watching import Course
from yaffle.units import count, date_and_moment, duration, share
from yaffle.watching.event_rows import Event
from yaffle.watching.event_words import figure

_MOST_TIERS = 12
_LEAST_TOLD = 0.005  # A party that can have no more of the whole is not told.
_DECISIVE = 0.08  # A silence, or what was behind, decides with so much of the wait.
_BESIDE_NS = 2 * 86_400 * 10**9


def waits(evidence: Evidence, found: ApportionPicture, bounds: Int64s) -> Figure | None:
    """Waits over time by party and cause; the sentence tells between what each party's part lies."""
    sums = found.charges.sum(axis=0)
    if not sums.sum():
        return None

    def show(part: QWidget) -> QWidget:
        assert isinstance(part, WaitPlots)
        part.show_picture(evidence, found)
        part.waits.setFixedSize(part.width(), 170)
        return part.waits

    worst = int(np.argmax(sums))
    sentence = (
        f"Concurrent waits over time: most is {causes.charge_name(worst)}, {duration(int(sums[worst]))} of"
        f" {duration(int(sums.sum()))} ({share(sums[worst] / sums.sum())})."
    )
    told = [
        f"{party} {_between(int(bounds[2 * k]), int(bounds[2 * k + 1]))}"
        for k, party in enumerate(BOUNDED)
        if bounds[2 * k + 1] > _LEAST_TOLD * sums.sum()
    ]
    if told:
        sentence += f" Bounds: {', '.join(told)}."
    return Figure(vectors_of(WaitPlots, show, 420), sentence, sentence)


def ladder(found: Connection, first_ns: int, last_ns: int) -> Figure | None:
    """The packets around the longest silence of an exchange, with its reason."""
    inside = [one for one in found.silences() if one.last_ns > first_ns and one.first_ns < last_ns]
    if not inside or inside[0].span_ns < _DECISIVE * (last_ns - first_ns):
        return None
    worst = inside[0]

    def show(part: QWidget) -> QWidget:
        assert isinstance(part, Ladder)
        part.show_connection(found)
        part.select(worst.after)
        part.viewport().resize(part.size())
        return part.viewport()

    sentence = f"The longest silence of the worst exchange: {duration(worst.span_ns)}. {worst.sentence}"
    return Figure(vectors_of(Ladder, show, 158), sentence, sentence)


def _between(low_ns: int, high_ns: int) -> str:
    low, high = duration(low_ns), duration(high_ns)
    return low if low == high else f"{low} to {high}"


def sequence(found: Connection) -> Figure | None:
    """The worst connection's data over time, with what was sent again."""

    def show(part: QWidget) -> None:
        assert isinstance(part, SequencePlot)
        part.show_connection(found)

    sentence = f"The worst connection, {found.title}: data, acknowledgments, retransmissions (red)."
    return Figure(vectors_of(SequencePlot, show, 200), sentence, sentence)


def tiers(found: TiersPicture) -> Figure | None:
    """What the server waited for."""
    if len(found.tiers) < 2 or max(one.held_ns for one in found.tiers[1:]) < _DECISIVE * found.tiers[0].span_ns:
        return None

    def show(part: QWidget) -> QWidget:
        assert isinstance(part, TierLanes)
        part.show_tiers(found)
        return part.viewport()

    front = found.tiers[0]
    behind = max(found.tiers[1:], key=lambda one: one.held_ns)
    sentence = (
        f"Behind the worst answer of {front.server}: {duration(behind.held_ns)} of {duration(front.span_ns)} it waited"
        f" for {behind.server} ({round(100 * behind.certainty)} % confidence); the line under a bar marks what was"
        " waited for."
    )
    high = 40 + ROW * min(_MOST_TIERS, len(found.tiers)) + 16
    return Figure(vectors_of(TierLanes, show, high), sentence, sentence)


def segment(found: PathPicture) -> Figure | None:
    """The segment that lost most, in the direction that did."""
    lost = [(way.lost, k, side) for k, one in enumerate(found.segments) for side, way in enumerate(one.ways)]
    if not lost or max(lost)[0] == 0:
        return None
    count_, row, side = max(lost)
    way = found.segments[row].ways[side]

    def show(part: QWidget) -> QWidget:
        assert isinstance(part, SegmentsPage)
        part.show_picture(found)
        part.line.current = row
        part.line.chosen.emit(row)
        plot = part.plots[side]
        plot.setFixedSize(WIDE, 170)
        return plot

    sentence = (
        f"{way.start} to {way.end}: {count(count_)} packets lost between the capture points"
        f" ({share(way.share)}); crosses mark them."
    )
    return Figure(vectors_of(SegmentsPage, show, 700), sentence, sentence)


def queue(found: QueueCourse | None) -> Figure | None:
    """A queue that stood: what packets waited, and who came."""
    if found is None:
        return None

    def show(part: QWidget) -> QWidget | None:
        assert isinstance(part, QueuesPage)
        part.show_course(found)
        inner = part.below.widget(0)
        if inner is None:
            return None
        part.body.setVisible(True)
        inner.setFixedSize(740, 290)
        return inner

    one = found.one
    longer = max((v.added_ns for v in one.victims), default=0)
    sentence = (
        f"{found.name}: packets waited up to {duration(one.peak_delay_ns)}"
        + (f"; {', '.join(found.fillers[:2])} filled it" if found.fillers else "")
        + (f"; {count(len(one.victims))} others waited up to {duration(longer)} longer than usual" if longer else "")
        + "."
    )
    return Figure(vectors_of(QueuesPage, show, 700), sentence, sentence)


def baseline(
    found: NormalPicture | None, around: tuple[int, int], *, beside_ns: int = _BESIDE_NS, high: int = 180
) -> Figure | None:
    """A measure against what is usual at its hour, from some days before a stretch to some days after it."""
    if found is None or not np.isfinite(found.values).any():
        return None

    def show(part: QWidget) -> QWidget:
        assert isinstance(part, NormalPanel)
        part.show_picture(found)
        part.drawn.setCurrentWidget(part.plot)
        part.plot.setFixedSize(WIDE, high)
        base, last = int(found.starts_ns[0]), int(found.starts_ns[-1])
        first, end = max(base, around[0] - beside_ns), min(last, around[1] + beside_ns)
        part.plot.setXRange((first - base) / 1e9, (end - base) / 1e9, padding=0)
        return part.plot

    inside = (found.starts_ns >= around[0]) & (found.starts_ns < around[1]) & np.isfinite(found.values)
    subject, unit = found.settings.subject.words, found.settings.subject.unit
    sentence = f"{subject}, against its baseline (band: what is usual)"
    if inside.any():
        peak = float(found.values[inside].max())
        usual = float(found.baseline.expected[np.flatnonzero(inside)[0]])  # Later ones have learnt from what was bad.
        sentence += f": up to {figure(peak, unit)} from {date_and_moment(around[0])[:16]} on"
        sentence += f", where {figure(usual, unit)} was usual" if np.isfinite(usual) else ""
    return Figure(vectors_of(NormalPanel, show, 640), f"{sentence}.", f"{sentence}.")


def answer(found: Course, around: tuple[int, int], effect: Event) -> Figure | None:
    """A watched measure before and after an answer."""
    if not np.isfinite(found.values).any():
        return None

    def show(part: QWidget) -> None:
        assert isinstance(part, Plot)
        draw_course(part, found, *around)

    sentence = f"{found.row.watch.name}, {found.row.subject}: {effect.words} ({date_and_moment(effect.time_ns)[:16]})."
    return Figure(vectors_of(lambda: Plot(""), show, 220), sentence, sentence)
