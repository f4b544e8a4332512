"""Servers whose own requests no point saw: told by times alone, and not where nothing tells."""

import gzip
from struct import Struct

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.tiers.plain_under_way import under_way
from tests.tiers.truth import DATA
from yaffle.analysis import analyse
from yaffle.errors import Cancelled
from yaffle.findings.held_up import spent_by, split_in_words
from yaffle.report.document import document
from yaffle.tiers.unseen import _gained, unseen_legs

_USERS, _WEB, _APP, _BASE, _OTHER = range(5)
MS = 1_000_000


def _world(rng, requests, works_for_web):
    """Users ask the web server; a host asks a database, inside these requests or at any time."""
    begin = np.cumsum(rng.exponential(60 * MS, requests)).astype(np.int64)
    lasting = rng.uniform(20, 60, requests) * MS
    end = (begin + lasting).astype(np.int64)
    inside = (begin + lasting * rng.uniform(0.1, 0.4, requests)).astype(np.int64)
    anywhere = np.sort(rng.integers(begin[0], end[-1], requests))
    sent = inside if works_for_web else anywhere
    arrived = sent + (lasting * rng.uniform(0.1, 0.5, requests)).astype(np.int64)
    client = np.repeat([_USERS, _APP], requests)
    server = np.repeat([_WEB, _BASE], requests)
    times = [np.concatenate(pair) for pair in ((begin, sent), (end, arrived))]
    return client, server, times[0], times[1], times[0], times[1]


@given(st.integers(0, 10**6), st.booleans())
@settings(max_examples=30, deadline=None)
def test_a_host_that_asks_inside_anothers_requests_works_for_it(seed, works_for_web):
    found = unseen_legs(*_world(np.random.default_rng(seed), 300, works_for_web))
    assert [(leg.host, leg.fronts) for leg in found] == ([(_APP, (_WEB,))] if works_for_web else [])


@given(
    st.lists(st.tuples(st.integers(0, 60), st.integers(0, 30)), max_size=12),
    st.lists(st.integers(-20, 100), min_size=1, max_size=8),
    st.lists(st.integers(-40, 40), min_size=1, max_size=4),
)
def test_what_is_gained_over_moments_nearby_is_what_the_definition_says(spans, moments, steps):
    begins, ends = [begin for begin, _ in spans], [begin + lasting for begin, lasting in spans]
    at, gained = sorted(moments), np.empty(len(moments))
    columns = [np.array(sorted(column), np.int64) for column in (begins, ends, at)]
    _gained(*columns, np.array(steps, np.int64), gained)
    for moment, found in zip(at, gained.tolist(), strict=True):
        nearby = [under_way(begins, ends, moment + step) for step in steps]
        assert found == pytest.approx(under_way(begins, ends, moment) - sum(nearby) / len(steps))


def test_a_host_that_is_asked_itself_hides_no_leg():
    columns = _world(np.random.default_rng(1), 300, True)
    asked = [
        np.append(column, value) for column, value in zip(columns, (_USERS, _APP, 0, 5 * MS, 0, 5 * MS), strict=True)
    ]
    assert unseen_legs(*asked) == []


def _without_the_middle(path, target):
    """Of a capture only users with the web servers, and all to and from the database."""
    octets, record = gzip.decompress(path.read_bytes()), Struct("<IIII")
    kept, at = [octets[:24]], 24
    while at + 16 <= len(octets):
        size = record.unpack_from(octets, at)[2]
        packet = octets[at : at + 16 + size]
        ports = Struct("!HH").unpack_from(packet, 16 + 14 + 20)
        if 5432 in ports or 80 in ports:
            kept.append(packet)
        at += 16 + size
    target.write_bytes(b"".join(kept))
    return target


@pytest.fixture(scope="module")
def analysis(tmp_path_factory):
    folder = tmp_path_factory.mktemp("front-database")
    return analyse([_without_the_middle(DATA / "alone.pcap.gz", folder / "front-database.pcap")])


def test_what_the_database_took_is_told_though_the_application_was_not_seen(analysis):
    whole = analyse([DATA / "alone.pcap.gz"])
    parts = [_by_port(one) for one in (analysis, whole)]
    assert parts[0][5432] == pytest.approx(parts[1][5432], rel=0.05)
    assert set(parts[0]) == {5432}
    assert not analysis.behind.seen.any()


def test_what_is_said_to_be_the_servers_own_may_be_that_of_a_server_not_seen(analysis):
    flows, account = analysis.capture.conversations, analysis.account
    port = flows.b_port[account.flow[account.of_exchange("connection")]]
    spent = spent_by(analysis, np.flatnonzero(port == 80))
    assert spent.unseen
    assert "with a server behind that was not seen" in split_in_words(spent, lambda address, port: address, 9)
    verdicts = [c["verdict"]["sentence"] for c in document(analysis)["connections"]]
    assert any("with a server behind that was not seen" in sentence for sentence in verdicts)


@pytest.mark.parametrize("asked", [0, 1, 3])
def test_it_can_be_stopped_whatever_it_is_at(asked):
    times = []

    def progress(_share, words):
        times.extend([words] * (words == "looking behind the servers"))
        return len(times) <= asked

    with pytest.raises(Cancelled):
        analyse([DATA / "alone.pcap.gz"], progress)


def _by_port(analysis):
    """ms of the web servers' time at each port behind them."""
    flows, account = analysis.capture.conversations, analysis.account
    port = flows.b_port[account.flow[account.of_exchange("connection")]]
    found = {}
    for place, ns in spent_by(analysis, np.flatnonzero(port == 80)).by_place.items():
        found[place.port] = found.get(place.port, 0.0) + ns / MS
    return found


def test_it_is_said_that_calls_are_missing_and_where_a_capture_would_tell(analysis):
    told = document(analysis)
    notes = [note for source in told["sources"] for note in source["notes"]]
    assert any("nobody is seen asking" in note and "a capture at" in note for note in notes)
    split = [x for x in told["exchanges"] if "server_split" in x]
    assert split
    assert all(x["behind"] == [] for x in split)  # What lies behind a server that was not seen is nobody's call here.
    for x in split:
        assert sum(part["ms"] for part in x["server_split"]) == pytest.approx(_server_ms(x), abs=0.01)


def _server_ms(exchange):
    return exchange["server_ms"]
