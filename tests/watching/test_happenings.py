"""What happens and has no measure: told once each, from what tests and nodes told."""

import pytest

from yaffle.history.layout import HOPS, PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.hops.hop_rows import moved_row
from yaffle.hops.visits import FlowKey
from yaffle.watching.book import Book
from yaffle.watching.happenings import HOSTS, PATH, Happenings
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


def test_another_way_is_told_once_and_a_silent_hop_is_none(scene):
    told, seen = scene
    told(PROBES, rows_of("to the centre", [route(NOW, "192.0.2.1", "192.0.2.2", "203.0.113.20")]))
    assert seen(PATH, NOW + S) == []
    told(PROBES, rows_of("to the centre", [route(NOW + 60 * S, "192.0.2.1", None, "203.0.113.20")]))
    assert seen(PATH, NOW + 61 * S) == []
    told(PROBES, rows_of("to the centre", [route(NOW + 120 * S, "192.0.2.1", "192.0.2.9", "203.0.113.20")]))
    (words,) = seen(PATH, NOW + 121 * S)
    assert words.startswith("another way to 203.0.113.20 from hop 2 on: 192.0.2.9")
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
