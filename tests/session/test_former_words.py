"""Filters, measures and keys of former versions are understood; what is written today stays as it is."""

import pytest

from yaffle.session import filtering
from yaffle.session.former_words import MEASURES, present_filter, present_key, present_measure
from yaffle.session.measures import COUNTED, Measure


@pytest.mark.parametrize(
    ("former", "present"),
    [
        ("repeats > 3", "retransmissions > 3"),
        ("copies = 0 and Marking = 'EF'", "duplicates = 0 and dscp = 'EF'"),
        ("label = 'repeats' or repeats > 0", "label = 'repeats' or retransmissions > 0"),
        ("label like 'it''s copies%'", "label like 'it''s copies%'"),
        ("my_repeats > 1", "my_repeats > 1"),
        ("wait_ms > 500", "wait_ms > 500"),
        ("", ""),
    ],
)
def test_columns_of_former_filters(former, present):
    assert present_filter(former) == present
    assert present_filter(present) == present


def test_no_column_of_today_has_a_former_name():
    for name, _ in filtering.COLUMNS:
        assert present_filter(name) == name


def test_former_measures_are_today_s():
    for former, present in MEASURES.items():
        assert present_measure(former) == present
        assert present in COUNTED
    measure = Measure.from_json(
        {"name": "sent again", "counted": "sent again", "filter": "repeats > 0", "mark": "line"}
    )
    assert measure == Measure("retransmissions", "retransmissions", "retransmissions > 0", "line")
    assert Measure.from_json({"name": "mine", "counted": "worst wait"}) == Measure("mine", "max wait")


def test_keys_of_findings():
    assert present_key("server/name/names for Saltmarsh") == "server/name/DNS for Saltmarsh"
    assert present_key("network/loss/tickets for Saltmarsh") == "network/loss/tickets for Saltmarsh"
