"""Voice and video streams followed from point to point: where loss and jitter begin, and how it may have sounded."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.registry import marking
from yaffle.media.programs import Program
from yaffle.media.streams import Media
from yaffle.media.voice_quality import VoiceEstimate, estimate
from yaffle.units import count, duration

_MORE_JITTER_NS = 1_000_000  # By so much jitter grows before it is said to begin somewhere.


@dataclass(frozen=True)
class StreamAt:
    """A stream at one of the points it passed."""

    media: Media | Program
    point: str
    place: int  # 0 nearest to its sender
    words: str  # what happened since the point before
    network_ms: (
        float | None
    )  # median delay of the segments from the first point on, by clocks that both directions told
    voice: VoiceEstimate | None


def _right(analysis: Analysis, media: Media | Program) -> float:
    """When a stream began at a point, by the clock of the first point."""
    clock = analysis.path.clocks.get(media.point)
    if clock is None or media.point in analysis.path.corrected:
        return float(media.first_ns)
    return float(clock.set_right(np.array([media.first_ns]))[0])


def followed(analysis: Analysis) -> list[list[StreamAt]]:
    """Each stream with the points it passed, from its sender on; those that lost most first."""
    groups: dict[tuple[str, int, str], list[Media | Program]] = {}
    for stream in analysis.media:
        groups.setdefault(("stream", stream.ssrc, str(stream.payload_type)), []).append(stream)
    for program in analysis.programs:
        groups.setdefault((program.source, -1, program.destination), []).append(program)
    found = []
    for own in groups.values():
        seen: dict[int, Media | Program] = {}
        for media in own:
            if media.point not in seen or media.packets > seen[media.point].packets:
                seen[media.point] = media
        if _untold(analysis, list(seen)):
            ordered = sorted(seen.values(), key=lambda m: (-m.packets, m.lost, m.jitter_ns[1]))
        else:
            ordered = sorted(seen.values(), key=lambda m: _right(analysis, m))
        found.append([_at(analysis, ordered, k) for k in range(len(ordered))])
    return sorted(found, key=lambda one: (-one[-1].media.lost, one[0].media.first_ns))


def _untold(analysis: Analysis, points: list[int]) -> bool:
    """Whether clocks do not tell which point a stream passed first: then the one that saw most of it is taken for
    that.
    """
    return any(p != 0 and (p not in analysis.path.clocks or not analysis.path.clocks[p].both_ways) for p in points)


def _network_ms(analysis: Analysis, points: list[int]) -> float | None:
    """Median one-way delay over the segments between some points, in this order; None where one is not measured, or no
    clock tells it.
    """
    if len(points) < 2 or _untold(analysis, points):
        return None
    total = 0.0
    for start, end in pairwise(points):
        ways = [
            way
            for s in analysis.path.segments
            for way, a, b in ((s.up, s.near, s.far), (s.down, s.far, s.near))
            if (a, b) == (start, end) and way.delay_ns.size
        ]
        if not ways:
            return None
        total += float(np.median(max(ways, key=lambda way: way.delay_ns.size).delay_ns)) / 1e6
    return total


def _at(analysis: Analysis, ordered: list[Media | Program], k: int) -> StreamAt:
    media = ordered[k]
    parts = []
    if k > 0:
        before = ordered[k - 1]
        if (more := media.lost - before.lost) > 0:
            parts.append(f"{count(more)} lost since {analysis.point_names[before.point]}")
        more_ns = (
            media.jitter_ns[1] - before.jitter_ns[1]
        )  # Of a stream the mean; of a program the greatest of its clock references.
        if more_ns > _MORE_JITTER_NS:
            parts.append(f"jitter grows by {duration(more_ns)}")
        if media.dscp != before.dscp:
            parts.append(f"DSCP {marking(before.dscp)} becomes {marking(media.dscp)}")
    elif media.lost:
        parts.append(f"{count(media.lost)} lost before it came here")
    network_ms = _network_ms(analysis, [m.point for m in ordered[: k + 1]])
    voice = (
        estimate(media.payload_type, media.missing, media.burst_ratio, network_ms, media.codec)
        if isinstance(media, Media)
        else None
    )
    return StreamAt(media, analysis.point_names[media.point], k, ", ".join(parts) or "unchanged", network_ms, voice)
