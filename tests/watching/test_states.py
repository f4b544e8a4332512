"""The states of what is watched: every transition of the table, and what can never follow what."""

import itertools

from hypothesis import given
from hypothesis import strategies as st

from yaffle.watching.states import (
    ALERTS,
    BAD,
    BETWEEN,
    CLEARING,
    FINDINGS,
    FINE,
    GOOD,
    NOTHING,
    PENDING,
    RAISED,
    STATES,
    TABLE,
    UNKNOWN,
    UNKNOWN_RAISED,
    Standing,
    after,
    change,
)  # fmt: skip

S = 10**9
FOR, CLEAR = 3 * S, 2 * S

# (state, finding): the state at once, the state when it has lasted, what is told of it then.
EXPECTED = {
    (FINE, BAD): (PENDING, RAISED, "raised"),
    (FINE, GOOD): (FINE, FINE, ""),
    (FINE, BETWEEN): (FINE, FINE, ""),
    (FINE, NOTHING): (UNKNOWN, UNKNOWN, "unknown"),
    (PENDING, BAD): (PENDING, RAISED, "raised"),
    (PENDING, GOOD): (FINE, FINE, ""),
    (PENDING, BETWEEN): (FINE, FINE, ""),
    (PENDING, NOTHING): (UNKNOWN, UNKNOWN, "unknown"),
    (RAISED, BAD): (RAISED, RAISED, ""),
    (RAISED, GOOD): (CLEARING, FINE, "cleared"),
    (RAISED, BETWEEN): (RAISED, RAISED, ""),
    (RAISED, NOTHING): (UNKNOWN_RAISED, UNKNOWN_RAISED, "unknown"),
    (CLEARING, BAD): (RAISED, RAISED, ""),
    (CLEARING, GOOD): (CLEARING, FINE, "cleared"),
    (CLEARING, BETWEEN): (RAISED, RAISED, ""),
    (CLEARING, NOTHING): (UNKNOWN_RAISED, UNKNOWN_RAISED, "unknown"),
    (UNKNOWN, BAD): (PENDING, RAISED, "raised"),
    (UNKNOWN, GOOD): (FINE, FINE, ""),
    (UNKNOWN, BETWEEN): (FINE, FINE, ""),
    (UNKNOWN, NOTHING): (UNKNOWN, UNKNOWN, ""),
    (UNKNOWN_RAISED, BAD): (RAISED, RAISED, ""),
    (UNKNOWN_RAISED, GOOD): (CLEARING, FINE, "cleared"),
    (UNKNOWN_RAISED, BETWEEN): (RAISED, RAISED, ""),
    (UNKNOWN_RAISED, NOTHING): (UNKNOWN_RAISED, UNKNOWN_RAISED, ""),
}


def test_every_transition():
    assert set(EXPECTED) == set(TABLE) == set(itertools.product(STATES, FINDINGS))
    for (state, finding), (soon, once, told) in EXPECTED.items():
        before = Standing(state, 0, 0)
        first = after(before, finding, S, FOR, CLEAR)
        assert first.state == soon, (state, finding)
        late = first
        for k in range(2, 12):
            late = after(late, finding, k * S, FOR, CLEAR)
        assert late.state == once, (state, finding)
        at_once = after(before, finding, S, 0, 0)
        assert at_once.state == once and change(before, at_once) == told, (state, finding)


def test_what_lasts_counts_from_its_first_evaluation():
    one = Standing(FINE)
    found = []
    for k, finding in enumerate([BAD, BAD, GOOD, BAD, BAD, BAD, BAD, GOOD, BAD, GOOD, GOOD, GOOD]):
        one = after(one, finding, k * S, FOR, CLEAR)
        found.append(one.state)
    assert found == [
        PENDING,
        PENDING,
        FINE,
        PENDING,
        PENDING,
        PENDING,
        RAISED,
        CLEARING,
        RAISED,
        CLEARING,
        CLEARING,
        FINE,
    ]


@given(
    st.lists(st.tuples(st.sampled_from(FINDINGS), st.integers(0, 5)), max_size=60), st.integers(0, 4), st.integers(0, 4)
)
def test_never_two_raised_without_a_cleared_between_and_never_fine_unmeasured(steps, for_s, clear_s):
    one, now, open_alert = Standing(), 0, False
    for finding, pause in steps:
        now += pause * S
        before, one = one, after(one, finding, now, for_s * S, clear_s * S)
        told = change(before, one)
        if told == "raised":
            assert not open_alert and finding == BAD
            open_alert = True
        if told == "cleared":
            assert open_alert and finding == GOOD
            open_alert = False
        assert open_alert == (one.state in ALERTS)
        if finding == NOTHING:
            assert one.told == UNKNOWN
