"""Periods of the calendar in words, and the periods of the same length before one."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo

from yaffle.history.layout import HOUR_NS
from yaffle.session.period_words import period_ns

_EXAMPLES = "last week, this week, yesterday, today, last month, 2026-03-10, last 7 days"
_BEFORE = 4  # So many periods before it say what is usual.
_WEEK_NS = 7 * 24 * HOUR_NS


@dataclass(frozen=True)
class Span:
    """A period, and how it is called. Ends are at whole hours; the last one is not in it. Times in ns."""

    first_ns: int
    last_ns: int
    words: str

    @property
    def hours(self) -> int:
        """How many hours it has."""
        return (self.last_ns - self.first_ns) // HOUR_NS

    @property
    def before_ns(self) -> int:
        """From when on what came before is looked at: whole weeks, so that hours of the week can be compared."""
        weeks = -(-(self.last_ns - self.first_ns) // _WEEK_NS)
        return self.first_ns - max(_BEFORE, weeks) * _WEEK_NS


def _at(day: datetime) -> int:
    return int(day.timestamp()) * 10**9


def span_of(words: str, first_ns: int, last_ns: int, zone: tzinfo = UTC, now_ns: int | None = None) -> Span:
    """The period that words name. first_ns, last_ns: of the history; now_ns: what “last” counts from, the history's
    end without it. Raises PeriodError.
    """
    end = min(last_ns, now_ns) if now_ns is not None else last_ns
    now = datetime.fromtimestamp(end / 1e9, zone)
    today = now.replace(hour=0, minute=0, second=0, microsecond=0)
    monday = today - timedelta(days=today.weekday())
    month = today.replace(day=1)
    named = {
        "today": (today, now),
        "yesterday": (today - timedelta(days=1), today),
        "this week": (monday, now),
        "last week": (monday - timedelta(days=7), monday),
        "this month": (month, now),
        "last month": ((month - timedelta(days=1)).replace(day=1), month),
    }
    told = " ".join(words.lower().split())
    if told in named:
        low, high = (_at(day) for day in named[told])
    else:
        low, high = period_ns(words, first_ns, last_ns, zone) or (first_ns, last_ns)
    low, high = low // HOUR_NS * HOUR_NS, -(-high // HOUR_NS) * HOUR_NS
    return Span(low, max(high, low + HOUR_NS), told if told in named else "")
