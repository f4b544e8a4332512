"""What is normal: a measure of a group over all the time, its baseline, and where it was not as usual."""

from collections import Counter
from dataclasses import dataclass, field, replace

import numpy as np

from yaffle.arrays import Float64s, Int64s
from yaffle.capture.addresses import address_of, is_address
from yaffle.exchanges.lookup import Lookup
from yaffle.findings.interfaces import interface_labels, readings
from yaffle.normal.baseline import Anomaly, Baseline, BaselineSettings, anomalies, baseline
from yaffle.progress import Progress, go_on, step
from yaffle.records.counter_table import rises
from yaffle.session import catalogue_values
from yaffle.session.expressions import only
from yaffle.session.flow_parts import FlowSettings, flow_series
from yaffle.session.measures import COUNTED, LATENCIES, MOST_INTERVALS, Measure, asked, latencies, values
from yaffle.session.scene import Scene

FLOW_VOLUME, IN, OUT = "volume of flow records", "inbound utilization", "outbound utilization"
WIDTHS = {
    "1 s": 10**9,
    "10 s": 10 * 10**9,
    "1 min": 60 * 10**9,
    "5 min": 300 * 10**9,
    "15 min": 900 * 10**9,
    "1 h": 3600 * 10**9,
    "1 day": 86_400 * 10**9,
}
GROUPED = ("application", "site", "server", "client")  # Columns by which exchanges are grouped.
EVERYTHING = "everything"
_MOST_GROUPS = 60


@dataclass(frozen=True)
class Subject:
    """A measure of a group. by: a dimension of flow records, a column of exchanges, or empty for all; label: of the
    group.
    """

    measure: str
    by: str = ""
    label: str = ""
    exporter: int = -1

    @property
    def unit(self) -> str:
        """Unit of its values."""
        if self.measure == FLOW_VOLUME:
            return "bit/s"
        if self.measure in catalogue_values.BY_TITLE:
            return catalogue_values.BY_TITLE[self.measure].unit
        return "%" if self.measure in (IN, OUT) else COUNTED[self.measure][0]

    @property
    def words(self) -> str:
        """What it is, for people."""
        return f"{self.measure}, {self.label or EVERYTHING}"


@dataclass(frozen=True)
class NormalSettings:
    """What is looked at, and how its baseline learns."""

    subject: Subject
    width_ns: int = WIDTHS["15 min"]
    learn: BaselineSettings = field(default_factory=BaselineSettings)


@dataclass(frozen=True)
class NormalPicture:
    """A measure over all the time with its baseline."""

    settings: NormalSettings
    starts_ns: Int64s  # (n,) of the intervals, in whole multiples of their width
    values: Float64s  # (n,) nan where there is none
    baseline: Baseline
    anomalies: list[Anomaly]  # largest first
    groups: list[str]  # what else there is by the same dimension, largest first
    words: str

    def period(self, run: Anomaly) -> tuple[int, int]:
        """When an anomaly was."""
        return int(self.starts_ns[run.first]), int(self.starts_ns[run.stop - 1]) + self.settings.width_ns


def measures_of(scene: Scene) -> list[str]:
    """What there is to measure in the evidence."""
    analysis = scene.evidence.analysis
    found = []
    if analysis.flows.rows.size or analysis.history is not None:
        found.append(FLOW_VOLUME)
    if analysis.flows.counters.rows.size or (analysis.history is not None and analysis.history.counters.devices):
        found += [IN, OUT]
    if scene.evidence.waits.first_ns.size:
        found += list(COUNTED)
    found += catalogue_values.titles(analysis)
    return found or list(COUNTED)


def dimensions_of(measure: str) -> tuple[str, ...]:
    """By what a measure can be grouped."""
    if measure == FLOW_VOLUME:
        return ("", "application", "host", "pair", "site", "site pair", "interface in", "interface out", "DSCP")
    if measure in (IN, OUT):
        return ("interface",)
    if measure in catalogue_values.BY_TITLE:
        return catalogue_values.dimensions(measure)
    return ("", "site", "server", "client") if measure in LATENCIES else ("", *GROUPED)


def groups_of(scene: Scene, subject: Subject) -> list[str]:
    """The groups of a dimension, largest first. Raises HistoryError."""
    evidence = scene.evidence
    if not subject.by:
        return []
    if subject.measure in catalogue_values.BY_TITLE:
        return catalogue_values.groups(evidence, subject.measure, subject.by)[:_MOST_GROUPS]
    if subject.by == "interface":
        counters = readings(evidence.analysis, evidence.first_ns, evidence.last_ns)
        steps, _ = rises(counters.rows)
        labels = interface_labels(counters, steps)
        octets = np.bincount(
            labels.codes, np.maximum(0, steps["in_octets"]) + np.maximum(0, steps["out_octets"]), len(labels.texts)
        )
        return [labels.texts[k] for k in np.argsort(-octets, kind="stable")[:_MOST_GROUPS].tolist()]
    if subject.measure == FLOW_VOLUME:
        return flow_series(
            evidence,
            evidence.first_ns,
            evidence.last_ns,
            FlowSettings(subject.by, subject.exporter),
            np.zeros(2, np.int64),
        )[1][:_MOST_GROUPS]
    if subject.measure in LATENCIES:
        grouped = Counter(_asked_by(scene, one, subject.by) for one in asked(scene, subject.measure))
        return [label for label, _ in grouped.most_common(_MOST_GROUPS)]
    labels = {
        "application": evidence.application,
        "site": evidence.site,
        "server": evidence.server,
        "client": evidence.client,
    }[subject.by]
    counts = np.bincount(labels.codes[evidence.waits.connection], minlength=len(labels.texts))
    return [labels.texts[k] for k in np.argsort(-counts, kind="stable")[:_MOST_GROUPS].tolist() if counts[k]]


def measured(scene: Scene, subject: Subject, edge_ns: Int64s) -> Float64s:
    """Values of intervals; nan where there is none. Raises HistoryError or FilterError."""
    evidence = scene.evidence
    first_ns, last_ns = int(edge_ns[0]), int(edge_ns[-1])
    if subject.measure == FLOW_VOLUME:
        inside = ((subject.by, subject.label),) if subject.by and subject.label else ()
        octets, _ = flow_series(
            evidence, first_ns, last_ns, FlowSettings("protocol", subject.exporter, inside), edge_ns
        )
        return np.asarray(octets * 8e9 / np.maximum(1, np.diff(edge_ns)))
    if subject.measure in (IN, OUT):
        return _utilization(scene, subject, edge_ns)
    if subject.measure in catalogue_values.BY_TITLE:
        return catalogue_values.over_time(evidence, subject.measure, subject.by, subject.label, edge_ns)
    if subject.measure in LATENCIES and subject.by and subject.label:
        rows = [one for one in asked(scene, subject.measure) if _asked_by(scene, one, subject.by) == subject.label]
        return latencies(rows, edge_ns)
    narrowed = only(subject.by, subject.label) if subject.by and subject.label else ""
    return values(scene, Measure(subject.measure, subject.measure, narrowed), edge_ns)


def _asked_by(scene: Scene, one: Lookup, by: str) -> str:
    """The group of a look-up."""
    if by == "site":
        client = address_of(one.client) if one.protocol == "radius" else one.client
        return (
            scene.evidence.places.site(client) if is_address(client) else one.client
        )  # Who asks for a lease has none yet.
    return one.server if by == "server" else one.client


def _utilization(scene: Scene, subject: Subject, edge_ns: Int64s) -> Float64s:
    """Percent of the speed, of one interface."""
    counters = readings(scene.evidence.analysis, int(edge_ns[0]), int(edge_ns[-1]))
    steps, _ = rises(counters.rows)
    labels = interface_labels(counters, steps)
    own = steps[(labels.codes == labels.code(subject.label)) & (steps["speed_bps"] > 0)]
    octets = own["in_octets" if subject.measure == IN else "out_octets"]
    middles, spans = (own["first_ns"] + own["last_ns"]) // 2, (own["last_ns"] - own["first_ns"]) / 1e9
    place = np.searchsorted(edge_ns, middles, "right") - 1
    kept = (place >= 0) & (place < edge_ns.size - 1) & (octets >= 0)
    bins = edge_ns.size - 1
    carried = np.bincount(place[kept], octets[kept] * 8.0, bins)
    could = np.bincount(place[kept], spans[kept] * own["speed_bps"][kept], bins)
    return np.where(could > 0, 100 * carried / np.maximum(could, 1e-9), np.nan)


def normal(scene: Scene, settings: NormalSettings, progress: Progress = go_on) -> NormalPicture:
    """The picture of a measure over all the time, whatever period is in focus: what is normal is learnt from all there
    is. Raises Cancelled.
    """
    evidence = scene.evidence
    whole = replace(scene, focus=scene.focus.with_period(None))
    first, last = evidence.first_ns // settings.width_ns, -(-evidence.last_ns // settings.width_ns)
    edge_ns = np.arange(first, max(last, first + 1) + 1, dtype=np.int64)[: MOST_INTERVALS + 1] * settings.width_ns
    step(progress, 0.1, "looking for what can be measured")
    groups = groups_of(whole, settings.subject)
    subject = settings.subject
    if subject.by and subject.label not in groups:
        subject = replace(subject, label=groups[0] if groups else "")
    step(progress, 0.5, f"measuring {subject.words}")
    found = measured(whole, subject, edge_ns)
    if evidence.first_ns > edge_ns[0]:
        found[0] = np.nan  # The first and the last are cut off.
    if evidence.last_ns < edge_ns[-1]:
        found[-1] = np.nan
    step(progress, 0.9, "learning the baseline")
    learnt = baseline(found, edge_ns[:-1], settings.learn)
    runs = anomalies(found, learnt)
    known = int((~np.isnan(found)).sum())
    judged = int((learnt.judged & ~np.isnan(found)).sum())
    words = (
        f"{known} intervals with a value, {known - judged} used for learning only, {judged} judged; {len(runs)}"
        " times outside what is usual"
    )
    return NormalPicture(replace(settings, subject=subject), edge_ns[:-1], found, learnt, runs, groups, words)
