import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.oracles.plain_twins import plain_party_sums, plain_turns
from yaffle.exchanges.turns import empty_turns, find_turns
from yaffle.ledger import causes
from yaffle.ledger.selection import select
from yaffle.ledger.sums import by_party
from yaffle.transport.segments import empty_segments

PARTY_OF = [causes.PARTIES.index(party) for party, _ in causes.CHARGES]


@given(st.lists(st.integers(-5, 20), min_size=1, max_size=60), st.data())
def test_selecting_gives_what_sorting_would(values, data):
    place = data.draw(st.integers(0, len(values) - 1))
    array = np.array(values, np.int64)
    assert select(array, np.int64(0), len(values), place) == sorted(values)[place]
    assert sorted(array.tolist()) == sorted(values)


@given(st.lists(st.lists(st.integers(0, 10**12), min_size=causes.COUNT, max_size=causes.COUNT), max_size=20))
def test_sums_by_party_agree_with_the_plain_twin(rows):
    charges = np.array(rows, np.int64).reshape(-1, causes.COUNT)
    sums, heaviest = by_party(charges)
    assert sums.tolist() == plain_party_sums(rows, PARTY_OF)
    for row, columns in zip(rows, heaviest.tolist(), strict=True):
        for party, column in enumerate(columns):
            own = [value for value, p in zip(row, PARTY_OF, strict=True) if p == party]
            assert row[column] == max(own)


@given(st.lists(st.tuples(st.integers(0, 1), st.integers(0, 30), st.integers(1, 10)), max_size=40))
def test_turns_agree_with_the_plain_twin(segments):
    g = empty_segments(len(segments))
    for k, (side, first, size) in enumerate(segments):
        g[k]["d"], g[k]["s"], g[k]["n"], g[k]["kind"], g[k]["flags"] = side, first, size, 1, 16
    g["a"] = -1
    turns = empty_turns(len(segments) + 1)
    count = find_turns(g, turns)
    assert [(int(t["request_bytes"]), int(t["response_bytes"])) for t in turns[:count]] == plain_turns(segments)


def test_an_answer_to_what_the_capture_missed_belongs_to_no_exchange():
    g = empty_segments(4)
    rows = [
        (0, 0, 100, -1),
        (1, 0, 50, 100),
        (1, 50, 70, 260),
        (0, 260, 30, 120),
    ]  # The third answers bytes 100 to 260 that never passed.
    for k, (side, first, size, acknowledged) in enumerate(rows):
        g[k]["d"], g[k]["s"], g[k]["n"], g[k]["a"], g[k]["kind"], g[k]["flags"] = side, first, size, acknowledged, 1, 16
    turns = empty_turns(4)
    assert find_turns(g, turns) == 2
    assert [(int(t["request_bytes"]), int(t["response_bytes"])) for t in turns[:2]] == [(100, 50), (30, 0)]
