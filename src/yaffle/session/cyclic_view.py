"""Cyclic streams of a period, rough ones first."""

from dataclasses import dataclass

from yaffle.cyclic.streams import Cyclic
from yaffle.findings.cyclic import Trouble, end_words, trouble_of
from yaffle.session.scene import Scene


@dataclass(frozen=True)
class CyclicRow:
    """A stream, its ends as people name them, where it was seen, and what was rough."""

    stream: Cyclic
    source: str
    destination: str
    point: str
    trouble: Trouble | None


@dataclass(frozen=True)
class CyclicPicture:
    """Streams that touch a period."""

    rows: list[CyclicRow]


def cyclic_picture(scene: Scene) -> CyclicPicture | None:
    """Rough streams first, then by share of missed cycles; None where there is no cyclic stream."""
    analysis = scene.evidence.analysis
    if not analysis.cyclic:
        return None
    rows = [
        CyclicRow(
            one, end_words(analysis, one.source), end_words(analysis, one.destination),
            analysis.point_names[one.point], trouble_of(one),
        )
        for one in analysis.cyclic
        if one.first_ns <= scene.last_ns and one.last_ns >= scene.first_ns
    ]  # fmt: skip
    rows.sort(key=lambda row: (row.trouble is None, -row.stream.missed_share, -row.stream.jitter_ns[1]))
    return CyclicPicture(rows)
