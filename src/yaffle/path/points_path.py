"""The path of a capture with several points: clocks of all points, and the segments between those that follow each
other.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from yaffle.arrays import Array, Bools, Int64s
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.path.clocks import Clock
from yaffle.path.identity import identities
from yaffle.path.segments import PathSegment, segment_of
from yaffle.path.shared import Shared, Watch, chained, shared
from yaffle.progress import Progress, go_on, step
from yaffle.room import Room


@dataclass(frozen=True)
class PointsPath:
    """Clocks against the first point, by point; segments, those with most packets first."""

    clocks: dict[int, Clock] = field(default_factory=dict)
    segments: list[PathSegment] = field(default_factory=list)
    corrected: set[int] = field(default_factory=set)  # points whose times in the capture were set right


def find_path(capture: Capture, payload: Payload, progress: Progress = go_on) -> PointsPath:
    """Matches what several points saw.

    Of one point alone there is nothing to tell. Raises Cancelled when `progress` says so.
    """
    points = len(capture.points)
    if points < 2:
        return PointsPath()
    words = "looking for the same packets at several points"
    watches = []
    for point in range(points):
        step(progress, 0.4 * point / points, words)
        watches.append(_watch(capture, payload, point))
    pairs: dict[tuple[int, int], Shared] = {}
    for p in range(points):
        for q in range(p + 1, points):
            step(progress, 0.4 + 0.3 * p / points, words)
            found = shared(capture, watches[p], watches[q])
            if found is not None:
                pairs[p, q] = found
    clocks = {key: pair.clock for key, pair in pairs.items()}
    chains = chained(clocks, points)
    segments = []
    for number, (key, pair) in enumerate(pairs.items()):
        step(progress, 0.7 + 0.3 * number / len(pairs), "telling what each segment did")
        chosen = _neighbors(key, pair, pairs)
        alone = _alone(capture, pair)
        for side, (own, only) in enumerate(
            ((chosen & pair.near, alone[0]), (chosen & ~pair.near, alone[1]))
        ):  # Clients may be at either end.
            if own.any():
                none = only[:0]
                segments.append(segment_of(capture, pair, own, (only, none) if side == 0 else (none, only)))
    segments.sort(key=lambda s: -(s.up.sent.size + s.down.sent.size))
    return PointsPath({point: _summed(way, clocks) for point, way in chains.items() if way}, segments)


def _watch(capture: Capture, payload: Payload, point: int) -> Watch:
    packets, flows = capture.packets, capture.conversations
    own = np.flatnonzero(packets.flow >= 0)
    own = own[flows.point[packets.flow[own]] == point]
    own = own[np.argsort(packets.time_ns[own], kind="stable")]
    times = packets.time_ns[own]
    return Watch(
        point,
        own,
        identities(capture, payload, own),
        int(times[0]) if own.size else 0,
        int(times[-1]) if own.size else 0,
    )


def _summed(steps: list[tuple[int, int, bool]], clocks: dict[tuple[int, int], Clock]) -> Clock:
    """The clock of a point against the reference, over the points between."""
    offset = drift = uncertainty = 0.0
    at = clocks[steps[0][0], steps[0][1]].at_ns
    count, both = 1 << 62, True
    stepped: list[tuple[int, float]] = []
    for p, q, back in steps:
        own = clocks[p, q]
        sign = -1 if back else 1
        offset += sign * (own.offset_ns + own.drift * (at - own.at_ns))
        drift += sign * own.drift
        uncertainty += own.uncertainty_ns
        count, both = min(count, own.pairs), both and own.both_ways
        apart = round(own.offset_ns)  # Moments go along from clock to clock.
        stepped = [(when + sign * apart, step) for when, step in stepped] + [
            (when - apart if back else when, sign * step) for when, step in own.steps
        ]
    return Clock(offset, drift, at, uncertainty, count, both, tuple(sorted(stepped)))


def _set_words(clock: Clock) -> str:
    """What is said of a clock that was set meanwhile."""
    return "".join(
        f"; it was set {abs(step) / 1e6:.3f} ms {'ahead' if step > 0 else 'back'} at {np.datetime64(at_ns, 'ns')} of"
        " its own time"
        for at_ns, step in clock.steps
    )


def _neighbors(key: tuple[int, int], pair: Shared, pairs: dict[tuple[int, int], Shared]) -> Bools:
    """Which conversations of a pair pass no third point between the two."""
    chosen = np.ones(pair.flows.shape[0], bool)
    place: dict[int, dict[tuple[int, int], int]] = {}
    for other_key, other in pairs.items():
        if other_key != key and set(other_key) & set(key):
            for n, (a, b) in enumerate(other.flows.tolist()):
                place.setdefault(a, {})[other_key] = n
                place.setdefault(b, {})[other_key] = n
    for n, (a, b) in enumerate(pair.flows.tolist()):
        for third in {point for other in pairs for point in other} - set(key):
            one, two = (min(key[0], third), max(key[0], third)), (min(key[1], third), max(key[1], third))
            with_a, with_b = place.get(a, {}).get(one), place.get(b, {}).get(two)
            if with_a is None or with_b is None:
                continue
            # Nearer to the client than `third`: each end of the pair, as the pair with the third tells it.
            a_nearer = bool(pairs[one].near[with_a]) == (one[0] == key[0])
            b_nearer = bool(pairs[two].near[with_b]) == (two[0] == key[1])
            if a_nearer != b_nearer:
                chosen[n] = False
    return chosen


def _alone(capture: Capture, pair: Shared) -> tuple[Int64s, Int64s]:
    """Conversations that only the point nearer to the client saw, with a service that both see the same client use: all
    of their packets were lost on the way.

    Gives those of the first point, and those of the second.
    """
    flows = capture.conversations

    def services(rows: Array) -> list[tuple[int, ...]]:
        columns = (flows.a_hi, flows.a_lo, flows.b_hi, flows.b_lo, flows.b_port, flows.protocol)
        return list(zip(*(column[rows].tolist() for column in columns), strict=True))

    out = []
    for watch, column, nearer in ((pair.one, 0, pair.near), (pair.two, 1, ~pair.near)):
        known = set(services(pair.flows[nearer, column]))
        own = np.flatnonzero(flows.point == watch.point)
        rest = own[~np.isin(own, pair.flows[:, column])]
        out.append(rest[np.array([service in known for service in services(rest)], bool)] if rest.size else rest)
    return out[0], out[1]


def with_clocks_right(capture: Capture, path: PointsPath, room: Room | None = None) -> tuple[Capture, PointsPath]:
    """With the times of points whose clocks let packets arrive before they left put to the clock of the first point.

    room: where times are put.
    """
    flows, wrong = capture.conversations, {}
    for point, clock in path.clocks.items():
        own = np.flatnonzero(flows.point == point)
        if own.size and clock.breaks_causality(int(flows.last_ns[own].max())):
            wrong[point] = own
    if not wrong:
        return capture, path
    times: Int64s = (room or Room()).empty(capture.packets.time_ns.size, np.int64)
    times[:] = capture.packets.time_ns
    flows = flows._replace(first_ns=flows.first_ns.copy(), last_ns=flows.last_ns.copy())
    found = replace(
        capture.with_columns(time_ns=times), conversations=flows, sources=[*capture.sources], revised=True
    )  # fmt: skip
    for point, own in wrong.items():
        _set_right(found, path.clocks[point], own)
    return found, replace(path, corrected=path.corrected | wrong.keys())


def _set_right(capture: Capture, clock: Clock, own: Int64s) -> None:
    """Sets the times of some conversations right, in a capture whose times, conversations and sources are its own."""
    packets, flows = capture.packets, capture.conversations
    mark = np.zeros(flows.point.size + 1, bool)
    mark[own] = True
    rows = np.flatnonzero(mark[packets.flow])
    packets.time_ns[rows] = clock.set_right(packets.time_ns[rows])
    for column in (flows.first_ns, flows.last_ns):
        column[own] = clock.set_right(column[own])
    sources = np.unique(packets.source[rows]).tolist()
    loose = np.flatnonzero(np.isin(packets.source, sources) & (packets.flow < 0))
    packets.time_ns[loose] = clock.set_right(packets.time_ns[loose])
    side = "ahead of" if clock.offset_ns > 0 else "behind"
    sure = (
        f" ± {clock.uncertainty_ns / 1e6:.3g} ms"
        if clock.both_ways
        else "; only one direction was seen: its delays are taken from the quickest packet"
    )
    for number in sources:
        source = capture.sources[number]
        first, last = (int(t) for t in clock.set_right(np.array([source.first_ns, source.last_ns])))
        capture.sources[number] = replace(source, first_ns=first, last_ns=last).noting(
            f"its clock was {abs(clock.offset_ns) / 1e9:.6f} s {side} that of {capture.points[0]} and ran"
            f" {clock.drift * 1e6:+.1f} ppm: times are set right by packets that both saw{sure}{_set_words(clock)}"
        )
