"""A call announced by SIP with its reports, and a program in a transport stream: counted packet by packet, at two
points.
"""

import random
from struct import Struct

import numpy as np
import pytest

from tests.frames import ether, pcap, udp
from tests.protocols.test_calls import BODY, INVITE, RINGING, sender_report
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.findings.streams import followed
from yaffle.media.programs import Program
from yaffle.media.streams import rfc_bursts
from yaffle.report.document import document

MS, S = 10**6, 10**9
PHONE, GATE, CAMERA, SCREEN = "198.51.100.7", "203.0.113.40", "203.0.113.60", "198.51.100.90"
OK = b"SIP/2.0 200 OK\r\nCall-ID: abc-1\r\nCSeq: 7 INVITE\r\nContent-Type: application/sdp\r\n\r\n" + BODY.replace(
    b"198.51.100.7", GATE.encode()
).replace(b"40000", b"50000")
BYE = b"BYE sip:quay@harbourline.example SIP/2.0\r\nCall-ID: abc-1\r\nCSeq: 8 BYE\r\n\r\n"


def call(ppm=0.0, count=600):
    """Frames of a call from the phone: signals, voice by opus to the gate, reports."""
    events = [
        (0, PHONE, 5060, GATE, 5060, INVITE),
        (20 * MS, PHONE, 5060, GATE, 5060, INVITE),
        (180 * MS, GATE, 5060, PHONE, 5060, RINGING),
        (900 * MS, GATE, 5060, PHONE, 5060, OK),
    ]
    rnd = random.Random(6)
    for k in range(count):
        if 200 <= k < 204:
            continue
        at = S + round(k * 20 * MS * (1 - ppm * 1e-6)) + rnd.randrange(300_000)
        events.append((at, PHONE, 40000, GATE, 50000, Struct("!BBHII").pack(0x80, 97, k, k * 960, 77) + bytes(60)))
    events.append((4 * S, PHONE, 40001, GATE, 50001, sender_report(77, (500, 0), 150)))
    events.append(
        (4 * S + 130 * MS, GATE, 50001, PHONE, 40001, sender_report(78, (1, 0), 0, [(77, 12, 4, 480, 500 << 16, 6554)]))
    )  # 100 ms after it had that of the phone
    events.append((14 * S, PHONE, 5060, GATE, 5060, BYE))
    return [(t, ether(udp(src, a, dst, b, data))) for t, src, a, dst, b, data in sorted(events)]


def cell(pid, counter, pcr=None, payload=True):
    """One packet of a transport stream."""
    control = (1 if payload else 0) | (2 if pcr is not None else 0)
    head = bytes([0x47, pid >> 8 & 31, pid & 255, control << 4 | counter & 15])
    if pcr is not None:
        base, rest = divmod(pcr, 300)
        head += bytes([7, 0x10]) + ((base << 15) | (63 << 9) | rest).to_bytes(6, "big")
    return head.ljust(188, b"\xff")


def program(gone=(), late=(), in_rtp=False, ppm=0.0, count=400):
    """Datagrams of seven cells every 10 ms, the first with a clock reference; some gone, some later than they should
    be.
    """
    frames, counter = [], 0
    for k in range(count):
        cells = [cell(0x100, counter, round(k * 270_000 * (1 + ppm * 1e-6)))] + [
            cell(0x100 if n < 5 else 0x101, (counter + n) if n < 5 else (k * 2 + n - 5)) for n in range(1, 7)
        ]
        counter += 5
        if k in gone:
            continue
        data = b"".join(cells)
        if in_rtp:
            data = Struct("!BBHII").pack(0x80, 33, k, k * 900, 5) + data
        frames.append((S + k * 10 * MS + (4 * MS if k in late else 0), ether(udp(CAMERA, 6000, SCREEN, 6002, data))))
    return frames


def test_a_call_is_told_with_its_stream_and_reports(tmp_path):
    found = document(analyse([pcap(tmp_path / "a.pcap", call(ppm=80.0))]))
    (own,) = found["calls"]
    assert (own["from"], own["to"], own["tries"], own["outcome"]) == (f"{PHONE}:5060", f"{GATE}:5060", 2, "200 OK")
    assert (own["ringing_ms"], own["answered_ms"], own["ended_ms"]) == (180.0, 900.0, 14_000.0)
    assert own["streams"][0] == {"to": f"{PHONE}:40000", "kind": "audio", "codecs": ["opus"]}
    (stream,) = found["media"]
    assert (
        stream["codec"],
        stream["kind"],
        stream["call"],
        stream["clock_hz"],
        stream["lost"],
        stream["loss_events"],
    ) == ("opus", "audio", "abc-1", 48000, 4, 1)
    assert stream["sender_drift_ppm"] == pytest.approx(80, abs=3)
    reports = stream["reports"]
    assert (reports["sender_packets"], reports["receptions"], reports["lost"], reports["jitter_ms"]) == (
        150,
        1,
        4,
        10.0,
    )
    assert reports["round_trip_ms"] == pytest.approx(30, abs=0.1)


def test_few_packets_of_an_announced_stream_are_a_stream(tmp_path):
    (stream,) = document(analyse([pcap(tmp_path / "a.pcap", call(count=3))]))["media"]
    assert (stream["packets"], stream["call"]) == (3, "abc-1")


@pytest.mark.parametrize("in_rtp", [False, True])
def test_a_program_lacks_what_its_counters_leave_out(tmp_path, in_rtp):
    path = pcap(tmp_path / "a.pcap", program(gone=(50, 51, 200), late=(300,), in_rtp=in_rtp, ppm=40.0))
    analysis = analyse([path])
    (own,) = document(analysis)["programmes"]
    assert (own["packets"], own["lost"], own["duplicates"], own["damaged"]) == (397 * 7, 21, 0, 0)
    assert own["loss_events"] == 4
    assert {p["pid"]: p["lost"] for p in own["pids"]} == {0x100: 15, 0x101: 6}
    assert own["pcr_jitter_ms"]["max"] == pytest.approx(4, abs=0.1)
    assert own["encoder_drift_ppm"] == pytest.approx(40, abs=2)
    assert own["rate_bps"] == pytest.approx(7 * 188 * 8 * 100, rel=0.02)
    assert len(document(analysis)["media"]) == int(in_rtp)


def test_video_is_followed_from_point_to_point_and_kept(tmp_path):
    near = pcap(tmp_path / "near.pcap", program())
    far = pcap(tmp_path / "far.pcap", [(t + 7 * MS, frame) for t, frame in program(gone=(80,), late=(90, 91))])
    voice = pcap(tmp_path / "voice.pcap", call())
    analysis = analyse([near, far, voice])
    save_case(tmp_path / "a.yaffle", analysis, {})
    again, _ = open_case(tmp_path / "a.yaffle")
    for one in (analysis, again):
        video = [stream for stream in followed(one) if isinstance(stream[0].media, Program)]
        assert [[(at.point, at.media.lost) for at in stream] for stream in video] == [[("Near", 0), ("Far", 7)]]
        assert "7 lost since Near" in video[0][1].words
        assert "jitter" in video[0][1].words
    assert [c.call_id for c in again.calls] == ["abc-1"]
    assert document(again)["media"] == document(analysis)["media"]


def test_bytes_that_only_begin_like_a_program_are_none(tmp_path):
    rnd = random.Random(1)
    frames = [(S + k * MS, ether(udp(CAMERA, 1, SCREEN, 2, b"\x47" + rnd.randbytes(188 * 3 - 1)))) for k in range(40)]
    assert document(analyse([pcap(tmp_path / "a.pcap", [*frames, *program(count=4)])]))["programmes"] == []


def plain_bursts(missing):
    """The same by walking: a stretch goes on until 16 packets in a row arrived."""
    found, start, last, alone = [], None, None, 0
    for k, gone in enumerate([*missing, *[False] * 20]):
        if gone:
            start, last = (k if start is None else start), k
        elif start is not None and k - last >= 16:
            if last > start:
                found.append((start, last))
            else:
                alone += 1
            start = None
    inside = sum(b - a + 1 for a, b in found)
    lost = sum(sum(missing[a : b + 1]) for a, b in found)
    outside = len(missing) - inside
    return (
        len(found),
        lost / inside if inside else 0.0,
        inside / len(found) if found else 0.0,
        alone / outside if outside else 0.0,
    )


@pytest.mark.parametrize("seed", range(8))
def test_bursts_are_as_by_the_plain_way(seed):
    rnd = random.Random(seed)
    missing = [rnd.random() < (0.3 if k // 60 % 3 == seed % 3 else 0.02) for k in range(500)]
    assert rfc_bursts(np.array(missing)) == pytest.approx(plain_bursts(missing))


def test_no_loss_is_no_burst():
    assert rfc_bursts(np.zeros(30, bool)) == (0, 0.0, 0.0, 0.0)


def test_the_course_of_a_stream(tmp_path):
    analysis = analyse([pcap(tmp_path / "a.pcap", call())])
    (media,) = analysis.media
    assert (media.bursts, round(media.burst_ns / MS), media.burst_density) == (1, 80, 1.0)
    assert len(media.course) == 120
    assert max(jitter for _, jitter, _ in media.course) == media.jitter_ns[2]
    (hole,) = [(time_ns, missing) for time_ns, _, missing in media.course if missing]
    assert hole[1] == 4
    assert S + 199 * 20 * MS <= hole[0] <= S + 205 * 20 * MS
