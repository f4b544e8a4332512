from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest

from yaffle.session.period_words import PeriodError, moment_ns, period_ns, span_ns


def at(text, zone=UTC):
    return int(datetime.fromisoformat(text).replace(tzinfo=zone).timestamp() * 10**9)


FIRST, LAST = at("2026-03-10T06:25:00"), at("2026-03-10T06:55:00")


@pytest.mark.parametrize(
    ("words", "first", "last"),
    [
        ("06:38 to 06:44", "06:38:00", "06:44:00"),
        ("06:38–06:44", "06:38:00", "06:44:00"),
        ("6:38:10 until 6:38:20", "06:38:10", "06:38:20"),
        ("last 5 min", "06:50:00", "06:55:00"),
        ("first 30 s", "06:25:00", "06:25:30"),
        ("06:40 +- 2 min", "06:38:00", "06:42:00"),
        ("06:40 ± 90 s", "06:38:30", "06:41:30"),
        ("06:38:10 for 800 ms", "06:38:10", "06:38:10.800"),
        ("06:40 + 1.5 min", "06:40:00", "06:41:30"),
        ("2026-03-10 06:38 to 06:44", "06:38:00", "06:44:00"),
        ("06:40", "06:40:00", "06:41:00"),
        ("06:40:05", "06:40:05", "06:40:06"),
        ("2026-03-10", "06:25:00", "06:55:00"),
        ("06:00 to 06:30", "06:25:00", "06:30:00"),
        ("last 3 hours", "06:25:00", "06:55:00"),
    ],
)
def test_periods_are_understood_as_people_type_them(words, first, last):
    assert period_ns(words, FIRST, LAST) == (at(f"2026-03-10T{first}"), at(f"2026-03-10T{last}"))


@pytest.mark.parametrize("words", ["", "all", "everything"])
def test_all_is_no_period(words):
    assert period_ns(words, FIRST, LAST) is None


@pytest.mark.parametrize(
    "words",
    [
        "soon",
        "06:44 to 25:61",
        "last",
        "last 5 parsecs",
        "08:00 to 09:00",
        "06:38 to 06:38",
        "2026-13-45",
        "06:40 for ever",
    ],
)
def test_what_is_no_period_is_told_in_words(words):
    with pytest.raises(PeriodError, match=r"time|length|ends|outside"):
        period_ns(words, FIRST, LAST)


def test_a_kept_name_stands_for_its_period():
    assert period_ns("the rain", FIRST, LAST, names={"The rain": (FIRST + 1, LAST - 1)}) == (FIRST + 1, LAST - 1)


def test_times_are_those_of_the_zone_and_may_pass_midnight():
    zone = ZoneInfo("Europe/Paris")
    assert period_ns("07:38 to 07:44", FIRST, LAST, zone) == (at("2026-03-10T06:38:00"), at("2026-03-10T06:44:00"))
    night = at("2026-03-10T22:00:00"), at("2026-03-11T04:00:00")
    assert period_ns("23:30 to 00:30", *night) == (at("2026-03-10T23:30:00"), at("2026-03-11T00:30:00"))
    assert moment_ns("00:10", night[1]) == at("2026-03-11T00:10:00")


def test_lengths_of_time():
    assert [span_ns(t) for t in ("250 ms", "2s", "1.5 min", "3 hours", "2 days")] == [
        250_000_000,
        2 * 10**9,
        90 * 10**9,
        10800 * 10**9,
        172_800 * 10**9,
    ]
