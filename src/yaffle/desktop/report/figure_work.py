"""Which figures prove a finding: chosen by its cause. Each is computed on any thread, then drawn on the window's."""

import logging
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from yaffle.arrays import Int64s
from yaffle.desktop.report import drawn
from yaffle.errors import Cancelled, YaffleError
from yaffle.findings.finding import Finding
from yaffle.findings.queues import CAUSE as QUEUE
from yaffle.ledger import causes
from yaffle.progress import Progress
from yaffle.records.catalogue import CATALOGUE
from yaffle.report.figure import Figure
from yaffle.session.apportion import picture
from yaffle.session.baselines import IN, OUT, WIDTHS, NormalSettings, Subject, normal
from yaffle.session.catalogue_values import title
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection
from yaffle.session.filtering import Filter
from yaffle.session.focus import Focus
from yaffle.session.hops_view import hops_picture, queue_course
from yaffle.session.measures import LATENCIES
from yaffle.session.path_view import path_picture
from yaffle.session.scene import Scene
from yaffle.session.tiers_view import foremost, tiers_of_exchange

_LOG = logging.getLogger(__name__)
_BINS = 90
_POINTS = 400
_MARGIN = 20  # a twentieth of a finding's period stands before and after it


@dataclass(frozen=True)
class FigureWork:
    """compute: on any thread, what is to be drawn; draw: on the window's thread, None where there is nothing to see."""

    compute: Callable[[Progress], Any]
    draw: Callable[[Any], Figure | None]

    def computed(self, progress: Progress) -> Any:
        """What `drawn` takes. A figure that cannot be had is logged: a report lacks it then, and no more."""
        try:
            return self.compute(progress)
        except Cancelled:
            raise
        except YaffleError as error:
            _LOG.warning("a figure cannot be drawn: %s", error)
            return None

    def drawn(self, found: Any) -> Figure | None:
        """The figure; None where there is none."""
        return self.draw(found) if found is not None else None


def figure_work(evidence: Evidence, finding: Finding) -> list[FigureWork]:
    """The figures of a finding, the most telling one first."""
    if finding.cause == QUEUE and "node" in finding.grounds:
        return [_queue(evidence, finding)]
    if "interface" in finding.grounds and "device" in finding.grounds:
        measure = IN if finding.grounds.get("way") == "inbound" else OUT
        return [_baseline(evidence, finding, NormalSettings(Subject(measure, "interface", finding.subject)))]
    if finding.grounds.get("kept"):
        kept = Subject(title(CATALOGUE["wait_median"]), "site", finding.site)
        return [_baseline(evidence, finding, NormalSettings(kept, WIDTHS["1 h"]))]
    service = _service(evidence, finding)
    rows = evidence.wait_of_exchange[np.array(finding.exchanges, np.int64)] if finding.exchanges else np.empty(0, int)
    rows = rows[rows >= 0]
    if not rows.size:
        return service
    found = [*service, _waits(evidence, finding, rows)]
    paid = evidence.waits.charges[rows][:, causes.party_columns(finding.party)].sum(axis=1)
    worst = int(rows[np.argmax(paid if paid.any() else evidence.waits.wait_ns[rows])])
    if finding.party == causes.SERVER and (tiers := _tiers(evidence, worst)) is not None:
        found.append(tiers)
    if finding.party == causes.NETWORK and finding.cause in ("loss", "queueing") and evidence.analysis.path.segments:
        found.append(_segment(evidence, finding))
    if finding.party == causes.NETWORK and finding.cause == "loss":
        found.append(_sequence(evidence, finding))
    return [*found, _ladder(evidence, worst)]


def _service(evidence: Evidence, finding: Finding) -> list[FigureWork]:
    """How a service answered, against its baseline."""
    protocol = finding.grounds.get("protocol")
    measure = next((name for name, spoken in LATENCIES.items() if protocol in spoken), None)
    if measure is None:
        return []
    span = evidence.last_ns - evidence.first_ns
    width = next((one for one in WIDTHS.values() if span <= _POINTS * one), max(WIDTHS.values()))
    return [_baseline(evidence, finding, NormalSettings(Subject(measure, "server", finding.subject), width))]


def scene_of(evidence: Evidence, finding: Finding, rows: Int64s) -> Scene:
    """The finding's time with its exchanges in focus."""
    margin = max(1_000_000_000, (finding.last_ns - finding.first_ns) // _MARGIN)
    period = (max(evidence.first_ns, finding.first_ns - margin), min(evidence.last_ns, finding.last_ns + margin))
    return Scene(evidence, Focus(period), Filter(evidence), rows, rows)


def _waits(evidence: Evidence, finding: Finding, rows: Int64s) -> FigureWork:
    scene = scene_of(evidence, finding, rows)
    return FigureWork(
        lambda progress: (picture(scene, rows, _BINS, None, progress), evidence.bounds[rows].sum(axis=0)),
        lambda found: drawn.waits(evidence, *found),
    )


def _worst_connection(evidence: Evidence, finding: Finding) -> int:
    known = evidence.analysis.account.fact("worst_wait_ns")
    return max(finding.connections, key=lambda c: int(known[c]))


def _ladder(evidence: Evidence, worst: int) -> FigureWork:
    waits = evidence.waits
    number, last = int(waits.connection[worst]), int(waits.end_ns[worst])
    first = last - int(waits.wait_ns[worst])  # A wait for the connection is before the request.
    return FigureWork(lambda _progress: Connection(evidence, number), lambda found: drawn.ladder(found, first, last))


def _sequence(evidence: Evidence, finding: Finding) -> FigureWork:
    number = _worst_connection(evidence, finding)
    return FigureWork(lambda _progress: Connection(evidence, number), drawn.sequence)


def _segment(evidence: Evidence, finding: Finding) -> FigureWork:
    scene = scene_of(evidence, finding, np.empty(0, np.int64))
    return FigureWork(lambda _progress: path_picture(scene), drawn.segment)


def _tiers(evidence: Evidence, worst: int) -> FigureWork | None:
    exchange = int(evidence.waits.exchange[worst])
    parts = evidence.analysis.behind
    if exchange < 0 or not parts.parts.of.size:
        return None
    return FigureWork(lambda _progress: tiers_of_exchange(evidence, foremost(evidence, exchange)), drawn.tiers)


def _queue(evidence: Evidence, finding: Finding) -> FigureWork:
    scene = Scene(evidence, Focus(), Filter(evidence), np.empty(0, np.int64), np.empty(0, np.int64))

    def compute(_progress: Progress) -> Any:
        found = hops_picture(scene)
        own = [
            one for one in (found.queues if found is not None else [])
            if (one.node, one.egress) == (finding.grounds["node"], finding.grounds["egress"])
        ]  # fmt: skip
        worst = max(own, key=lambda one: one.peak_delay_ns, default=None)
        return queue_course(scene, worst) if worst is not None else None

    return FigureWork(compute, drawn.queue)


def _baseline(evidence: Evidence, finding: Finding, settings: NormalSettings) -> FigureWork:
    scene = Scene(evidence, Focus(), Filter(evidence), np.empty(0, np.int64), np.empty(0, np.int64))
    around = (finding.first_ns, finding.last_ns)
    return FigureWork(lambda progress: normal(scene, settings, progress), lambda found: drawn.baseline(found, around))


def figures_at_once(evidence: Evidence, found: Sequence[Finding], progress: Progress) -> dict[str, list[Figure]]:
    """All figures, where no window waits. Needs a QApplication."""
    made: dict[str, list[Figure]] = {}
    for place, finding in enumerate(found):
        progress(place / max(1, len(found)), "drawing figures")
        for work in figure_work(evidence, finding):
            figure = work.drawn(work.computed(progress))
            if figure is not None:
                made.setdefault(finding.key, []).append(figure)
    return made
