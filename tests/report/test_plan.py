from hypothesis import given
from hypothesis import strategies as st

from yaffle.report.plan import ReportPlan

KEYS = st.lists(st.sampled_from("abcdefgh"), unique=True)


@given(usual=KEYS, order=KEYS)
def test_every_section_stands_once_and_those_named_stand_in_the_users_order(usual, order):
    arranged = ReportPlan(order=tuple(order)).arranged(usual)
    assert sorted(arranged) == sorted(usual)
    assert [key for key in arranged if key in order] == [key for key in order if key in usual]


def test_a_section_that_comes_later_stands_behind_its_usual_neighbour():
    assert ReportPlan(order=("answer", "method", "complaint")).arranged(
        ["complaint", "answer", "finding/1", "finding/2", "method"]
    ) == ["answer", "finding/1", "finding/2", "method", "complaint"]


def test_words_are_given_back_by_empty_or_usual_ones():
    plan = ReportPlan().with_words("answer", "  It was the database. ", "usual")
    assert plan.words == {"answer": "It was the database."}
    assert plan.with_words("answer", "usual", "usual").words == {} == plan.with_words("answer", " ", "usual").words


def test_a_plan_survives_the_case_and_nonsense_is_left_out():
    plan = ReportPlan("For the database team", ("a", "b"), ("b",), {"a": "x"}, True)
    assert ReportPlan.from_json(plan.as_json()) == plan
    assert ReportPlan.from_json(
        {"title": 5, "order": "x", "left_out": None, "words": [], "pinned_only": 1}
    ) == ReportPlan("5")
    assert ReportPlan.from_json(None) == ReportPlan()
