"""Captures of further real servers: what their clients asked is found, with how it was answered, by both kinds of
path.
"""

import json
from pathlib import Path

import pytest

from yaffle.analysis import analyse
from yaffle.report.document import document

_DATA = Path(__file__).parents[1] / "data" / "services"
_ROUND_TRIP_MS = 10  # Of the line; the relay between adds a little.


def load(name):
    """(document, what the clients did)."""
    found = document(analyse([_DATA / f"{name}.pcap.gz"]), literals=True)
    for connection in found["connections"]:
        assert sum(c["ms"] for c in connection["charges"]) == pytest.approx(connection["wait_ms"], abs=0.01)
    for x in found["exchanges"]:
        assert sum(x[f"{p}_ms"] for p in ("client", "network", "server", "unexplained")) == pytest.approx(
            x["wait_ms"], abs=0.01
        )
    return found, json.loads((_DATA / f"{name}.json").read_text())


def said(exchanges):
    return [(x["label"], x["outcome"]) for x in exchanges]


@pytest.mark.parametrize(
    ("name", "protocol"),
    [
        ("web2", "http2"),
        ("directory", "ldap"),
        ("directory-sealed", "ldap"),
        ("pages", "http"),
        ("statements", "postgresql"),
        ("tickets", "mysql"),
    ],
)
def test_what_was_asked_over_tcp_is_found_whole_and_in_order(name, protocol):
    found, truth = load(name)
    assert said(found["exchanges"]) == [(t["label"], t["outcome"]) for t in truth]
    assert {x["protocol"] for x in found["exchanges"]} == {protocol}
    assert all(x["wait_ms"] >= _ROUND_TRIP_MS for x in found["exchanges"])


def test_streams_that_are_answered_side_by_side_keep_their_own_sizes():
    found, _ = load("web2")
    sizes = {x["label"]: x["response_bytes"] for x in found["exchanges"]}
    assert 9000 < sizes["GET /style.css"] < 9100
    assert 25_000 < sizes["GET /berths.png"] < 25_100
    assert sizes["GET /missing.js"] < 400


def test_a_statement_that_sleeps_is_the_servers_time():
    found, _ = load("tickets")
    slow = next(x for x in found["exchanges"] if "sleep" in x["label"])
    assert 195 < slow["server_ms"] < 215


def test_files_are_told_by_the_name_under_which_they_were_opened():
    found, truth = load("files")
    exchanges = said(found["exchanges"])
    assert [pair for pair in exchanges if pair in [(t["label"], t["outcome"]) for t in truth]] == [
        (t["label"], t["outcome"]) for t in truth
    ]
    assert ("CLOSE sailings.txt", "STATUS_SUCCESS") in exchanges
    read = next(x for x in found["exchanges"] if x["label"] == "READ sailings.txt")
    assert 3800 < read["response_bytes"] < 3900


def test_sealed_files_are_told_by_turns():
    found, _ = load("files-sealed")
    sealed = [x for x in found["exchanges"] if x["label"] == "encrypted"]
    assert len(sealed) >= 10
    assert all(x["outcome"] == "answered" for x in sealed)
    assert said(found["exchanges"])[0] == ("NEGOTIATE", "STATUS_SUCCESS")


@pytest.mark.parametrize(
    ("name", "protocol"), [("counters", "snmp"), ("clocks", "ntp"), ("clocks", "icmp"), ("quick", "quic")]
)
def test_what_was_asked_in_single_packets_is_found(name, protocol):
    found, truth = load(name)
    rows = [a for a in found["answers"] if a["protocol"] == protocol and a["outcome"] != "report"]
    wanted = [t for t in truth if t["protocol"] == protocol for _ in range(t.get("count", 1))]
    assert [a["outcome"] for a in rows] == [t["outcome"] for t in wanted]
    for a, t in zip(rows, wanted, strict=True):
        assert t["label"] in (f"{a['kind']} {a['name']}".strip(), a["name"], a["kind"])
        assert a["tries"] == t.get("tries", 1)
        assert (
            a["latency_ms"] is None or _ROUND_TRIP_MS <= a["latency_ms"] < 10 * _ROUND_TRIP_MS
        )  # The machine that made them stood still at times.


def test_commands_are_found_with_the_one_that_fails():
    found, truth = load("keys")
    assert said(found["exchanges"])[1:] == [
        (t["label"], t["outcome"]) for t in truth
    ]  # The client asks for its manual first.


def test_look_ups_are_found_with_their_codes_and_tries_over_udp_and_tcp():
    found, truth = load("names-own")
    mine = [(a["kind"], a["outcome"], a["name"], a["tries"]) for a in found["lookups"]]
    assert mine == [(t["label"], t["outcome"], t["name"], t["tries"]) for t in truth]


@pytest.mark.parametrize("name", ["leases-own", "sign-ons"])
def test_leases_and_sign_ons_are_found_with_their_answers(name):
    found, truth = load(name)
    assert [(a["kind"], a["outcome"]) for a in found["lookups"] if a["protocol"] == truth[0]["protocol"]] == [
        (t["label"], t["outcome"]) for t in truth
    ]
    assert all(a["latency_ms"] is not None and a["latency_ms"] >= _ROUND_TRIP_MS for a in found["lookups"])


def test_leases_of_ipv6_are_found_with_the_address_given():
    found, truth = load("leases6")
    assert [(a["kind"], a["outcome"]) for a in found["lookups"]] == [(t["label"], t["outcome"]) for t in truth]
    assert {a["name"] for a in found["lookups"]} == {"2001:db8:51::1000"}


def test_quic_tells_its_set_up_and_its_round_trips_by_the_spin_bit():
    found, _ = load("quick")
    for a in found["answers"]:
        assert a["set_up_ms"] > a["latency_ms"]
        assert _ROUND_TRIP_MS <= a["round_trip_ms"] < 1.6 * _ROUND_TRIP_MS
        assert a["round_trips"] >= 6
