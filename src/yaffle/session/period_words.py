"""Periods as people type them: "06:38 to 06:44", "last 5 min", "06:40 +- 2 min", "2026-03-10 06:38 for 90 s", a kept
name.
"""

import re
from datetime import UTC, datetime, timedelta, tzinfo

from yaffle.errors import YaffleError

_S = 10**9
_UNITS = {
    "ms": 10**6,
    "s": _S,
    "sec": _S,
    "second": _S,
    "min": 60 * _S,
    "minute": 60 * _S,
    "h": 3600 * _S,
    "hour": 3600 * _S,
    "d": 86_400 * _S,
    "day": 86_400 * _S,
}
_SPAN = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*([a-z]+?)s?\s*$")
_MOMENT = re.compile(r"^\s*(?:(\d{4})-(\d{1,2})-(\d{1,2})[T ]+)?(\d{1,2}):(\d{2})(?::(\d{2})(?:\.(\d{1,9}))?)?\s*$")
_DAY = re.compile(r"^\d{4}-\d{1,2}-\d{1,2}$")
EXAMPLES = "06:38 to 06:44, last 5 min, first 30 s, 06:40 +- 2 min, 06:38:10.5 for 800 ms, 2026-03-10 06:38 to 07:00"


class PeriodError(YaffleError):
    """The words cannot be understood as a period."""


def span_ns(text: str) -> int:
    """A length of time. Raises PeriodError."""
    found = _SPAN.match(text.lower())
    unit = found.group(2) if found else ""
    factor = _UNITS.get(unit) or _UNITS.get(unit + "s")
    if found is None or factor is None:
        raise PeriodError(f"“{text.strip()}” is not a length of time: write for example 5 min, 800 ms or 1.5 h")
    return int(float(found.group(1)) * factor)


def moment_ns(text: str, near_ns: int, zone: tzinfo = UTC) -> int:
    """A moment; without a date the one of that time of day nearest to near_ns. Raises PeriodError."""
    found = _MOMENT.match(text)
    if found is None:
        raise PeriodError(f"“{text.strip()}” is not a time: write for example 06:38, 06:38:05.250 or 2026-03-10 06:38")
    year, month, day, hour, minute, second, part = found.groups()
    near = datetime.fromtimestamp(near_ns // 10**9, zone)
    try:
        moment = near.replace(hour=int(hour), minute=int(minute), second=int(second or 0), microsecond=0)
        if year:
            moment = moment.replace(year=int(year), month=int(month), day=int(day))
    except ValueError as error:
        raise PeriodError(f"“{text.strip()}” is not a time ({error})") from error
    if not year:
        moment = min((moment + timedelta(days=k) for k in (-1, 0, 1)), key=lambda m: abs((m - near).total_seconds()))
    return int(moment.timestamp()) * 10**9 + int((part or "0").ljust(9, "0"))


def period_ns(
    text: str, first_ns: int, last_ns: int, zone: tzinfo = UTC, names: dict[str, tuple[int, int]] | None = None
) -> tuple[int, int] | None:
    """The period, within first_ns to last_ns of the case; None for all of it. Raises PeriodError."""
    words = text.strip()
    for name, period in (names or {}).items():
        if name.lower() == words.lower():
            return period
    if words.lower() in ("", "all", "everything", "all the time"):
        return None
    middle = (first_ns + last_ns) // 2
    low, high = words.lower(), 0
    if low.startswith("last "):
        found = (last_ns - span_ns(low[5:]), last_ns)
    elif low.startswith("first "):
        found = (first_ns, first_ns + span_ns(low[6:]))
    elif len(parts := re.split(r"\s*(?:\+-|\+/-|±)\s*", words)) == 2:
        at, high = moment_ns(parts[0], middle, zone), span_ns(parts[1])
        found = (at - high, at + high)
    elif len(parts := re.split(r"\s+for\s+|\s*\+\s*", words)) == 2:
        at = moment_ns(parts[0], middle, zone)
        found = (at, at + span_ns(parts[1]))
    elif len(parts := re.split(r"\s+to\s+|\s+until\s+|\s*–\s*|\s+-\s+", words)) == 2:
        start = moment_ns(parts[0], middle, zone)
        found = (start, moment_ns(parts[1], start, zone))
        if found[1] < found[0] and not _MOMENT.match(parts[1]).group(1):  # type: ignore[union-attr]
            found = (start, found[1] + 86_400 * 10**9)
    elif _DAY.match(words):
        start = moment_ns(f"{words} 00:00", middle, zone)
        found = (start, start + 86_400 * 10**9)
    else:
        at = moment_ns(words, middle, zone)
        found = (at, at + (10**9 if words.count(":") > 1 else 60 * 10**9))
    if found[1] <= found[0]:
        raise PeriodError(f"“{words}” ends before it begins")
    if found[1] < first_ns or found[0] > last_ns:
        raise PeriodError(f"“{words}” lies outside of what was captured")
    return max(first_ns, found[0]), min(last_ns, found[1])


def period_text(first_ns: int, last_ns: int, zone: tzinfo = UTC) -> str:
    """A period as it can be typed again, to the second."""
    ends = [
        datetime.fromtimestamp(moment // 10**9, zone).strftime("%Y-%m-%d %H:%M:%S") for moment in (first_ns, last_ns)
    ]
    return f"{ends[0]} to {ends[1]}"
