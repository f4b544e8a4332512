"""Which files hold a period of a table that is kept at several levels: sums where a day is closed, else what is finer,
and what is coarser where nothing finer is kept any more.
"""

from collections.abc import Sequence
from pathlib import Path

from yaffle.history.layout import DAY_NS, HOUR_NS, Level, branches, counting, folder_name, folders, sums_of

NEVER, ALWAYS = 1 << 62, 0


def files_of_period(
    root: Path, levels: Sequence[Level], level: Level, first_ns: int = ALWAYS, last_ns: int = NEVER
) -> list[Path]:
    """The files of each collector, in order of time. levels: from the finest, whose rows stand as they came."""
    return [
        path for branch in branches(root) for path in _of_branch(branch, levels, level, int(first_ns), int(last_ns))
    ]


def _of_branch(root: Path, levels: Sequence[Level], level: Level, first_ns: int, last_ns: int) -> list[Path]:
    place = levels.index(level) + 1
    days = {
        int(start) // DAY_NS * DAY_NS
        for one in levels
        for start in starts(root / one.name)
        if start < last_ns and start + one.folder_ns > first_ns
    }
    found: list[Path] = []
    for day in sorted(days):
        for one in (*reversed(levels[:place]), *levels[place:]):
            if files := _of_day(root, one, levels[0], day, first_ns, last_ns):
                found += files
                break
    return found


def _of_day(root: Path, level: Level, finest: Level, day: int, first_ns: int, last_ns: int) -> list[Path]:
    if level is not finest:
        return sums_of(root / level.name / folder_name(day, DAY_NS))
    hours = range(max(day, first_ns // HOUR_NS * HOUR_NS), min(day + DAY_NS, last_ns), HOUR_NS)
    return [path for hour in hours for path in counting(root / finest.name / folder_name(hour, HOUR_NS))]


def starts(folder: Path) -> list[int]:
    """When the stretches begin that a level's folder holds."""
    return [start for start, _ in folders(folder)]
