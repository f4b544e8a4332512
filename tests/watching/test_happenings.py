"""What happens and has no measure: told once each, from what tests and nodes told."""

import pyarrow as pa
import pytest

from yaffle.history.layout import HOPS, PROBES, QUESTIONS
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.hops.hop_rows import moved_row
from yaffle.hops.visits import FlowKey
from yaffle.waiting.minutes import QUESTION
from yaffle.watching.book import Book
from yaffle.watching.happenings import DSCP, HOSTS, LEASES, LOOKUPS, PATH, ROAMS, Happenings
from yaffle.watching.watch import Watch

S = 10**9
NOW = 1_795_860_000 * S
FLOW = FlowKey("udp", "198.51.100.16", 1000, "203.0.113.23", 443)


@pytest.fixture
def scene(tmp_path):
    HistoryWriter(tmp_path / "history", settle=False).close()
    book = Book(tmp_path)

    def told(table, rows):
        writer = HistoryWriter(tmp_path / "history", settle=False)
        writer.append_rows(table, rows)
        writer.close()

    def seen(event, now_ns):
        """As a collector that was just begun sees it: all that is known is in the book."""
        looks = Happenings(History(tmp_path / "history"), book, [Watch(event, event=event)])
        events, held = looks.look(now_ns)
        with book.together():
            for name, value in held.items():
                book.hold(name, value)
        return [one.words for one in events]

    yield told, seen
    book.close()


def route(at_ns, *addresses):
    hops = [{"ttl": k + 1, "address": address} for k, address in enumerate(addresses)]
    return {"kind": "route", "target": "203.0.113.20", "at_ns": at_ns, "ok": True, "why": "", "hops": hops}


def test_another_path_is_told_once_and_a_silent_hop_is_none(scene):
    told, seen = scene
    told(PROBES, rows_of("to the centre", [route(NOW, "192.0.2.1", "192.0.2.2", "203.0.113.20")]))
    assert seen(PATH, NOW + S) == []
    told(PROBES, rows_of("to the centre", [route(NOW + 60 * S, "192.0.2.1", None, "203.0.113.20")]))
    assert seen(PATH, NOW + 61 * S) == []
    told(PROBES, rows_of("to the centre", [route(NOW + 120 * S, "192.0.2.1", "192.0.2.9", "203.0.113.20")]))
    (words,) = seen(PATH, NOW + 121 * S)
    assert words.startswith("another path to 203.0.113.20 from hop 2 on: 192.0.2.9")
    assert seen(PATH, NOW + 140 * S) == []


def test_flows_that_nodes_saw_go_another_way(scene):
    told, seen = scene
    told(HOPS, moved_row(NOW - 5 * S, FLOW, (1, 2), (1, 3)))
    assert seen(PATH, NOW) == []  # It was so before anybody looked.
    told(HOPS, moved_row(NOW + 5 * S, FLOW, (1, 3), (1, None, 2)))
    assert seen(PATH, NOW + 20 * S) == [
        "198.51.100.16:1000 to 203.0.113.23:443 goes by node 1, a silent hop, node 2 instead of node 1, node 3"
    ]
    assert seen(PATH, NOW + 40 * S) == []


def test_hosts_that_come_and_go(scene):
    told, seen = scene
    sweep = {"kind": "sweep", "target": "192.0.2.0/28", "ok": True, "why": ""}
    assert seen(HOSTS, NOW) == []
    new = [{"address": f"192.0.2.{k}"} for k in range(1, 9)]
    told(
        PROBES, rows_of("desks", [sweep | {"at_ns": NOW + 10 * S, "new": new, "vanished": [{"address": "192.0.2.14"}]}])
    )
    came, went = seen(HOSTS, NOW + 20 * S)
    assert came == "new on 192.0.2.0/28: 192.0.2.1, 192.0.2.2, 192.0.2.3, 192.0.2.4, 192.0.2.5 and 3 more"
    assert went == "gone from 192.0.2.0/28: 192.0.2.14"
    assert seen(HOSTS, NOW + 40 * S) == []


def voice(at_ns, **marks):
    return {
        "kind": "voice", "target": "203.0.113.20", "at_ns": at_ns, "ok": True, "why": "", "direction": "there",
        "arrived_dscp": {name.removeprefix("d"): packets for name, packets in marks.items()},
    }  # fmt: skip


def test_voice_that_arrives_with_another_dscp_is_told_once(scene):
    told, seen = scene
    told(PROBES, rows_of("call", [voice(NOW, d46=250)]))
    assert seen(DSCP, NOW + S) == []
    told(PROBES, rows_of("call", [voice(NOW + 60 * S, d46=240, d0=10)]))
    assert seen(DSCP, NOW + 61 * S) == []
    told(PROBES, rows_of("call", [voice(NOW + 120 * S, d0=250)]))
    (words,) = seen(DSCP, NOW + 121 * S)
    assert words.startswith("voice to 203.0.113.20 arrives as ") and "instead of" in words and "EF" in words
    assert seen(DSCP, NOW + 140 * S) == []


def questions(at_ns, protocol, kind, outcomes, server="203.0.113.53"):
    """One of each outcome, of clients of their own."""
    rows = [
        {
            "time_ns": at_ns + k * S, "capture": "desk", "protocol": protocol, "client": f"198.51.100.{k}",
            "server": server, "name": "x", "kind": kind, "outcome": outcome, "latency_ns": 1, "tries": 1,
            "failed": outcome not in ("NOERROR", "OFFER"),
        }
        for k, outcome in enumerate(outcomes)
    ]  # fmt: skip
    return pa.Table.from_pylist(rows, schema=QUESTION)


def test_lookups_that_fail_are_told_once_until_they_were_well(scene):
    told, seen = scene
    told(QUESTIONS, questions(NOW, "dns", "A", ["NOERROR"] * 15 + ["SERVFAIL"] * 5))
    assert seen(LOOKUPS, NOW + 30 * S) == []
    told(QUESTIONS, questions(NOW + 400 * S, "dns", "A", ["NOERROR"] * 5 + ["SERVFAIL"] * 8 + ["unanswered"] * 3))
    (words,) = seen(LOOKUPS, NOW + 430 * S)
    assert words == (
        "11 of 16 look-ups at 203.0.113.53 failed within 5 min, of 16 clients: SERVFAIL 8, unanswered 3"
    )  # fmt: skip
    assert seen(LOOKUPS, NOW + 445 * S) == [] and seen(LOOKUPS, NOW + 2000 * S) == []
    told(QUESTIONS, questions(NOW + 2100 * S, "dns", "A", ["NOERROR"] * 20))
    assert seen(LOOKUPS, NOW + 2130 * S) == []
    told(QUESTIONS, questions(NOW + 2800 * S, "dns", "A", ["SERVFAIL"] * 12))
    assert len(seen(LOOKUPS, NOW + 2830 * S)) == 1


def test_a_network_without_addresses_is_told(scene):
    told, seen = scene
    told(QUESTIONS, questions(NOW, "dhcp", "discover", ["OFFER", "unanswered"]))
    assert seen(LEASES, NOW + 30 * S) == []
    told(QUESTIONS, questions(NOW + 400 * S, "dhcp", "discover", ["OFFER", *["unanswered"] * 4]))
    (words,) = seen(LEASES, NOW + 430 * S)
    assert words.startswith("4 of 5 hosts at desk got no address within 5 min (unanswered 4)")
    told(QUESTIONS, questions(NOW + 500 * S, "dhcp", "request", ["unanswered"] * 9))
    assert seen(LEASES, NOW + 520 * S) == []


def move(at_ns, gap_ns):
    return pa.Table.from_pylist(
        [
            {
                "time_ns": at_ns, "capture": "pier", "protocol": "802.11", "client": "02:00:5e:10:00:07",
                "server": "02:00:5e:10:00:02", "name": "02:00:5e:10:00:01", "kind": "reassociation",
                "outcome": "moved", "latency_ns": gap_ns, "tries": 1, "failed": False,
            }
        ],
        schema=QUESTION,
    )  # fmt: skip


def test_a_station_that_moves_is_told_once_each_time(scene):
    told, seen = scene
    told(QUESTIONS, move(NOW, 84_000_000))
    assert seen(ROAMS, NOW + S) == []
    told(QUESTIONS, move(NOW + 60 * S, 84_000_000))
    told(QUESTIONS, move(NOW + 90 * S, -1))
    first, second = seen(ROAMS, NOW + 120 * S)
    assert first == (
        "02:00:5e:10:00:07 moved from 02:00:5e:10:00:01 to 02:00:5e:10:00:02 by reassociation, without data for 84.0 ms"
    )
    assert "without" not in second and seen(ROAMS, NOW + 140 * S) == []
