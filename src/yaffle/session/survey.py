"""The whole period at a glance: measures over time, troubles, bursts, and what the traffic is made of."""

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int64s, Int64s2
from yaffle.capture.packets import Columns
from yaffle.findings.host_readings import HostSeries, host_readings
from yaffle.findings.interfaces import Interfaces, interfaces
from yaffle.findings.whereabouts import Whereabouts, whereabouts
from yaffle.halves import sum_of_halves
from yaffle.history.layout import HistoryError
from yaffle.history.locked_database import FilterError
from yaffle.kernels import int64, kernel
from yaffle.progress import Progress, go_on, step
from yaffle.session.datagram_groups import OtherGroup, other_groups
from yaffle.session.evidence import Evidence
from yaffle.session.flow_parts import FlowPicture, FlowSettings, flow_picture
from yaffle.session.make_up import TREND, Part, make_up, within
from yaffle.session.measures import RETRANSMISSIONS, TROUBLES, Measure, counted_packets, edges, values
from yaffle.session.probe_courses import ProbeCourse, probe_courses
from yaffle.session.scene import Scene
from yaffle.session.services import Service, services
from yaffle.transport import kinds
from yaffle.transport.bursts import Bursts, bursts


@dataclass(frozen=True)
class Series:
    """Volume and troubles per interval."""

    edges_ns: Int64s  # (n + 1,)
    octets: Array  # (n,)
    packets: Int64s  # (n,)
    troubles: Int64s  # (n,) segments that tell of trouble

    @property
    def bits_per_s(self) -> Float64s:
        """Rate of each interval."""
        return np.asarray(self.octets * 8e9 / np.maximum(1, np.diff(self.edges_ns)))

    def coarser(self, bins: int) -> "Series":
        """The same in fewer intervals, of nearly one length."""
        if bins >= self.octets.size:
            return self
        starts = np.arange(bins) * self.octets.size // bins
        edge_ns = np.append(self.edges_ns[starts], self.edges_ns[-1])
        return Series(
            edge_ns, *(np.add.reduceat(counts, starts) for counts in (self.octets, self.packets, self.troubles))
        )


_IS_TROUBLE = np.isin(
    np.arange(256) & kinds.KIND_MASK, [k for name, group in TROUBLES if name != "duplicate acks" for k in group]
)


def series(evidence: Evidence, packets: Array | None, first_ns: int, last_ns: int, bins: int) -> Series:
    """Volume and troubles of the packets (a mask; all that count where None)."""
    columns = evidence.analysis.capture.packets
    span = max(last_ns - first_ns, 1)
    edge_ns = first_ns + np.array([k * span // bins for k in range(bins + 1)], np.int64)
    counted = np.append(evidence.counted, True) if packets is None else np.ones(evidence.counted.size + 1, bool)
    chosen = np.empty(0, bool) if packets is None else packets
    which = _Which(counted, chosen)

    def work(half: slice) -> Int64s2:
        found = np.zeros((3, bins), np.int64)
        _count_over_time(columns, half.start, half.stop, which, _IS_TROUBLE, first_ns, span, *found)
        return found

    return Series(edge_ns, *sum_of_halves(work, columns.time_ns.size))


class _Which(NamedTuple):
    """The packets that are counted."""

    counted: Bools  # of each conversation, and of packets without one
    chosen: Bools  # of each packet; all where it is empty


@kernel
def _count_over_time(
    packets: Columns,
    begin: int,
    end: int,
    which: _Which,
    is_trouble: Bools,
    first_ns: int,
    span_ns: int,
    octets: Int64s,
    counts: Int64s,
    troubles: Int64s,
) -> None:
    bins = octets.size
    scale = bins / span_ns
    for i in range(begin, end):
        after = packets.time_ns[i] - first_ns
        if which.chosen.size > 0 and not which.chosen[i]:
            continue
        if which.counted[packets.flow[i]] and 0 <= after <= span_ns:
            k = min(bins - 1, int64(after * scale))
            octets[k] += packets.wire_bytes[i]
            counts[k] += 1
            if is_trouble[packets.kind[i]]:
                troubles[k] += 1


@dataclass(frozen=True)
class Trouble:
    """One kind of trouble in the period."""

    name: str
    count: int
    share: float  # of the TCP packets in focus
    trend: Int64s
    worst_ns: tuple[int, int]  # the stretch in which most of it lies


def troubles(scene: Scene) -> list[Trouble]:
    """All kinds that occur, most first; retransmissions as a whole, and by what set them off."""
    edge_ns = edges(scene.first_ns, scene.last_ns, 0)[:: 400 // 100]
    total = max(1, int((scene.evidence.analysis.capture.packets.protocol[scene.packets] == 6).sum()))
    found = []
    for name, group in (*TROUBLES, *((name, group) for name, (group, _) in RETRANSMISSIONS.items())):
        counts = counted_packets(scene, scene.packets, edge_ns, group)
        if not counts.sum():
            continue
        worst = int(np.argmax(counts))
        starts = np.arange(TREND) * counts.size // TREND
        trend = np.add.reduceat(counts, starts)
        found.append(
            Trouble(
                name,
                int(counts.sum()),
                float(counts.sum() / total),
                trend,
                (int(edge_ns[worst]), int(edge_ns[worst + 1])),
            )
        )
    return sorted(found, key=lambda t: -t.count)


@dataclass(frozen=True)
class SurveySettings:
    """What the user chose to see."""

    measures: tuple[Measure, ...]
    interval_ns: int
    by: str
    inside: tuple[tuple[str, str], ...]  # (dimension, label) of each step down
    line_bps: float
    flows: FlowSettings | None = None  # None: not looked at
    hosts: bool = False  # whether measures of hosts are looked at
    whereabouts: bool = False  # … and who was where
    tests: bool = False  # … and tests on purpose


@dataclass(frozen=True)
class SurveyPicture:
    """Everything the station shows, computed at once."""

    edges_ns: Int64s
    lines: tuple[tuple[Measure, Array], ...]
    errors: tuple[str, ...]
    parts: list[Part]
    troubles: list[Trouble]
    others: list[OtherGroup]
    services: list[Service]
    flows: FlowPicture | None
    interfaces: Interfaces
    hosts: list[HostSeries] | None
    whereabouts: Whereabouts | None
    tests: list[ProbeCourse] | None  # None: not looked at, or nothing is tested
    tests_known: bool  # whether they were looked at
    bursts: Bursts
    full_ms: Float64s  # of each second at or over the line rate; empty without one
    packets: int
    octets: int


def survey(scene: Scene, settings: SurveySettings, progress: Progress = go_on) -> SurveyPicture:
    """The picture of a scene.

    A measure whose filter cannot be used is left out and told. Raises Cancelled when `progress` says so.
    """
    edge_ns = edges(scene.first_ns, scene.last_ns, settings.interval_ns)
    lines, errors = [], []
    for k, measure in enumerate(settings.measures):
        step(progress, 0.4 * k / len(settings.measures), f"measuring {measure.name}")
        try:
            lines.append((measure, values(scene, measure, edge_ns)))
        except (FilterError, HistoryError) as error:
            errors.append(f"{measure.name}: {error}")
    mask = scene.packets
    inner = mask
    for by, label in settings.inside:
        step(progress, 0.4, f"looking into {label}")
        inner = within(scene.evidence, inner, by, label)
    columns = scene.evidence.analysis.capture.packets
    step(progress, 0.45, "looking for bursts")
    found = bursts(columns, mask, scene.first_ns, scene.last_ns)
    step(progress, 0.5, f"adding up by {settings.by}")
    parts = make_up(scene.evidence, inner, settings.by, period=(scene.first_ns, scene.last_ns))
    step(progress, 0.75, "counting troubles")
    ranked = troubles(scene)
    step(progress, 0.8, "adding up flow records")
    flows = (
        flow_picture(
            scene.evidence,
            scene.first_ns,
            scene.last_ns,
            replace(settings.flows, filter=scene.focus.filter),
            lambda _share, words: progress(0.8, words),
        )
        if settings.flows is not None
        else None
    )
    hosts = None
    if settings.hosts:
        step(progress, 0.82, "reading what hosts counted")
        hosts = host_readings(scene.evidence.analysis.history, scene.first_ns, scene.last_ns)
    held = None
    if settings.whereabouts:
        held = whereabouts(scene.evidence.analysis.history, scene.first_ns, scene.last_ns)
    tests = None
    if settings.tests:
        step(progress, 0.83, "reading how tests went")
        tests = probe_courses(scene.evidence.analysis.history, scene.first_ns, scene.last_ns)
    step(progress, 0.85, "asking how services answered")
    return SurveyPicture(
        edge_ns,
        tuple(lines),
        tuple(errors),
        parts,
        ranked,
        other_groups(scene.evidence, scene.first_ns, scene.last_ns),
        services(scene.evidence, scene.first_ns, scene.last_ns),
        flows,
        interfaces(scene.evidence.analysis, scene.first_ns, scene.last_ns),
        hosts,
        held,
        tests,
        settings.tests,
        found,
        found.full_ms_per_s(settings.line_bps) if settings.line_bps > 0 else np.empty(0),
        int(mask.sum()),
        int(columns.wire_bytes[mask].sum()),
    )
