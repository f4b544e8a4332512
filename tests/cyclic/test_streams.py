"""Streams of captures against how they were generated: by datagram, by link-layer address, on the air."""

import numpy as np
import pytest

from tests.cyclic.feeds import CONTROLLER, DEVICE, MS, S0, Feed, real_time, sensor
from tests.frames import pcap
from tests.radio import air
from yaffle.analysis import analyse


def found(tmp_path, frames, link=1):
    path = pcap(tmp_path / "feed.pcap", sorted(frames), link)
    return analyse([path]).cyclic


ROUGH = {"lost": {100, 101, 900}, "doubled": {50, 1500}, "held": [(700, 6)], "jitter_ns": 50_000}


@pytest.mark.parametrize("make", [real_time, sensor, lambda feed: sensor(feed, counter=True)])
def test_cycles_are_counted_as_they_were_generated(tmp_path, make):
    (one,) = found(tmp_path, make(Feed(**ROUGH, drift_ppm=80)))
    assert (one.missed, one.doubled, one.cycles, one.packets) == (3, 2, 2000, 1999)
    assert one.period_ns == pytest.approx(4 * MS, rel=2e-4) and one.interruptions == 0
    assert one.drift_ppm == pytest.approx(120, abs=15)  # From the first to the last quarter of a clock that turns.
    assert 4 * MS * 6 < one.longest_gap_ns <= 4 * MS * 7 and one.watchdogs == 2
    assert one.jitter_ns[1] < 200_000 and one.jitter_ns[2] == pytest.approx(6 * 4 * MS, rel=0.05)
    assert sum(part.missed for part in one.course) == 3 and sum(part.packets for part in one.course) == one.packets


def test_frames_without_ip_go_by_their_addresses_and_identifier(tmp_path):
    two = Feed(seed=2, period_ns=2 * MS, cycles=4000)
    streams = sorted(found(tmp_path, real_time(Feed(), 0x8001) + real_time(two, 0x8002)), key=lambda one: one.kind)
    assert [(one.kind, one.source, one.destination) for one in streams] == [
        (f"real-time Ethernet 0x{number:04x}", DEVICE.hex(":"), CONTROLLER.hex(":")) for number in (0x8001, 0x8002)
    ]
    assert [round(one.period_ns / MS, 2) for one in streams] == [4, 2]
    assert {one.counter for one in streams} == {"cycle counter of the protocol"}


def test_what_a_sender_left_out_is_told_from_what_was_lost(tmp_path):
    feed = Feed(left_out={400, 401, 1200}, lost={800, 801})
    (one,) = found(tmp_path, sensor(feed, counter=True))
    assert one.counter == "counter learnt at octet 4 (16 bits, lowest octet first, +1 a cycle)"
    assert (one.missed, one.unsent) == (5, 3)
    (plain,) = found(tmp_path, sensor(feed))
    assert (plain.missed, plain.unsent, plain.counter) == (5, -1, "")


def test_a_long_silence_is_an_interruption_and_an_end_is_told(tmp_path):
    feed = Feed(left_out=set(range(500, 1200)))
    (one,) = found(tmp_path, real_time(feed) + late_frame())
    assert (one.interruptions, one.missed, one.cycles) == (1, 0, 1300) and one.ended
    assert one.interrupted_ns == pytest.approx(701 * 4 * MS, rel=0.01)


def late_frame():
    return [(at + 20 * 10**9, frame) for at, frame in sensor(Feed(cycles=1), src="192.0.2.9")]


def test_on_the_air_frames_sent_again_are_no_cycles_twice(tmp_path):
    head, frames = air.radiotap(), []
    for at, cycle in Feed(lost={30}, cycles=400, period_ns=20 * MS).arrivals():
        body = b"x" * 60
        frames.append((at, head + air.data(True, air.AP1, cycle, body, protected=True)))
        if cycle % 5 == 0:
            frames.append((at + 400_000, head + air.data(True, air.AP1, cycle, body, protected=True, retry=True)))
    (one,) = found(tmp_path, frames, link=127)
    assert (one.kind, one.source, one.missed, one.doubled) == ("802.11 data", air.STA.hex(":"), 1, 0)


def test_talk_and_voice_are_no_cyclic_streams(tmp_path):
    draw = np.random.default_rng(5)
    feed = Feed(cycles=800)
    frames = sensor(feed)
    times = np.cumsum(draw.exponential(5 * MS, len(frames))).astype(np.int64) + S0
    assert found(tmp_path, [(int(at), frame) for at, (_, frame) in zip(times, frames, strict=True)]) == []


def test_times_of_centuries_and_damaged_frames_break_nothing(tmp_path):
    draw = np.random.default_rng(11)
    frames = [(int(at), frame) for (_, frame), at in zip(
        real_time(Feed(cycles=300)), np.sort(draw.integers(0, 4 * 10**18, 300)), strict=True)]  # fmt: skip
    assert found(tmp_path, frames) == []
    steady = real_time(Feed(cycles=200)) + [(at + 2 * 10**18, frame) for at, frame in real_time(Feed(cycles=200))]
    (one,) = found(tmp_path, steady)
    assert one.interruptions == 1 and one.missed == 0 and one.minutes["packets"].sum() == 400
    cut = []
    for at, frame in real_time(Feed(cycles=2000)) + sensor(Feed(cycles=2000), counter=True):
        data = bytearray(frame)
        for _ in range(int(draw.integers(0, 3))):
            data[int(draw.integers(0, len(data)))] = int(draw.integers(0, 256))
        cut.append((at, bytes(data[: int(draw.integers(10, len(data) + 1))])))
    assert isinstance(found(tmp_path, cut), list)


def test_counters_are_read_from_whichever_file_of_a_ring_holds_the_packet(tmp_path):
    frames = sensor(Feed(cycles=1200, lost={300, 800}, left_out={500}), counter=True)
    half = len(frames) // 2
    files = [pcap(tmp_path / f"{k}.pcap", part) for k, part in enumerate((frames[:half], frames[half:]))]
    (one,) = analyse(files).cyclic
    assert (one.packets, one.missed, one.unsent, one.began_anew) == (1197, 3, 1, 0) and one.counter
