import pytest

from yaffle.inventory.places import Places, spoken
from yaffle.units import count, duration, moment, rate, share, size


@pytest.mark.parametrize(
    ("ns", "text"),
    [
        (0, "0"),
        (840_000, "840 µs"),
        (12_300_000, "12.3 ms"),
        (1_940_000_000, "1.94 s"),
        (999_600_000, "1.00 s"),
        (61_000_000_000, "61.0 s"),
        (370_000_000_000, "6 min 10 s"),
        (7_200_000_000_000, "2 h 00 min"),
        (28 * 86_400_000_000_000, "28 d"),
        (-60 * 3_600_000_000_000, "-2 d 12 h"),
        (None, "–"),
    ],
)
def test_durations_have_their_unit_and_three_digits(ns, text):
    assert duration(ns) == text


def test_other_figures_have_their_units():
    assert (size(3_200_000), rate(41_200_000), count(214380), share(0.031), share(0.5)) == (
        "3.20 MB",
        "41.2 Mbit/s",
        "214,380",
        "3.1 %",
        "50 %",
    )
    assert moment(1_773_124_663_170_212_746) == "06:37:43.170"


def test_sites_and_applications_come_from_names_else_from_addresses():
    places = Places(
        {
            "198.51.100.70": "desk-1.isle-of-wren.harbourline.example",
            "203.0.113.21": "ticket-database.quay-house.harbourline.example",
        }
    )
    assert places.site("198.51.100.70") == "Isle of Wren"
    assert places.application("203.0.113.21", 5432) == "ticket database"
    assert places.site("198.51.100.71") == "198.51.100.0/24"
    assert places.site("2001:db8::1") == "2001:db8::/64"
    assert places.application("203.0.113.9", 53) == "names"
    assert places.application("203.0.113.9", 7777) == "port 7777"
    assert spoken("quay-house") == "Quay House"
