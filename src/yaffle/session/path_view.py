"""The path in a period: each segment's delay, loss and markings in both directions, over time, and every packet it
lost.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array
from yaffle.capture.addresses import address_text, end_text
from yaffle.capture.registry import ECN_NAMES, marking
from yaffle.findings.flow_changes import WayChange, way_changes
from yaffle.findings.flow_path import FlowWay, flow_ways
from yaffle.findings.flow_source import held_flows
from yaffle.findings.location import WaitedAt, where_waited
from yaffle.findings.streams import StreamAt, followed
from yaffle.media.calls import Call
from yaffle.path.segments import PathSegment, Way, ecn_changes, marking_changes
from yaffle.path.split import SplitConnections, split_connections
from yaffle.path.translations import PairedEnds, Translation, translations
from yaffle.quantiles import nearest_rank
from yaffle.session.flow_filter import narrowed
from yaffle.session.scene import Scene
from yaffle.units import duration, moment

BINS = 200
MOST_LOST = 5000


@dataclass(frozen=True)
class WayPicture:
    """One direction of a segment in the period. Delays ns; nan where nothing arrived."""

    start: str  # point that is passed first
    end: str
    packets: int
    lost: int
    copies: int
    reordered: int
    born: int
    least_ns: float
    median_ns: float
    p95_ns: float
    variation_ns: float
    markings: list[str]  # changes, in words
    floor: Array  # (BINS,) least delay of each interval
    middle: Array  # median
    high: Array  # 95th percentile
    lost_at_ns: Array  # when each lost packet was sent

    @property
    def share(self) -> float:
        """Part of the packets that was lost."""
        return self.lost / self.packets if self.packets else 0.0


@dataclass(frozen=True)
class LostPacket:
    """One packet that never arrived."""

    row: int
    time_ns: int
    way: str
    sender: str
    receiver: str
    seq: int  # -1 where it has none
    octets: int
    connection: int  # that speaks for it; -1 where it is none of TCP


@dataclass(frozen=True)
class SegmentPicture:
    """A segment in both directions."""

    near: str
    far: str
    ways: tuple[WayPicture, WayPicture]  # from the clients, from the servers
    lost: list[LostPacket]  # the first MOST_LOST


@dataclass(frozen=True)
class ClockPicture:
    """The clock of one capture point against that of the first."""

    point: str
    against: str
    offset_ns: float
    drift_ppm: float
    uncertainty_ns: float | None  # which an asymmetry of the path could hide; None: one direction alone was seen
    corrected: bool  # whether timestamps are corrected everywhere, else on the pages of the path alone
    steps: str  # when it was set meanwhile; empty where it was not


@dataclass(frozen=True)
class PathPicture:
    """What the station shows."""

    points: list[str]
    segments: list[SegmentPicture]
    edges_ns: Array
    clocks: list[ClockPicture]  # in words, point by point
    ways: list[FlowWay]  # of flow records, over the exporters that told them
    streams: list[StreamAt]  # voice and video of the period, stream by stream, from sender to receiver
    calls: list[Call]
    changes: list[WayChange]  # of ways, by flow records
    waited: list[WaitedAt]  # what the network cost in focus, by stretch of the path
    translations: list[Translation]
    apart: tuple[PairedEnds, ...]  # what the user says is not the same
    split: list[SplitConnections]  # what something between two points answers itself


def path_picture(scene: Scene) -> PathPicture:
    """The path in the period of the focus; the rest of the focus narrows only what waits cost: what shares a segment
    suffers together.
    """
    analysis = scene.evidence.analysis
    first_ns, last_ns = scene.first_ns, scene.last_ns
    edges_ns = first_ns + np.array([k * max(1, last_ns - first_ns) // BINS for k in range(BINS + 1)], np.int64)
    speaker = _speakers(analysis)
    segments = [_segment(analysis, segment, edges_ns, speaker) for segment in analysis.path.segments]
    streams = [
        at
        for stream in followed(analysis)
        for at in stream
        if at.media.first_ns <= last_ns and at.media.last_ns >= first_ns
    ]
    held = held_flows(analysis, first_ns, last_ns, packets=False)
    held = narrowed(held, scene.evidence.places, scene.focus.filter)
    rows = scene.evidence.waits.exchange[scene.rows]
    calls = [
        call
        for call in analysis.calls
        if call.asked_ns <= last_ns and max(call.asked_ns, call.ended_ns, call.answered_ns) >= first_ns
    ]
    return PathPicture(
        analysis.point_names, segments, edges_ns, _clocks(analysis), flow_ways(held), streams, calls,
        way_changes(held), where_waited(analysis, rows[rows >= 0]),
        translations(analysis.capture, analysis.path), analysis.apart, split_connections(analysis.capture),
    )  # fmt: skip


def _clocks(analysis: Analysis) -> list[ClockPicture]:
    return [
        ClockPicture(
            analysis.point_names[point],
            analysis.point_names[0],
            clock.offset_ns,
            clock.drift * 1e6,
            clock.uncertainty_ns if clock.both_ways else None,
            point in analysis.path.corrected,
            "; ".join(
                f"set {duration(abs(step))} {'ahead' if step > 0 else 'back'} at {moment(at_ns)} of its own time"
                for at_ns, step in clock.steps
            ),
        )
        for point, clock in sorted(analysis.path.clocks.items())
    ]


def _speakers(analysis: Analysis) -> Array:
    """For each conversation the connection that speaks for it, -1 without."""
    found = np.full(analysis.capture.conversations.point.size, -1, np.int64)
    found[analysis.account.flow] = analysis.speaker
    return found


def _segment(analysis: Analysis, segment: PathSegment, edges_ns: Array, speaker: Array) -> SegmentPicture:
    points = analysis.point_names
    near, far = points[segment.near], points[segment.far]
    ways = (_way(analysis, segment.up, near, far, edges_ns), _way(analysis, segment.down, far, near, edges_ns))
    lost: list[LostPacket] = []
    for way, words in ((segment.up, "from the client"), (segment.down, "from the server")):
        lost += _lost(analysis, way, words, edges_ns, speaker)
    return SegmentPicture(near, far, ways, sorted(lost, key=lambda one: one.time_ns)[:MOST_LOST])


def _inside(analysis: Analysis, rows: Array, edges_ns: Array) -> Array:
    times = analysis.capture.packets.time_ns[rows]
    return np.asarray((times >= edges_ns[0]) & (times <= edges_ns[-1]))


def _way(analysis: Analysis, way: Way, start: str, end: str, edges_ns: Array) -> WayPicture:
    packets = analysis.capture.packets
    own = _inside(analysis, way.sent, edges_ns)
    came = way.arrived >= 0
    delays = np.full(way.sent.size, np.nan)
    delays[came] = way.delay_ns
    times, delay = packets.time_ns[way.sent[own & came]], delays[own & came]
    place = np.clip(np.searchsorted(edges_ns, times, "right") - 1, 0, BINS - 1)
    curves = np.full((3, BINS), np.nan)
    order = np.lexsort((delay, place))
    sizes = np.bincount(place, minlength=BINS)
    ends, some = np.cumsum(sizes), sizes > 0
    starts = ends - sizes
    for k, quantile in enumerate((0.0, 0.5, 0.95)):
        curves[k, some] = delay[order][(starts + np.minimum(sizes - 1, (sizes * quantile).astype(np.int64)))[some]]
    part = Way(
        way.from_client, way.sent[own], way.arrived[own], way.copies, way.born, delay, way.reordered, way.variation_ns
    )
    changes = [
        f"{marking(before)} to {marking(after)}: {count:,} packets"
        for before, after, count in marking_changes(analysis.capture, part)
    ]
    changes += [
        f"{ECN_NAMES[before]} to {ECN_NAMES[after]}: {count:,} packets"
        for before, after, count in ecn_changes(analysis.capture, part)
    ]
    steps = np.abs(np.diff(delay))
    least, median, p95 = (nearest_rank(delay, percent) for percent in (0, 50, 95))
    copies, late, born = (
        int(_inside(analysis, rows, edges_ns).sum()) for rows in (way.copies, way.reordered, way.born)
    )
    floor, middle, high = curves
    return WayPicture(
        start, end, int(own.sum()), int((own & ~came).sum()), copies, late, born, least, median, p95,
        float(steps.mean()) if steps.size else float("nan"), changes,
        floor, middle, high,
        packets.time_ns[way.sent[own & ~came]],
    )  # fmt: skip


def _lost(analysis: Analysis, way: Way, words: str, edges_ns: Array, speaker: Array) -> list[LostPacket]:
    packets, flows = analysis.capture.packets, analysis.capture.conversations
    rows = way.lost
    found = []
    for row in rows[_inside(analysis, rows, edges_ns)][:MOST_LOST].tolist():
        flow, ipv6 = int(packets.flow[row]), bool(flows.ipv6[packets.flow[row]])
        ends = [
            end_text(
                address_text(getattr(flows, f"{e}_hi")[flow], getattr(flows, f"{e}_lo")[flow], ipv6),
                int(getattr(flows, f"{e}_port")[flow]),
            )
            for e in "ab"
        ]
        sender, receiver = ends[::-1] if packets.direction[row] else ends
        seq = int(packets.head["seq"][row]) if packets.protocol[row] == 6 else -1
        found.append(
            LostPacket(
                row,
                int(packets.time_ns[row]),
                words,
                sender,
                receiver,
                seq,
                int(packets.payload_bytes[row]),
                int(speaker[flow]),
            )
        )
    return found
