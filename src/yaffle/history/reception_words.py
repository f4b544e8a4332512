"""What reception says of itself, and what its user tells it, as words."""

from yaffle.errors import YaffleError
from yaffle.history.layout import LEVELS, TABLE_SUMS, TABLES, least_days
from yaffle.history.reception import Status
from yaffle.units import count


def kept_days(words: list[str]) -> dict[str, int]:
    """Retention from LEVEL=DAYS. Raises YaffleError."""
    known = [one.name for one in (*LEVELS, *TABLES, *TABLE_SUMS)]
    found = {}
    for word in words:
        name, _, days = word.partition("=")
        if name not in known or not days.isdigit() or not least_days(name) <= int(days) < 100_000:
            raise YaffleError(f"--keep {word}: write LEVEL=DAYS, with one of {', '.join(known)}")
        found[name] = int(days)
    return found


def line(status: Status) -> str:
    """One line: what came, what was lost, and what is wrong."""
    parts = [
        f"{count(status.records)} flow records in {count(status.datagrams)} datagrams",
        f"{count(status.kernel_drops)} dropped by the kernel",
    ]
    if status.refused:
        parts.append(f"{count(status.refused)} were none of these protocols")
    if status.given_up:
        parts.append(f"{count(status.given_up)} records given up")
    return "; ".join([*parts, *([status.trouble] if status.trouble else [])])
