"""What the user keeps: written and read again, taken back and done again; complaints rank findings; preferences."""

import json
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.findings.finding import Finding
from yaffle.inventory.places import Places, Rule
from yaffle.session import preferences
from yaffle.session.complaints import fit, in_words, ranked
from yaffle.session.kept import Complaint, Kept, NamedPeriod
from yaffle.session.measures import DEFAULT, Measure
from yaffle.session.navigation import Navigation
from yaffle.session.preferences import Preferences

S = 10**9
FULL = Kept(
    "notes", ("a/b/c",), {"x/y/z": "known"}, {"a/b/c": "told them"},
    (Complaint("Northpoint", "ticket desk", "slow!", 1, 2),), (NamedPeriod("rain", 3, 4),),
    (Measure("mine", "concurrent waits", "wait_ms > 5", "stacked"),), 1e8, (Rule("crew lists", "203.0.113.9", 8080),),
)  # fmt: skip


def test_everything_kept_is_read_again():
    assert Kept.from_json(json.loads(json.dumps(FULL.as_json()))) == FULL
    assert Kept.from_json({}) == Kept()


_SCRAP = st.none() | st.booleans() | st.integers() | st.text(max_size=5)
_ENTRIES = st.lists(st.dictionaries(st.text(max_size=5), _SCRAP, max_size=3), max_size=3)


@given(st.dictionaries(st.sampled_from(list(FULL.as_json())), _SCRAP | st.lists(_SCRAP, max_size=3) | _ENTRIES))
def test_whatever_stands_in_a_memory_is_survived(data):
    try:
        kept = Kept.from_json(data)
    except TypeError:
        pytest.fail("a broken memory must not stop a case from opening")
    assert kept.measures


def test_changes_are_taken_back_and_typing_is_one_step():
    history = Navigation(Kept())
    for text in ("n", "no", "not"):
        history.go(replace(history.now, notes=text), "notes")
    history.go(history.now.pin("a", True), "pin a")
    assert history.back_words == "pin a"
    assert history.back() and history.now.pinned == () and history.now.notes == "not"
    assert history.back() and history.now == Kept()
    assert not history.back()
    assert history.forward() and history.now.notes == "not"
    history.go(history.now.dismiss("b", "known"), "dismiss b")
    assert not history.can_go_forward
    assert history.now.dismiss("b", None).dismissed == {}
    assert history.now.remark("b", "  ").remarks == {}


def finding(subject, first, last, lost, site=""):
    return Finding(
        "network",
        "loss",
        "critical",
        subject,
        f"The path of {subject} loses packets",
        "",
        0.9,
        first * S,
        last * S,
        lost * S,
        3,
        site,
    )


def test_a_complaint_ranks_what_explains_it_first():
    here, there, later = (
        finding("Isle of Wren", 100, 200, 5),
        finding("Northpoint", 100, 200, 50),
        finding("Isle of Wren", 900, 950, 500),
    )
    complaint = Complaint("desk at Isle of Wren", "", "loses everything", 110 * S, 150 * S)
    order = ranked([there, later, here], (complaint,))
    assert [f for f, _ in order] == [here, there, later]
    assert in_words(order[0][1]) == "explains a complaint well"
    assert fit(complaint, later) == 0
    assert [f for f, _ in ranked([there, later, here], ())] == [later, there, here]


def test_names_of_applications_follow_the_users_rules():
    places = Places(
        {"203.0.113.9": "crew.quay-house.harbourline.example"},
        (Rule("boarding", port=8080), Rule("lists", "203.0.113.9")),
    )
    assert [places.application("203.0.113.9", p) for p in (8080, 80)] == ["boarding", "lists"]
    assert places.application("203.0.113.7", 8080) == "boarding"
    assert places.told("203.0.113.7", 8080) == "named by you"
    shop = Places({}, (Rule("shop", host="shop.example"),), {"203.0.113.8": "shop.example"})
    assert [
        shop.application("203.0.113.7", 443, "shop.example"),
        shop.application("203.0.113.8", 443),
        shop.application("203.0.113.7", 443),
    ] == ["shop", "shop", "web"]
    assert places.told("203.0.113.7", 5432).startswith("registered")
    assert places.told("203.0.113.7", 49152).startswith("not known")


def test_preferences_survive_and_nonsense_falls_back(tmp_path, monkeypatch):
    monkeypatch.setenv("YAFFLE_CONFIG_DIR", str(tmp_path))
    assert preferences.load() == Preferences()
    mine = (
        Preferences("dark", "Europe/Oslo", 12, True, 5.0)
        .with_recent("/a")
        .with_recent("/b")
        .with_recent("/a")
        .with_filter("slow", "wait_ms > 9")
    )
    preferences.save(mine)
    assert preferences.load() == mine
    assert mine.recent == ("/a", "/b")
    assert mine.with_filter("slow", "").filters == ()
    preferences.file_of_preferences().write_text(
        '{"theme": 5, "zone": [], "font_points": 900, "silence_ms": -1, "recent": 3, "filters": [1]}'
    )
    assert preferences.load() == Preferences()
    preferences.file_of_preferences().write_text("[")
    assert preferences.load() == Preferences()
    assert Preferences(zone="Nowhere/At all").tzinfo is not None


def test_measures_that_make_no_sense_are_left_out():
    assert Measure.from_json({"counted": "unicorns"}) is None
    assert Measure.from_json({"counted": "volume", "mark": "crayon"}) == Measure("volume", "volume")
    assert Kept.from_json({"measures": [{"counted": "unicorns"}, 5]}).measures == DEFAULT
