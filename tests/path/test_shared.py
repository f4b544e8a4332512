"""Which point lies nearer, where conversations go one way only; and packets that a translation of addresses changed."""

import random

import pytest

from tests.frames import ACK, PSH, SYN, ether, pcap, tcp, udp
from yaffle.analysis import Told, analyse
from yaffle.path.translations import translations
from yaffle.report.document import document

MS = 10**6
HERE, THERE, OUTSIDE = "198.51.100.7", "203.0.113.9", "192.0.2.77"


def two_points(folder, events):
    """events: (time at the first point, time at the second point, frame there, frame here); None where a point does
    not see it.
    """
    sides = ([], [])
    for one, two, left, right in events:
        for k, (when, frame) in enumerate(((one, left), (two, right))):
            if when is not None:
                sides[k].append((when, frame))
    return [
        pcap(folder / f"{name}.pcap", sorted(side, key=lambda e: e[0]))
        for name, side in zip(("near", "far"), sides, strict=True)
    ]


def stream(rnd, source, target, port, first, away, count=200, offset=0):
    """Datagrams one way: seen at the sender's point, and `away` later at the other, under a clock that is off by
    `offset`.
    """
    events = []
    for k in range(count):
        t = first + k * 20 * MS
        frame = ether(udp(source, port, target, port + 2, bytes([k & 255, k >> 8]) + rnd.randbytes(30)))
        late = away + rnd.randrange(300_000)
        events.append((t, t + late + offset, frame, frame) if source == HERE else (t + late, t + offset, frame, frame))
    return events


@pytest.mark.parametrize("offset", [0, 2_000 * MS, -40 * MS])
def test_two_streams_in_opposite_directions_tell_the_clock(tmp_path, offset):
    rnd = random.Random(1)
    events = stream(rnd, HERE, THERE, 5000, 10_000 * MS, 15 * MS, offset=offset) + stream(
        rnd, THERE, HERE, 6000, 10_003 * MS, 15 * MS, offset=offset
    )
    found = document(analyse(two_points(tmp_path, events)))
    assert found["clocks"][1]["offset_ms"] == pytest.approx(offset / MS, abs=0.3)
    assert {s["from"]: round(s["delay_ms"]["min"]) for s in found["segments"]} == {"near.pcap": 15, "far.pcap": 15}
    assert all(s["lost"] == 0 for s in found["segments"])


def test_one_stream_alone_is_not_split_by_its_jitter(tmp_path):
    rnd = random.Random(2)
    events = [e for port in (5000, 5100, 5200) for e in stream(rnd, HERE, THERE, port, 10_000 * MS, 15 * MS)]
    found = document(analyse(two_points(tmp_path, events)))
    (own,) = [s for s in found["segments"] if s["packets"]]
    assert (own["from"], own["packets"], own["lost"]) == ("near.pcap", 600, 0)
    assert found["clocks"][1]["uncertainty_ms"] is None


def translated_packets():
    """Thirty connections whose client has another address and port at the second point; one packet is lost between."""
    events, t = [], 10_000 * MS
    for k in range(30):
        for step, (mine, flags, payload) in enumerate(
            (
                (True, SYN, b""),
                (False, SYN | ACK, b""),
                (True, ACK, b""),
                (True, ACK | PSH, b"q" * 40),
                (False, ACK | PSH, b"a" * 90),
            )
        ):
            t += 30 * MS
            seq, ack = 1000 * k + step, 7000 * k + step
            here = (HERE, 40_000 + k, THERE, 443) if mine else (THERE, 443, HERE, 40_000 + k)
            there = (OUTSIDE, 1_024 + k, THERE, 443) if mine else (THERE, 443, OUTSIDE, 1_024 + k)
            frames = [
                ether(tcp(*ends, seq, ack, flags, payload, ts=(t // MS & 0xFFFFFFFF, 5))) for ends in (here, there)
            ]
            lost = k == 7 and step == 3
            events.append((t if mine else t + 8 * MS, None if lost else (t + 8 * MS if mine else t), *frames))
    return events


def test_translated_addresses_and_ports_are_the_same_packets(tmp_path):
    analysis = analyse(two_points(tmp_path, translated_packets()))
    found = document(analysis, include=["lost_packets"])
    ways = {s["direction"]: s for s in found["segments"]}
    assert (ways["from_client"]["packets"], ways["from_client"]["lost"]) == (90, 1)
    assert (ways["from_server"]["packets"], ways["from_server"]["lost"]) == (60, 0)
    assert [(p["src"], p["src_port"]) for p in found["lost_packets"]] == [(HERE, 40_007)]
    assert ways["from_client"]["delay_ms"]["min"] == pytest.approx(8, abs=0.01)
    assert len(found["connections"]) == 30  # Each stands once, though its ends have two names.
    (told,) = translations(analysis.capture, analysis.path)
    assert (told.ends.client_near, told.ends.client_far, told.ends.server_near, told.ends.server_far) == (
        HERE,
        OUTSIDE,
        THERE,
        THERE,
    )
    assert (told.conversations, told.ports_change, told.packets) == (30, 30, 149)
    (own,) = found["translations"]
    assert (own["from"], own["to"], own["client"], own["conversations"], own["ports_change"]) == (
        "near.pcap",
        "far.pcap",
        [HERE, OUTSIDE],
        30,
        30,
    )


def test_what_the_user_says_is_not_the_same_is_on_no_segment(tmp_path):
    rnd = random.Random(3)
    events = (
        translated_packets()
        + stream(rnd, HERE, THERE, 5000, 10_000 * MS, 8 * MS)
        + stream(rnd, THERE, HERE, 6000, 10_003 * MS, 8 * MS)
    )
    analysis = analyse(two_points(tmp_path, events))
    (told,) = translations(analysis.capture, analysis.path)
    apart = analysis.as_told(Told(apart=(told.ends,)))
    flows = analysis.capture.conversations
    assert {
        int(p)
        for s in apart.path.segments
        for way in (s.up, s.down)
        for p in flows.protocol[analysis.capture.packets.flow[way.sent]]
    } == {17}
    assert sum(way.sent.size for s in apart.path.segments for way in (s.up, s.down)) == 400
    assert len(document(apart)["connections"]) == 60
    again = apart.as_told(Told())
    assert document(again) == document(analysis)


def test_a_device_that_answers_itself_has_two_sequence_spaces(tmp_path):
    events, t = [], 10_000 * MS
    for k in range(6):
        for step, (mine, flags, payload) in enumerate(
            (
                (True, SYN, b""),
                (False, SYN | ACK, b""),
                (True, ACK, b""),
                (True, ACK | PSH, b"q" * 40),
                (False, ACK | PSH, b"a" * 90),
            )
        ):
            t += 30 * MS
            ends = (HERE, 40_000 + k, THERE, 443) if mine else (THERE, 443, HERE, 40_000 + k)
            frames = [
                ether(tcp(*ends, base + 1000 * k + step, base + 7000 * k + step, flags, payload))
                for base in (0, 5_000_000)
            ]
            events.append((t, t + 2 * MS, *frames))
    analysis = analyse(two_points(tmp_path, events))
    assert len(analysis.capture.points) == 2
    found = document(analysis)
    assert [(one["from"], one["to"], one["server"], one["connections"]) for one in found["answered_between"]] == [
        ("near.pcap", "far.pcap", f"{THERE}:443", 6)
    ]
    assert len(found["connections"]) == 6
    assert document(analyse(two_points(tmp_path, translated_packets())))["answered_between"] == []


def test_marks_of_full_queues_on_the_way(tmp_path):
    rnd = random.Random(5)
    events = []
    for k in range(40):
        payload = rnd.randbytes(60)
        before, after = (
            ether(tcp(HERE, 4000, THERE, 80, 1 + 60 * k, 1, ACK, payload, tos=tos))
            for tos in (2, 3 if k % 4 == 0 else 2)
        )
        events.append((10_000 * MS + k * 20 * MS, 10_005 * MS + k * 20 * MS, before, after))
        answer = ether(tcp(THERE, 80, HERE, 4000, 1, 61 + 60 * k, ACK))
        events.append((10_012 * MS + k * 20 * MS, 10_007 * MS + k * 20 * MS, answer, answer))
    ways = {s["direction"]: s for s in document(analyse(two_points(tmp_path, events)))["segments"]}
    assert ways["from_client"]["ecn_changes"] == [{"from": "ECT(0)", "to": "CE", "packets": 10}]
    assert ways["from_server"]["ecn_changes"] == []
