"""Frames by every kind of header: how they were heard, rates, retries, moves, failures, and what is open inside."""

import random
from struct import pack

import numpy as np
import pytest

from tests.frames import ACK, FIN, PSH, SYN, pcap, tcp
from tests.radio import air
from tests.radio.air import AP1, AP2, STA
from yaffle.analysis import analyse
from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.findings.air import air_findings
from yaffle.radio import frame_scan as f
from yaffle.radio.elements import BEACON, band_of, elements_of
from yaffle.radio.frames import address_text, frames_of
from yaffle.radio.radio import find_radio

S0, MS = 1_795_000_000 * 10**9, 10**6
BARE, RADIOTAP, PPI = 105, 127, 192


def heard(tmp_path, frames, link=RADIOTAP, head=None):
    """What a radio heard: (ms, frame)."""
    head = head if head is not None else air.radiotap()
    path = tmp_path / "air.pcap"
    pcap(path, [(S0 + int(at * MS), (head if link != BARE else b"") + frame) for at, frame in frames], link)
    capture = read_captures([path])
    payload = Payload(capture)
    return find_radio(capture, payload, frames_of(capture, payload)), capture


def rows_of(tmp_path, head, link=RADIOTAP):
    _, capture = heard(tmp_path, [(0, air.data(True, AP1, 1, b"x" * 40))], link, head)
    return frames_of(capture, Payload(capture)).rows[0]


@pytest.mark.parametrize("more", [{}, {"vendor": True}, {"antennas": (-70, -62)}, {"vendor": True, "antennas": (-70,)}])
def test_fields_stand_where_alignment_puts_them(tmp_path, more):
    row = rows_of(tmp_path, air.radiotap(-61, -96, rate=108, **more))
    assert (row[f.HEARD_SIGNAL], row[f.HEARD_NOISE], row[f.HEARD_RATE], row[f.HEARD_FREQUENCY]) == (
        -61,
        -96,
        54_000,
        5220,
    )
    assert row[f.SENDER] == int.from_bytes(STA, "big") and row[f.SEQUENCE] == 1


def test_the_strongest_antenna_speaks_where_the_frame_has_no_signal(tmp_path):
    row = rows_of(tmp_path, air.radiotap(None, -96, antennas=(-70, -62, -66)))
    assert row[f.HEARD_SIGNAL] == -62


@pytest.mark.parametrize(
    ("more", "mbps"),
    [
        ({"rate": 11}, 5.5),
        ({"mcs": (7, 0, 7)}, 65.0),
        ({"mcs": (7, 5, 15)}, 300.0),
        ({"vht": pack("<HBB4sBBH", 68, 4, 4, bytes([9 << 4 | 2, 0, 0, 0]), 0, 0, 0)}, 866.666),
        ({"he": pack("<6H", 0, 0, 5 << 8, 0, 2, 2)}, 576.47),
    ],
)
def test_rates(tmp_path, more, mbps):
    assert rows_of(tmp_path, air.radiotap(**more))[f.HEARD_RATE] == pytest.approx(mbps * 1000, rel=1e-4)


def test_per_packet_information_and_frames_alone(tmp_path):
    row = rows_of(tmp_path, air.per_packet(-50, -90), PPI)
    assert (row[f.HEARD_SIGNAL], row[f.HEARD_NOISE], row[f.HEARD_RATE]) == (-50, -90, 54_000)
    assert rows_of(tmp_path, b"", BARE)[f.SENDER] == int.from_bytes(STA, "big")


def life(fast=False, kind=3):
    """A station at one access point, then at another."""
    body = air.snap(0x0800, b"x" * 30)
    frames = [(0, air.beacon(AP1, 1)), (1, air.beacon(AP2, 1, busy=128))]
    request = pack("<HH", 0, 0) + (AP1 if kind == 3 else b"") + air.element(0, b"pier")
    frames += [
        (10, air.management(11, AP1, STA, AP1, 1, pack("<HHH", 0, 1, 0))),
        (11, air.management(11, STA, AP1, AP1, 2, pack("<HHH", 0, 2, 0))),
        (12, air.management(0, AP1, STA, AP1, 2, pack("<HH", 0, 0) + air.element(0, b"pier"))),
        (13, air.management(1, STA, AP1, AP1, 3, pack("<HHH", 0, 0, 1))),
    ]
    frames += [(20 + 10 * k, air.data(k % 2 == 0, AP1, 10 + k, body, protected=True)) for k in range(40)]
    frames += [
        (430, air.management(11, AP2, STA, AP2, 60, pack("<HHH", 2 if fast else 0, 1, 0))),
        (432, air.management(11, STA, AP2, AP2, 4, pack("<HHH", 2 if fast else 0, 2, 0))),
        (435, air.management(kind - 1, AP2, STA, AP2, 61, request)),
        (440, air.management(kind, STA, AP2, AP2, 5, pack("<HHH", 0, 0, 1))),
        (441, air.management(kind, STA, AP2, AP2, 5, pack("<HHH", 0, 0, 1), retry=True)),
    ]
    frames += [(455 + 10 * k, air.data(k % 2 == 0, AP2, 80 + k, body, protected=True)) for k in range(40)]
    return frames


@pytest.mark.parametrize(("fast", "kind", "words"), [(True, 3, "fast transition"), (False, 3, "reassociation"),
                                                     (False, 1, "association")])  # fmt: skip
def test_a_move_has_its_kind_and_its_gap(tmp_path, fast, kind, words):
    found, _ = heard(tmp_path, life(fast, kind))
    (station,) = found.stations
    (roam,) = station.course.roams
    assert (address_text(roam.old), address_text(roam.new)) == (AP1.hex(":"), AP2.hex(":"))
    assert roam.kind == words and roam.gap_ns == 45 * MS and roam.time_ns == S0 + 440 * MS
    assert [a.from_ns - S0 for a in station.course.associations] == [13 * MS, 440 * MS]
    assert station.ssid == "pier" and [p.channel for p in found.access_points] == [44, 44]
    assert found.access_points[1].busy_percent == pytest.approx(128 / 2.55) and found.access_points[0].stations == 3


def test_a_move_from_an_access_point_that_was_not_heard(tmp_path):
    frames = [one for one in life() if one[0] < 2 or one[0] > 432]
    found, _ = heard(tmp_path, frames)
    (roam,) = found.stations[0].course.roams
    assert address_text(roam.old) == AP1.hex(":") and roam.gap_ns == -1


def test_failures_by_stage(tmp_path):
    key = air.snap(0x888E, b"\2\3\0\x5f" + bytes(95))
    datagram = pack("!HHHH", 68, 67, 236, 0) + bytes(228)
    discover = air.snap(0x0800, bytes([0x45, 0, 1, 0, 0, 0, 0, 0, 64, 17, 0, 0]) + bytes(8) + datagram)
    one, two, three, four = (bytes.fromhex(f"02bb0000001{k}") for k in range(4))
    frames = [(0, air.beacon(AP1, 1)), (1, air.beacon(AP2, 1, ssid="guest", private=False))]
    frames += [(10, air.management(11, one, AP1, AP1, 2, pack("<HHH", 0, 2, 17)))]
    frames += [(20, air.management(1, two, AP1, AP1, 3, pack("<HHH", 0, 17, 0)))]
    frames += [(30, air.management(1, three, AP1, AP1, 4, pack("<HHH", 0, 0, 1)))]
    frames += [(40 + 100 * k, air.data(k % 2 > 0, AP1, 5 + k, key, three)) for k in range(4)]
    frames += [(1000, air.management(12, three, AP1, AP1, 20, pack("<H", 15)))]
    frames += [(50, air.management(1, four, AP2, AP2, 4, pack("<HHH", 0, 0, 1)))]
    frames += [(60 + 4000 * k, air.data(True, AP2, 5 + k, discover, four)) for k in range(3)]
    found, _ = heard(tmp_path, sorted(frames))
    told = {one.address: [(x.stage, x.code) for x in one.course.failures] for one in found.stations}
    assert told == {
        one.hex(":"): [("authentication", 17)], two.hex(":"): [("association", 17)], three.hex(":"): [("keys", 15)],
        four.hex(":"): [("address", -1)],
    }  # fmt: skip


def test_retries_are_counted_each_way_and_bad_frames_for_nothing(tmp_path):
    body = air.snap(0x0800, b"x" * 30)
    frames = [(k, air.data(True, AP1, k, body, retry=k % 4 == 0)) for k in range(1, 101)]
    frames += [(200 + k, air.data(False, AP1, k, body, retry=k % 10 == 0)) for k in range(1, 101)]
    found, _ = heard(tmp_path, frames)
    (station,) = found.stations
    assert (station.retry_from, station.retry_to) == (25.0, 10.0) and station.data_from == station.data_to == 100
    assert (station.signal.least, station.snr.median) == (-60, 35)
    bad, _ = heard(tmp_path, frames, head=air.radiotap(flags=0x40))
    assert bad.stations == [] and "200 frames were heard with errors" in bad.notes[0]


def talk():
    """A connection by the air: opened, asked, answered, closed; each frame sent again by the radio at once."""
    client, server = "10.0.0.5", "203.0.113.20"
    packets = [
        (True, tcp(client, 4000, server, 80, 1, 0, SYN, ip_id=1)),
        (False, tcp(server, 80, client, 4000, 9, 2, SYN | ACK, ip_id=7)),
        (True, tcp(client, 4000, server, 80, 2, 10, ACK, ip_id=2)),
        (True, tcp(client, 4000, server, 80, 2, 10, ACK | PSH, b"GET / HTTP/1.1\r\n\r\n", ip_id=3)),
        (False, tcp(server, 80, client, 4000, 10, 20, ACK | PSH, b"HTTP/1.1 204 No Content\r\n\r\n", ip_id=8)),
        (True, tcp(client, 4000, server, 80, 20, 37, FIN | ACK, ip_id=4)),
        (False, tcp(server, 80, client, 4000, 37, 21, FIN | ACK, ip_id=9)),
    ]
    frames = []
    for k, (up, packet) in enumerate(packets):
        for again in (False, True):
            frames.append((10 * k + 2 * again, air.data(up, AP1, 100 + k, air.snap(0x0800, packet), retry=again)))
    return frames


@pytest.mark.parametrize(("link", "head"), [(BARE, b""), (RADIOTAP, air.radiotap()), (PPI, air.per_packet())])
def test_open_frames_are_connections_and_radio_retries_are_none_of_tcp(tmp_path, link, head):
    path = tmp_path / "air.pcap"
    pcap(path, [(S0 + at * MS, head + frame) for at, frame in talk()], link)
    analysis = analyse([path])
    assert analysis.account.flow.size == 1 and analysis.account.exchange.shape[0] == 1
    sides = [int(analysis.account.side(side, "retransmitted_packets")[0]) for side in (0, 1)]
    assert sides == [0, 0] and analysis.radio.stations[0].retry_from == 50.0


def test_whatever_stands_there_nothing_breaks(tmp_path):
    dice = random.Random(7)
    seeds = [air.radiotap(vendor=True, antennas=(-60,)) + frame for _, frame in [*life(), *talk()]]
    frames = []
    for k in range(4000):
        data = bytearray(dice.choice(seeds))
        for _ in range(dice.randrange(1, 6)):
            data[dice.randrange(len(data))] = dice.choice((0, 1, 255, dice.randrange(256)))
        frames.append((S0 + k * MS, bytes(data[: dice.randrange(1, len(data) + 1)])))
    path = tmp_path / "air.pcap"
    pcap(path, frames, RADIOTAP)
    found = analyse([path]).radio
    assert np.isfinite(found.heard["time_ns"]).all()


SLOW = {"rate": 2}
FAST = {"mcs": (0, 0, 7)}


def cell(tmp_path, rates, signal=-50, again=0):
    """Stations at one access point, each with what a radio says before its frames; 150 frames of 1,000 octets each."""
    frames = [(0, air.radiotap() + air.beacon(AP1, 1))]
    for number, rate in enumerate(rates):
        own = bytes([2, 0xBB, 0, 0, 0, number + 1])
        for k in range(150):
            frame = air.data(True, AP1, k, b"x" * 1000, own, retry=k % 10 < again // 10, protected=True)
            frames.append((10 + 4 * len(rates) * k + 4 * number, air.radiotap(signal, **rate) + frame))
    return heard(tmp_path, frames, head=b"")[0], tmp_path / "air.pcap"


@pytest.mark.parametrize(
    ("rate", "us"), [(SLOW, 192 + 8 * 1030), ({"rate": 108}, 20 + 8 * 1030 / 54), (FAST, 36 + 8 * 1030 / 65)]
)
def test_airtime_is_preamble_and_data_at_their_rate(tmp_path, rate, us):
    found, _ = cell(tmp_path, [rate])
    assert found.stations[0].air_from_ns / 150 / 1000 == pytest.approx(us, rel=1e-3)
    assert found.access_points[0].air_ns >= found.stations[0].air_from_ns


def test_a_slow_station_takes_the_airtime_of_its_cell(tmp_path):
    _, path = cell(tmp_path, [SLOW, FAST, FAST, FAST])
    (one,) = [own for own in air_findings(analyse([path])) if own.cause == "low rate takes airtime"]
    assert (
        "02:bb:00:00:00:01 took 95 % of the airtime of pier" in one.sentence and "for 25 % of its bytes" in one.sentence
    )
    _, even = cell(tmp_path, [SLOW] * 4)
    assert not [own for own in air_findings(analyse([even])) if own.cause == "low rate takes airtime"]


def test_retries_despite_a_strong_signal_are_somebody_else(tmp_path):
    _, path = cell(tmp_path, [FAST], again=40)
    assert "40 % of the data frames from" in air_findings(analyse([path]))[0].sentence
    _, weak = cell(tmp_path, [FAST], signal=-75, again=40)
    assert not [own for own in air_findings(analyse([weak])) if own.cause == "retries despite signal"]


def test_a_station_sleeps_from_where_it_says_so_to_its_next_frame(tmp_path):
    frames = [(0, air.beacon(AP1, 1))]
    for k in range(10):
        frame = bytearray(air.data(True, AP1, k, b"x" * 40))
        frame[1] |= f.POWER if k % 5 == 4 else 0
        frames.append((100 * k, bytes(frame)))
    found, _ = heard(tmp_path, frames)
    assert (found.stations[0].dozed_ns, found.stations[0].heard_ns) == (100 * MS, 900 * MS)


@pytest.mark.parametrize(
    ("elements", "band", "width"),
    [
        ([(61, bytes([44, 0])), (192, bytes([0, 0, 0, 0, 0]))], "5 GHz", 20),
        ([(61, bytes([44, 1])), (192, bytes([1, 42, 0, 0, 0]))], "5 GHz", 80),
        ([(61, bytes([44, 1])), (192, bytes([1, 42, 50, 0, 0]))], "5 GHz", 160),
        ([(61, bytes([6, 3]))], "2.4 GHz", 40),
        ([(255, bytes([36, 0, 0, 2, 0, 0, 0, 53, 2, 0, 0, 0]))], "6 GHz", 80),
    ],
)
def test_band_and_width_as_an_access_point_tells_them(elements, band, width):
    told = elements_of(bytes(12) + b"".join(air.element(kind, own) for kind, own in elements), BEACON)
    assert (band_of(told.channel, 0, six_ghz=told.six_ghz), told.width_mhz) == (band, width)


def test_keys_that_come_late_after_a_move_are_told(tmp_path):
    key = air.snap(0x888E, b"\2\3\0\x5f" + bytes(95))
    frames = life() + [(441 + 400 * k, air.data(k % 2 > 0, AP2, 300 + k, key)) for k in range(4)]
    frames += [(2000 + k, air.data(True, AP2, 400 + k, b"x" * 40, protected=True)) for k in range(3)]
    found, _ = heard(tmp_path, sorted(frames))
    assert found.stations[0].course.roams[0].keys_ns == 1201 * MS
    (one,) = [own for own in air_findings(analyse([tmp_path / "air.pcap"])) if own.cause == "slow sign-on"]
    assert "took up to 1.20 s after 1 move of 1 station to pier" in one.sentence
