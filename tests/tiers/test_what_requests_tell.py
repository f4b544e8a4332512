"""Kinds, values and identifiers of requests."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.protocols import postgres
from yaffle.protocols.message import Run
from yaffle.texts import Texts
from yaffle.tiers.habits import BINS, gap_bin
from yaffle.tiers.identifiers import TOKENS, _read
from yaffle.tiers.kinds import PLACES, Asked, all_at_once, kinds_of, one_by_one, values_in
from yaffle.tiers.watch import Watch


def tokens_of(text):
    octets = np.frombuffer(text.encode(), np.uint8)
    found = np.zeros(TOKENS, np.uint64)
    _read(octets, 0, octets.size, found)
    return set(found[found > 0].tolist())


def hash_of(text):
    """The hash by its definition."""
    mixed = 0xCBF29CE484222325
    for octet in text.encode():
        mixed = (mixed ^ octet) * 0x100000001B3 % (1 << 64)
    return mixed


def test_identifiers_are_the_long_runs_with_figures_and_what_dashes_part():
    trace = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"
    found = tokens_of(f"GET / HTTP/1.1\r\ntraceparent: {trace}\r\nUser-Agent: something-without-figures\r\n\r\n")
    assert {hash_of(trace), hash_of("4bf92f3577b34da6a3ce929d0e0e4736"), hash_of("00f067aa0ba902b7")} <= found
    assert hash_of("something-without-figures") not in found


def test_the_same_trace_is_found_with_another_span():
    one = tokens_of("traceparent: 00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01\r\n")
    other = tokens_of("/* traceparent='00-4bf92f3577b34da6a3ce929d0e0e4736-b7ad6b7169203331-01' */")
    assert one & other == {hash_of("4bf92f3577b34da6a3ce929d0e0e4736")}


def test_no_more_identifiers_than_there_is_room_for():
    assert len(tokens_of(" ".join(f"abcdefghijkl{k:03}" for k in range(50)))) == TOKENS


def asked_by(protocols, labels, beside):
    """What was asked: a text that is empty is no label."""
    names = sorted(set(protocols))
    texts = [label for label in labels if label]
    place = np.cumsum([bool(label) for label in labels]) - 1
    return Asked(
        names,
        np.array([names.index(one) for one in protocols], np.int64),
        Texts.of(texts or ["-"]),
        np.where([bool(label) for label in labels], place, -1).astype(np.int64),
        beside,
    )


def test_values_are_taken_by_place_and_leave_the_kind():
    assert values_in("GET /search?id=17&by=name") == ["17", "name"]
    labels = ["GET /search?id=17", "GET /search?id=21", "GET basket:17", "select * from items_of($1)"]
    kinds, values = kinds_of(asked_by(["http", "http", "redis", "postgresql"], labels, {3: ("17",)}), Watch())
    assert kinds[0] == kinds[1] != kinds[2]
    assert values[0, 0] == values[2, 0] == values[3, 0] != values[1, 0]


LABELS = st.lists(
    st.tuples(
        st.sampled_from(["http", "postgresql", "redis", "ldap"]),
        st.one_of(
            st.text("ab=&#' 07$.-(),\"\\\x1c\n", max_size=24),
            st.text(max_size=12),
            st.from_regex(r"GET /a\d+\?k='\d+'"),
        ),
    ),
    max_size=30,
)


@given(LABELS, st.dictionaries(st.integers(0, 29), st.tuples(st.text(max_size=4), st.text(max_size=4)), max_size=3))
def test_many_labels_are_read_as_one_by_one(asked, beside):
    protocols, labels = [protocol for protocol, _ in asked], [label for _, label in asked]
    every = asked_by(protocols, labels, {row: held for row, held in beside.items() if row < len(labels)})
    found = [(np.zeros(len(labels), np.int64), np.zeros((len(labels), PLACES), np.uint64)) for _ in range(2)]
    one_by_one(every, range(len(labels)), *found[0])
    all_at_once(every, *found[1])
    for one, other in zip(*found, strict=True):
        np.testing.assert_array_equal(one, other)


@pytest.mark.parametrize("gap", [0, 999, 1000, 1001, 1500, 10**6, 10**9, 10**12])
def test_bins_of_gaps_are_two_to_a_doubling(gap):
    place = gap_bin(gap)
    assert 0 <= place < BINS
    if 0 < place < BINS - 1:
        assert 1000 * 2 ** ((place - 1) / 2) <= gap <= 1000 * 2 ** (place / 2)


def message(kind, body):
    return kind + (len(body) + 4).to_bytes(4, "big") + body


def bind(name, values, formats=(1,)):
    told = b"".join(
        len(v).to_bytes(4, "big", signed=True) + v if v is not None else b"\xff\xff\xff\xff" for v in values
    )
    head = b"\0" + name + b"\0" + len(formats).to_bytes(2, "big") + b"".join(f.to_bytes(2, "big") for f in formats)
    return message(b"B", head + len(values).to_bytes(2, "big") + told + b"\0\0")


SYNC, DONE = message(b"S", b""), message(b"2", b"") + message(b"n", b"") + message(b"Z", b"I")


def test_a_prepared_statement_tells_what_it_is_run_with_in_mid_stream_too():
    asked = bind(b"_s1", [(17).to_bytes(2, "big"), None, (-3).to_bytes(8, "big", signed=True)]) + SYNC
    asked += bind(b"_s2", [b"oslo"], formats=()) + SYNC
    assert postgres.looks_like(asked[:64], DONE[:64])
    found = postgres.decode([Run(0, asked)], [Run(0, DONE * 2)])
    assert [(p.label, p.values) for p in found.pairs] == [("prepared _s1", ("17", "-3")), ("prepared _s2", ("oslo",))]


@pytest.mark.parametrize("cut", range(5, 60, 3))
def test_a_broken_bind_tells_what_is_there(cut):
    asked = bind(b"_s1", [(17).to_bytes(2, "big"), b"x" * 8])[:cut] + SYNC
    for pair in postgres.decode([Run(0, asked)], [Run(0, DONE)]).pairs:
        assert len(pair.values) <= 3
