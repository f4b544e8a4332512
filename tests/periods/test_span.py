from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest

from yaffle.periods.span import span_of
from yaffle.session.period_words import PeriodError

HOUR = 3600 * 10**9


def ns(text, zone=UTC):
    return int(datetime.fromisoformat(text).replace(tzinfo=zone).timestamp()) * 10**9


FIRST, LAST = ns("2026-02-16 00:00"), ns("2026-03-18 14:20")  # A Wednesday afternoon.


@pytest.mark.parametrize(
    ("words", "low", "high"),
    [
        ("last week", "2026-03-09 00:00", "2026-03-16 00:00"),
        ("Last  Week", "2026-03-09 00:00", "2026-03-16 00:00"),
        ("this week", "2026-03-16 00:00", "2026-03-18 15:00"),
        ("yesterday", "2026-03-17 00:00", "2026-03-18 00:00"),
        ("today", "2026-03-18 00:00", "2026-03-18 15:00"),
        ("last month", "2026-02-01 00:00", "2026-03-01 00:00"),
        ("this month", "2026-03-01 00:00", "2026-03-18 15:00"),
        ("2026-03-10", "2026-03-10 00:00", "2026-03-11 00:00"),
        ("last 24 h", "2026-03-17 14:00", "2026-03-18 15:00"),
    ],
)
def test_periods_of_the_calendar_have_names(words, low, high):
    span = span_of(words, FIRST, LAST)
    assert (span.first_ns, span.last_ns) == (ns(low), ns(high))


def test_days_begin_where_the_reader_lives():
    zone = ZoneInfo("Europe/Berlin")
    span = span_of("last week", FIRST, LAST, zone)
    assert (span.first_ns, span.last_ns) == (ns("2026-03-09 00:00", zone), ns("2026-03-16 00:00", zone))


def test_last_counts_from_now_where_that_is_told():
    assert span_of("yesterday", FIRST, LAST, now_ns=ns("2026-03-12 06:00")).first_ns == ns("2026-03-11 00:00")


def test_what_came_before_is_whole_weeks():
    assert span_of("last week", FIRST, LAST).before_ns == ns("2026-02-09 00:00")
    assert (span_of("last month", FIRST, LAST).first_ns - span_of("last month", FIRST, LAST).before_ns) % (
        168 * HOUR
    ) == 0


def test_words_without_sense_are_said():
    with pytest.raises(PeriodError):
        span_of("the other day", FIRST, LAST)
