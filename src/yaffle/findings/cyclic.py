"""Cyclic streams that were steady and no longer are: cycles missed, gaps, jitter, interruptions, an early end.

Usual is the median of a stream's stretches. A stretch is rough where more cycles were missed than usual (a hundredth at
least), where a gap was as long as three cycles, or where the jitter's 95th percentile is four times the usual one and a
twentieth of the period. A stream was steady where most of its stretches are not rough.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from yaffle.analysis import Analysis
from yaffle.cyclic.streams import Cyclic, Stretch
from yaffle.findings.finding import Finding
from yaffle.ledger import causes
from yaffle.units import count, duration, moment

CAUSE, STOPPED = "unsteady cycle", "cyclic stream stopped"
CYCLIC = "cyclic"
_MISSED, _TIMES_MISSED, _FEW = 0.01, 5.0, 3
_TIMES_JITTER, _OF_PERIOD = 4.0, 0.05
_GAP = 3  # cycles


@dataclass(frozen=True)
class Trouble:
    """A stream that was steady, with the stretches in which it was not."""

    stream: Cyclic
    rough: tuple[Stretch, ...]
    usual_jitter_ns: float

    @property
    def first_ns(self) -> int:
        """When it began."""
        return self.rough[0].start_ns

    @property
    def last_ns(self) -> int:
        """When it was over."""
        course = self.stream.course
        return self.rough[-1].start_ns + (course[1].start_ns - course[0].start_ns if len(course) > 1 else 0)

    @property
    def missed(self) -> int:
        """Cycles in those stretches."""
        return sum(part.missed for part in self.rough)

    @property
    def longest_gap_ns(self) -> int:
        """In those stretches."""
        return max(part.longest_gap_ns for part in self.rough)


def trouble_of(stream: Cyclic) -> Trouble | None:
    """What was rough of a stream that was steady else; None where nothing was, or all."""
    heard = [part for part in stream.course if part.packets]
    if len(heard) < _FEW:
        return None
    usual = float(np.median([part.jitter_ns for part in heard]))
    missing = float(np.median([part.missed / (part.packets + part.missed) for part in heard]))
    limit = max(_MISSED, _TIMES_MISSED * missing)
    jitter = max(_TIMES_JITTER * usual, _OF_PERIOD * stream.period_ns)
    rough = [
        part
        for part in stream.course
        if part.missed > limit * (part.packets + part.missed)
        or part.longest_gap_ns >= _GAP * stream.period_ns
        or part.jitter_ns > jitter
    ]
    return Trouble(stream, tuple(rough), usual) if 2 * len(rough) < len(heard) and _is_much(stream, rough) else None


def _is_much(stream: Cyclic, rough: Sequence[Stretch]) -> bool:
    gap = any(part.longest_gap_ns >= _GAP * stream.period_ns for part in rough)
    return gap or len(rough) >= _FEW or sum(part.missed for part in rough) >= _FEW


def cyclic_findings(analysis: Analysis) -> list[Finding]:
    """Streams that were rough at one time by one end are one finding; those with most of them first. While a station
    moves between access points its streams are not steady: that is told as moves.
    """
    told = [own for one in analysis.cyclic if (own := trouble_of(one)) is not None]
    moves = _moves(analysis)
    troubled = [own for one in told if (own := _but_for_moves(one, moves)) is not None]
    found = [_finding(analysis, own) for own in _together(troubled)] + list(_stopped(analysis))
    return sorted(found, key=lambda one: (-one.users, one.first_ns))


def _moves(analysis: Analysis) -> dict[str, list[tuple[int, int]]]:
    """By the address of a station: from the last data at one access point to the first at the next."""
    return {
        station.address: [(one.back_ns - one.gap_ns, one.back_ns) for one in station.course.roams if one.back_ns >= 0]
        for station in analysis.radio.stations
    }


def _but_for_moves(one: Trouble, moves: dict[str, list[tuple[int, int]]]) -> Trouble | None:
    """The same without stretches in which an end moved."""
    spans = [span for end in _hosts(one.stream) for span in moves.get(end, [])]
    if not spans:
        return one
    course = one.stream.course
    width_ns = course[1].start_ns - course[0].start_ns if len(course) > 1 else 0

    def moved_in(part: Stretch) -> bool:
        low, high = part.start_ns - width_ns, part.start_ns + width_ns
        return any(from_ns <= high and to_ns >= low for from_ns, to_ns in spans)

    rough = [part for part in one.rough if not moved_in(part)]
    return replace(one, rough=tuple(rough)) if _is_much(one.stream, rough) else None


def _together(troubled: list[Trouble]) -> list[list[Trouble]]:
    groups: list[list[Trouble]] = []
    for one in sorted(troubled, key=lambda own: own.first_ns):
        for group in groups:
            last_ns = max(own.last_ns for own in group)
            ends = {end for own in group for end in _hosts(own.stream)}
            if one.first_ns <= last_ns and ends & _hosts(one.stream):
                group.append(one)
                break
        else:
            groups.append([one])
    return groups


def _hosts(stream: Cyclic) -> set[str]:
    """Both ends; ports tell processes, not places."""
    return {host_of(stream.source), host_of(stream.destination)}


def host_of(end: str) -> str:
    """An end without its port."""
    if end.startswith("["):
        return end[1 : end.index("]")]
    return end.partition(":")[0] if end.count(":") == 1 else end


def end_words(analysis: Analysis, end: str) -> str:
    """An end as people name it, with its port."""
    host = host_of(end)
    port = end.rpartition(":")[2] if end != host else ""
    return analysis.places.short(host) + (f" port {port}" if port else "")


def _ends(analysis: Analysis, stream: Cyclic) -> str:
    return f"{end_words(analysis, stream.source)} to {end_words(analysis, stream.destination)}"


def stream_words(analysis: Analysis, stream: Cyclic) -> str:
    """A stream as people name it."""
    return f"{_ends(analysis, stream)} ({stream.kind}, every {duration(round(stream.period_ns))})"


def _finding(analysis: Analysis, group: list[Trouble]) -> Finding:
    worst = max(group, key=lambda own: (own.longest_gap_ns / own.stream.period_ns, own.missed))
    stream, others = worst.stream, len(group) - 1
    first, last = min(own.first_ns for own in group), max(own.last_ns for own in group)
    parts = []
    if worst.missed:
        left_out = (
            f" (in all {count(stream.missed)}, {count(stream.unsent)} of which it never sent, by its own counter)"
        )
        parts.append(f"{count(worst.missed)} cycles missed{left_out if stream.unsent > 0 else ''}")
    gaps = worst.longest_gap_ns / stream.period_ns
    is_device = host_of(stream.source) == stream.source
    gives_up = "; devices usually give up after 3" if is_device else ""
    watchdogs = f" ({gaps:.0f} cycles{gives_up})" if gaps >= _GAP else ""
    parts.append(f"longest gap {duration(worst.longest_gap_ns)}{watchdogs}")
    jitter = max(part.jitter_ns for part in worst.rough)
    if jitter > worst.usual_jitter_ns:
        parts.append(f"jitter {duration(round(jitter))} instead of {duration(round(worst.usual_jitter_ns))} (p95)")
    also = f" {count(others)} other stream{'s' if others > 1 else ''} of the same ends at that time." if others else ""
    sentence = (
        f"{stream_words(analysis, stream)} was steady, but not from {moment(first, 0)} to {moment(last, 0)}:"
        f" {', '.join(parts)}.{also}"
    )
    step = (
        "See who sent most at that time by the same links, and whether the stream's class is served first; a tap nearer"
        " to the sender shows whether it came late already."
    )
    return Finding(
        causes.NETWORK, CAUSE, "major" if gaps >= _GAP else "minor", f"{stream.source} to {stream.destination}",
        sentence, step, 0.8, first, last, 0, 1 + others,
        grounds={CYCLIC: True, "name": _ends(analysis, stream), "stretches": [[first, last]]},
    )  # fmt: skip


def _stopped(analysis: Analysis) -> Iterator[Finding]:
    for stream in analysis.cyclic:
        # Applications end their streams; devices do not.
        ends = stream.ended and host_of(stream.source) == stream.source
        if not ends and not stream.interruptions:
            continue
        words = []
        if stream.interruptions:
            times = f"{count(stream.interruptions)} time{'s' if stream.interruptions > 1 else ''}"
            words.append(f"was interrupted {times}, {duration(stream.interrupted_ns)} in all")
        if ends:
            words.append(f"ended at {moment(stream.last_ns, 0)} while the capture went on")
        yield Finding(
            causes.NETWORK, STOPPED, "minor", f"{stream.source} to {stream.destination}",
            f"{stream_words(analysis, stream)} {' and '.join(words)}.",
            "Look at the sender's own log of that time: a device that was switched off looks the same.", 0.7,
            stream.first_ns, stream.last_ns, 0, 1, grounds={CYCLIC: True, "name": _ends(analysis, stream)},
        )  # fmt: skip
