"""A client that leaves before it is answered waited until it left; one that only sends waits for nothing."""

from typing import NamedTuple

import numpy as np
import pytest

from tests.frames import ACK, FIN, PSH, RST, Talk
from tests.oracles.plain_parting import plain_closings, plain_ended
from tests.protocols.test_streams_of_text import front
from yaffle.analysis import analyse
from yaffle.exchanges.turns import UNENDED, empty_turns, find_turns
from yaffle.ledger import causes
from yaffle.ledger.fields import ORDERLY
from yaffle.ledger.parting import ended_by, had_when_gone
from yaffle.report.document import document
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection

MS = 1_000_000
_SIGN_ON = b"\0\0\0\x12\0\3\0\0user\0me\0\0\0"
_SIGNED_ON = front(b"R", b"\0\0\0\0") + front(b"Z", b"I")
GET = b"GET / HTTP/1.1\r\nHost: a.example\r\n\r\n"
OK = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"
HALF = b"HTTP/1.1 200 OK\r\nContent-Length: 200\r\n\r\n" + bytes(100)


def asked(request=b"r" * 100, before=1, **_how):
    """Opened in 10 ms, answered `before` times in 5 ms, then asked at 200 ms."""
    talk = Talk().open()
    for k in range(before):
        talk.send(0, 100 + 20 * k, request, ACK | PSH)
        talk.send(1, 115 + 20 * k, OK if request == GET else 60, ACK | PSH)
        talk.send(0, 115.1 + 20 * k)
    talk.send(0, 200, request, ACK | PSH)
    talk.send(1, 210)
    return talk


def left(talk, flags=FIN | ACK):
    talk.send(0, 1200, flags=flags)
    return talk


def answered_late(**how):
    talk = left(asked(**how))
    talk.send(1, 1210)
    talk.send(1, 1600, OK if how.get("request") == GET else 60, ACK | PSH)
    talk.send(1, 1600.1, flags=FIN | ACK)
    talk.send(0, 1600.2, flags=RST)
    talk.send(0, 1600.3, flags=RST)
    return talk


def noticed(**how):
    talk = left(asked(**how))
    talk.send(1, 1210, flags=FIN | ACK)
    talk.send(0, 1210.1)
    return talk


def never(**how):
    talk = left(asked(**how))
    talk.send(1, 1210)
    return talk


def reset(**how):
    return left(asked(**how), RST | ACK)


def closed_by_server(talk, at_ms):
    talk.send(1, at_ms, flags=FIN | ACK)
    talk.send(0, at_ms + 0.1, flags=FIN | ACK)
    talk.send(1, at_ms + 10.1)
    return talk


def server_closed(**how):
    return closed_by_server(asked(**how), 900)


def goodbye(**how):
    return closed_by_server(asked(**how), 210.1)


def slow_goodbye(**how):
    return asked(**how).close(260)


def half_closed(**how):
    talk = asked(**how)
    talk.send(0, 200.1, flags=FIN | ACK)
    talk.send(1, 900, OK if how.get("request") == GET else 60, ACK | PSH)
    talk.send(1, 900.1, flags=FIN | ACK)
    talk.send(0, 900.2)
    return talk


def half_closed_then_reset(**how):
    talk = asked(**how)
    talk.send(0, 200.1, flags=FIN | ACK)
    talk.send(1, 900, 60, ACK | PSH)
    talk.send(0, 900.1)
    talk.send(0, 910, flags=RST | ACK)
    return talk


def farewell(**how):
    talk = asked(**how)
    talk.send(1, 250, 60, ACK | PSH)
    talk.send(0, 250.1)
    talk.send(0, 2000, 20, ACK | PSH)
    return talk.close(2000.1)


def cancelled(**how):
    talk = asked(**how)
    for k in range(4):
        talk.send(1, 300 + k, 1000)
        talk.send(0, 300.1 + k)
    talk.send(0, 310, flags=RST | ACK)
    for k in range(4):  # on their way when it left
        talk.send(1, 311 + k, 1000)
        talk.send(0, 311.1 + k, flags=RST)
    return talk


def half_an_answer(**how):
    talk = asked(**how)
    talk.send(1, 300, HALF, ACK | PSH)
    talk.send(0, 300.1, window=how.get("window", 1000))
    return talk


def broken_off_by_server(**how):
    return closed_by_server(half_an_answer(**how), 900)


def broken_off_by_client(**how):
    talk = left(half_an_answer(**how))
    talk.send(1, 1210, flags=FIN | ACK)
    talk.send(0, 1210.1)
    return talk


def reset_by_client(**how):
    return left(half_an_answer(**how), RST | ACK)


def capture_ends(**how):
    talk = half_an_answer(**how)
    talk.send(1, 700)
    return talk


class Scene(NamedTuple):
    write: object
    request: bytes = b"r" * 100
    before: int = 1
    wait_ms: float | None = None  # of the last exchange; None where it is answered
    exchanges: int = 2

    def talk(self):
        return self.write(request=self.request, before=self.before)


SCENES = {
    "answered late": Scene(answered_late, wait_ms=1000),
    "answered late, at first": Scene(answered_late, before=0, wait_ms=1000 + 10, exchanges=1),
    "answered late, decoded": Scene(answered_late, GET, wait_ms=1000),
    "the server notices": Scene(noticed, wait_ms=1000),
    "the server notices, decoded": Scene(noticed, GET, 0, 1000 + 10, 1),
    "the server notices, what was asked?": Scene(noticed, before=0, exchanges=0),
    "the server never notices": Scene(never, wait_ms=1000),
    "reset": Scene(reset, wait_ms=1000),
    "the server closes, decoded": Scene(server_closed, GET, wait_ms=700),
    "the server closes: its answer?": Scene(server_closed, exchanges=1),
    "good-bye, decoded": Scene(goodbye, GET, exchanges=1),
    "good-bye, closed later": Scene(slow_goodbye, exchanges=1),
    "half closed": Scene(half_closed),
    "half closed, decoded": Scene(half_closed, GET),
    "half closed, then reset": Scene(half_closed_then_reset),
    "farewell": Scene(farewell),
    "cancelled": Scene(cancelled),
    "broken off by the server, decoded": Scene(broken_off_by_server, GET),
    "broken off by the client, decoded": Scene(broken_off_by_client, GET),
    "reset by the client, decoded": Scene(reset_by_client, GET),
    "broken off with the capture, decoded": Scene(capture_ends, GET),
}


@pytest.mark.parametrize("name", SCENES)
def test_who_left_waited_until_then(tmp_path, name):
    scene = SCENES[name]
    told = document(analyse([scene.talk().write(tmp_path / "a.pcap")]))
    assert len(told["exchanges"]) == scene.exchanges
    if not scene.exchanges:
        return
    last = told["exchanges"][-1]
    if scene.wait_ms is not None:
        assert last["outcome"] == "unanswered"
        assert last["answered_ns"] is None
        assert last["response_bytes"] == 0
        assert last["wait_ms"] == pytest.approx(scene.wait_ms, abs=0.5)
    else:
        assert last["outcome"] in ("answered", "200")
        assert last["answered_ns"] is not None


def test_what_comes_after_a_cancelled_download_was_waited_for_no_more(tmp_path):
    exchange = document(analyse([cancelled().write(tmp_path / "a.pcap")]))["exchanges"][-1]
    assert exchange["wait_ms"] == pytest.approx(103.0, abs=0.3)


@pytest.mark.parametrize(
    ("write", "until_ms"),
    [
        (broken_off_by_server, 900),
        (broken_off_by_client, 1200),
        (reset_by_client, 1200),
        (capture_ends, 700),
    ],
)
def test_the_rest_of_an_answer_that_broke_off_was_waited_for(tmp_path, write, until_ms):
    analysis = analyse([write(request=GET).write(tmp_path / "a.pcap")])
    exchange = document(analysis)["exchanges"][-1]
    assert exchange["outcome"] == "200"
    assert exchange["wait_ms"] == pytest.approx(until_ms - 200, abs=0.3)
    assert exchange["last_ns"] - exchange["first_ns"] == 100 * MS
    assert analysis.account.exchange_charges[1, causes.STALL] / MS == pytest.approx(until_ms - 300, abs=0.3)


def test_a_trickle_that_is_cancelled_is_the_servers(tmp_path):
    """What was on its way when the client left changes nothing of what it waited for."""
    talk = left(half_an_answer(request=GET), RST | ACK)
    talk.send(1, 1205, 50, ACK | PSH)
    talk.send(0, 1205.1, flags=RST)
    charges = analyse([talk.write(tmp_path / "a.pcap")]).account.exchange_charges[1] / MS
    assert charges[causes.STALL] == pytest.approx(900, abs=0.3)
    assert charges[causes.UNSEEN] == 0


def test_what_others_were_told_meanwhile_does_not_make_an_answer_whole(tmp_path):
    """Its last whole message is followed by a part of the next, which the client has."""
    talk = asked(_SIGN_ON, before=0)
    talk.send(1, 215, _SIGNED_ON, ACK | PSH)
    talk.send(0, 215.1)
    talk.send(0, 300, front(b"Q", b"select 1\0"), ACK | PSH)
    talk.send(1, 315, front(b"T", b"\0\1c\0" + bytes(18)), ACK | PSH)
    talk.send(1, 316, front(b"D", bytes(60))[:40], ACK | PSH)
    talk.send(0, 316.1)
    analysis = analyse([closed_by_server(talk, 900).write(tmp_path / "a.pcap")])
    assert document(analysis)["exchanges"][-1]["wait_ms"] == pytest.approx(600, abs=15)


def test_a_shut_window_is_the_clients(tmp_path):
    talk = half_an_answer(request=GET, window=0)
    talk.send(0, 1200, flags=FIN | ACK, window=0)
    analysis = analyse([talk.write(tmp_path / "a.pcap")])
    assert analysis.account.exchange_charges[1, causes.CLIENT_WINDOW] / MS == pytest.approx(900, abs=0.3)


def test_what_the_capture_missed_did_not_break_off(tmp_path):
    talk = half_an_answer(request=GET)
    talk.send(1, 301, 100, lost=True)
    talk.send(0, 301.1)
    talk.send(0, 1200, flags=FIN | ACK)
    analysis = analyse([talk.write(tmp_path / "a.pcap")])
    assert analysis.account.exchange_charges[1].sum() / MS < 110


def test_no_answer_comes_sooner_than_the_way_takes(tmp_path):
    charges = analyse([never(before=1).write(tmp_path / "a.pcap")]).account.exchange_charges[1] / MS
    assert charges[causes.ROUND_TRIP] == pytest.approx(10, abs=0.1)
    assert charges[causes.PROCESSING] == pytest.approx(990, abs=0.1)


@pytest.mark.parametrize("name", SCENES)
@pytest.mark.parametrize("closing", [ORDERLY, ORDERLY + 1])
def test_it_ends_where_its_twin_says(tmp_path, name, closing):
    analysis = analyse([SCENES[name].talk().write(tmp_path / "a.pcap")])
    every = Connection(Evidence(analysis), 0).segments
    for size in range(3, every.size + 1):
        g, turns = every[:size], empty_turns(size)
        told = [i for i in range(size) if g[i]["d"] == 1 and g[i]["n"] > 0]
        count, closings = find_turns(g, turns), np.array(plain_closings(g))
        for k in range(count):
            turns[k]["message"] = k if name.endswith("decoded") else -1
            if "broke" in name and turns[k]["answer"] >= 0 and k == count - 1:
                turns[k]["stop"], turns[k]["response_end"] = told[-1] + 1, UNENDED
            end, came = plain_ended(g, turns, k, closing, 10 * MS)
            answers = bool((turns["answer"][:k] >= 0).any())
            had = had_when_gone(g, closings[0])
            assert ended_by(g, turns[k], answers, closings, had, np.int64(closing), np.int64(10 * MS)) == end
            assert (turns[k]["answer"] >= 0) == came
