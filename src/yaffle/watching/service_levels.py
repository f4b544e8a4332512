"""Service levels: what a measure may be, in which share of the time; kept with a history by whoever collects it.

A minute (or whatever the level is judged over) is good while the measure lies on the right side of its limit. What was
not measured is neither good nor bad, and is told apart.
"""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from yaffle.arrays import Array, Float64s
from yaffle.history.layout import DAY_NS, SERVICE_LEVELS
from yaffle.history.parts import write_json
from yaffle.records.catalogue import CATALOGUE, entry_of
from yaffle.watching.member_values import Question, values
from yaffle.watching.watch import ABOVE, BELOW
from yaffle.watching.windows import Windows


@dataclass(frozen=True)
class ServiceLevel:
    """Good while the measure is not `rule` (above, below) its limit. target: percent of the judged time."""

    name: str
    measure: str
    of: str = ""
    where: str = ""
    rule: str = ABOVE
    limit: float = 0.0
    target: float = 99.0
    over_ns: int = 300 * 10**9


@dataclass(frozen=True)
class BadStretch:
    """From when to when a level was missed, and by how much at worst."""

    first_ns: int
    last_ns: int
    worst: float


@dataclass(frozen=True)
class LevelKept:
    """How a level was kept by one member over a period. Times in ns."""

    level: ServiceLevel
    member: str
    good_ns: int
    bad_ns: int
    unknown_ns: int
    stretches: tuple[BadStretch, ...]  # longest first
    worst_days: tuple[tuple[int, int], ...]  # (start of the day, bad ns), worst first

    @property
    def percent(self) -> float:
        """Of the judged time; nan where nothing was judged."""
        judged = self.good_ns + self.bad_ns
        return 100 * self.good_ns / judged if judged else float("nan")

    @property
    def allowance_ns(self) -> float:
        """How long it may be missed, of the judged time."""
        return (self.good_ns + self.bad_ns) * (1 - self.level.target / 100)

    @property
    def used(self) -> float:
        """Share of the allowance that is used up; more than 1: missed."""
        return self.bad_ns / self.allowance_ns if self.allowance_ns else (float("inf") if self.bad_ns else 0.0)


def keep_levels(folder: Path, levels: Sequence[ServiceLevel]) -> None:
    """Writes the levels beside a history, whole or not at all. Raises OSError."""
    write_json(folder / SERVICE_LEVELS, [asdict(one) for one in levels])


def kept_levels(folder: Path) -> list[ServiceLevel]:
    """Those of a history; none where nobody wrote any, or they make no sense."""
    try:
        told = json.loads((folder / SERVICE_LEVELS).read_text(encoding="utf-8"))
        found = [ServiceLevel(**one) for one in told]
    except (OSError, ValueError, TypeError):
        return []
    return [one for one in found if one.measure in CATALOGUE and one.rule in (ABOVE, BELOW)]


def levels_over(windows: Windows, level: ServiceLevel, first_ns: int, last_ns: int) -> list[LevelKept]:
    """How each member kept a level, those that missed it most first. Raises HistoryError, WhereError."""
    width = level.over_ns
    start = -(-first_ns // width) * width  # Whole intervals only.
    whole = max(0, last_ns - start) // width
    a_day = max(1, DAY_NS // width)
    asked = Question(entry_of(level.measure, level.of), level.of, level.where)
    told: dict[str, Array] = {}
    for place in range(0, whole, a_day):  # A day at a time, so that memory is bounded.
        count = min(a_day, whole - place)
        found = values(windows, asked, start + place * width, width, count)
        windows.forget()
        for member, own in found.of.items():
            told.setdefault(member, np.full(whole, np.nan))[place : place + count] = own
    kept = [_kept(level, member, own, start) for member, own in told.items()]
    return sorted(kept, key=lambda one: (-one.used, one.member))


def _kept(level: ServiceLevel, member: str, told: Float64s, start_ns: int) -> LevelKept:
    width = level.over_ns
    known = np.isfinite(told)
    is_bad = known & ((told > level.limit) if level.rule == ABOVE else (told < level.limit))
    edges = np.flatnonzero(np.diff(np.concatenate([[0], is_bad.astype(np.int8), [0]])))
    worst = np.max if level.rule == ABOVE else np.min
    stretches = [
        BadStretch(start_ns + int(a) * width, start_ns + int(b) * width, float(worst(told[a:b])))
        for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]
    begins = start_ns + np.arange(told.size, dtype=np.int64) * width
    days, place = np.unique(begins // DAY_NS * DAY_NS, return_inverse=True)
    bad_of_days = np.bincount(place, is_bad, days.size).astype(np.int64) * width if told.size else np.zeros(0, np.int64)
    worst_days = zip(days.tolist(), bad_of_days.tolist(), strict=True)
    return LevelKept(
        level, member, int((known & ~is_bad).sum()) * width, int(is_bad.sum()) * width, int((~known).sum()) * width,
        tuple(sorted(stretches, key=lambda one: one.first_ns - one.last_ns)),
        tuple(sorted((day for day in worst_days if day[1]), key=lambda day: -day[1])),
    )  # fmt: skip
