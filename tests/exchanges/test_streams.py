"""Bytes of a side put in order: of several copies the first that passed, whatever came later."""

import itertools
import random

import numpy as np
import pytest

from tests.frames import ACK, SYN, C, S, ether, pcap, tcp
from yaffle.analysis import analyse
from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.exchanges.reading import Reading
from yaffle.exchanges.streams import stream_of
from yaffle.ledger.arrangement import arrange
from yaffle.protocols.message import Run
from yaffle.report.document import document
from yaffle.transport.segments import FACTS, empty_segments, gather

DATA = random.Random(5).randbytes(4000)


def gathered(tmp_path, parts):
    """Segments of a connection whose client sends these parts (place, size) of DATA, one after another; its payload."""
    ends = (C, 40000, S, 80)
    frames = [ether(tcp(*ends, 0, 0, SYN, b"")), ether(tcp(S, 80, C, 40000, 0, 1, SYN | ACK, b""))]
    frames += [ether(tcp(*ends, 1 + at, 1, ACK, DATA[at : at + size])) for at, size in parts]
    path = tmp_path / "one.pcap"
    pcap(path, [(1_000_000 + 10 * k, frame) for k, frame in enumerate(frames)])
    capture = read_captures([path])
    capture, arranged = arrange(capture)
    g = empty_segments(len(frames))
    gather(arranged.order, capture.packets, g, np.zeros(FACTS, np.int64))
    return g, Payload(capture)


def first_copies(parts):
    """The slow plain way: for each byte the part that brought it first."""
    owner = {}
    for k, (at, size) in enumerate(parts):
        for place in range(at, at + size):
            owner.setdefault(place, k)
    return owner


@pytest.mark.parametrize("seed", range(30))
def test_each_byte_is_of_the_segment_that_brought_it_first(seed, tmp_path):
    rnd = random.Random(seed)
    parts = [(rnd.randrange(300), rnd.randrange(1, 60)) for _ in range(rnd.randrange(1, 25))]
    owner = first_copies(parts)
    stream = stream_of(*_of_client(tmp_path, parts))
    places = sorted(owner)
    assert stream.segments_of(np.array(places) + 1).tolist() == [2 + owner[place] for place in places]
    runs = stream.runs()
    assert b"".join(run.data for run in runs) == bytes(DATA[place] for place in places)
    assert all(run.data == DATA[run.at - 1 : run.end - 1] for run in runs)
    assert all(one.end < other.at for one, other in itertools.pairwise(runs))


def _of_client(tmp_path, parts):
    g, payload = gathered(tmp_path, parts)
    return g, 0, payload


def test_what_is_sent_again_as_one_brings_nothing_new(tmp_path):
    """Two segments, and both once more in one: the end of the second came when it came first."""
    stream = stream_of(*_of_client(tmp_path, [(0, 1000), (1000, 500), (0, 1500)]))
    assert stream.segments_of(np.array([1, 1001, 1500])).tolist() == [2, 3, 3]


def test_bytes_from_a_place_on_and_up_to_one(tmp_path):
    stream = stream_of(*_of_client(tmp_path, [(0, 100), (100, 100), (300, 100)]))
    assert (stream.begin, stream.whole_to) == (1, 201)
    assert stream.runs(51, 151) == [Run(51, DATA[50:150])]
    assert stream.runs(151) == [Run(151, DATA[150:200]), Run(301, DATA[300:400])]
    assert stream.runs(401) == []
    empty = stream_of(*_of_client(tmp_path, []))
    assert (empty.begin, empty.whole_to, empty.runs()) == (None, None, [])


ASKED = b"".join(b"GET /%d HTTP/1.1\r\n\r\n" % k for k in range(9))


def both(tmp_path, monkeypatch, *parts):
    """Streams of a client that asks for pages, and of a server that says nothing."""
    monkeypatch.setitem(globals(), "DATA", ASKED)
    g, payload = gathered(tmp_path, parts)
    return stream_of(g, 0, payload), stream_of(g, 1, payload)


def labels(reading, sides):
    return [*reading.told(sides, more=True).label]


def test_a_hole_that_is_filled_later_and_a_byte_that_came_late(tmp_path, monkeypatch):
    pages = [f"GET /{k}" for k in range(9)]
    reading = Reading("http")
    holed = both(tmp_path, monkeypatch, (19, 19), (57, 19), (76, 19))
    assert reading.read_on(holed)
    assert labels(reading, holed) == [pages[1], *pages[3:5]]
    filled = both(tmp_path, monkeypatch, (19, 19), (57, 19), (76, 19), (38, 19), (95, 30))
    assert reading.read_on(filled)
    assert labels(reading, filled) == pages[1:6]
    earlier = both(tmp_path, monkeypatch, (19, 19), (57, 19), (76, 19), (38, 19), (95, 30), (0, 19))
    assert not reading.read_on(earlier)
    anew = Reading("http")
    assert anew.read_on(earlier)
    assert labels(anew, earlier) == pages[:6]


def test_an_answer_that_is_sent_again_as_one_ended_when_it_came_first(tmp_path):
    """The acknowledgement was lost on the way; both segments of the answer come once more in one, 200 ms later."""
    answer = b"HTTP/1.1 200 OK\r\nContent-Length: 1400\r\n\r\n" + bytes(1400)
    ask = b"GET /a HTTP/1.1\r\n\r\n"
    client, server = (C, 40000, S, 80), (S, 80, C, 40000)
    steps = [
        (0, tcp(*client, 0, 0, SYN, b"")), (10, tcp(*server, 0, 1, SYN | ACK, b"")), (20, tcp(*client, 1, 1, ACK, b"")),
        (21, tcp(*client, 1, 1, ACK, ask)), (40, tcp(*server, 1, 1 + len(ask), ACK, answer[:1000])),
        (41, tcp(*server, 1001, 1 + len(ask), ACK, answer[1000:])),
        (42, tcp(*client, 1 + len(ask), 1 + len(answer), ACK, b"")),
        (241, tcp(*server, 1, 1 + len(ask), ACK, answer)),
    ]  # fmt: skip
    path = pcap(tmp_path / "one.pcap", [(10**9 + ms * 10**6, ether(packet)) for ms, packet in steps])
    exchanges = document(analyse([path]))["exchanges"]
    assert len(exchanges) == 1
    assert exchanges[0]["wait_ms"] == pytest.approx(41)
