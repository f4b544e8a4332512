"""A connection that is opened for a call: opening it and signing on are a part of the call, what the caller does in
between is not.
"""

import pytest

from tests.frames import ACK, PSH, Talk, pcap
from yaffle.analysis import analyse
from yaffle.report.document import document

USER, WEB, BASE = "198.51.100.9", "203.0.113.1", "203.0.113.3"


def message(kind, body):
    return kind + (len(body) + 4).to_bytes(4, "big") + body


OPENING = message(b"", (196_608).to_bytes(4, "big") + b"user\0keeper\0\0")
READY = message(b"Z", b"I")
SIGNED_ON = message(b"R", bytes(4)) + READY
ASKED = message(b"Q", b"select 1\0")
TOLD = message(b"C", b"SELECT 1\0") + READY


def request(k, signed_on_ms, pause_ms, kept):
    """A page that asks a database for one statement, over a connection of its own or one that was opened long ago."""
    at = 500.0 * k + 200
    front = Talk(40_000 + k, 80, USER, WEB).open(at, 0.1)
    front.send(0, at + 1, b"GET /a HTTP/1.1\r\nHost: a\r\n\r\n", ACK | PSH)
    begin = at - 100 if kept else at + 3
    behind = Talk(50_000 + k, 5432, WEB, BASE).open(begin, 0.1)
    behind.send(0, begin + 0.2, OPENING, ACK | PSH)
    behind.send(1, begin + 0.2 + signed_on_ms, SIGNED_ON, ACK | PSH)
    asked = at + 3 if kept else begin + 0.2 + signed_on_ms + pause_ms
    behind.send(0, asked, ASKED, ACK | PSH)
    behind.send(1, asked + 20, TOLD, ACK | PSH)
    front.send(1, asked + 22, b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", ACK | PSH)
    return front.out + behind.out


@pytest.mark.parametrize(("signed_on_ms", "pause_ms", "kept"), [(8.0, 0.1, False), (60.0, 10.0, False), (8.0, 0, True)])
def test_signing_on_is_the_databases_where_the_connection_was_opened_for_the_call(
    tmp_path, signed_on_ms, pause_ms, kept
):
    packets = [one for k in range(20) for one in request(k, signed_on_ms, pause_ms, kept)]
    told = document(analyse([pcap(tmp_path / "a.pcap", sorted(packets, key=lambda one: one[0]))]))
    pages = [x for x in told["exchanges"] if x.get("server_split")]
    assert len(pages) == 20
    for page in pages:
        spent = {part["at"]: part["ms"] for part in page["server_split"]}
        base = spent.pop(f"{BASE}:5432")
        assert base == pytest.approx(20 if kept else 20 + signed_on_ms, abs=0.5)
        assert spent[f"{WEB}:80"] == pytest.approx(4 if kept else 4 + pause_ms, abs=0.7)
        assert sum(spent.values()) + base == pytest.approx(page["server_ms"], abs=1e-6)
