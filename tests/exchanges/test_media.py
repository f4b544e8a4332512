"""Streams of voice made up with known losses, copies and delays; jitter against a plain twin."""

import random
from struct import Struct

import numpy as np
import pytest

from tests.frames import C, S, ether, pcap, udp
from yaffle.analysis import analyse
from yaffle.case.folder import open_case, save_case
from yaffle.media.streams import fill_jitter, unwrapped
from yaffle.report.document import document

MS = 1_000_000


def plain_jitter(arrived_ns, stamps, clock_hz):
    values, estimate = [0.0], 0.0
    for i in range(1, len(arrived_ns)):
        transit = [arrived_ns[k] - stamps[k] * 10**9 / clock_hz for k in (i - 1, i)]
        estimate += (abs(transit[1] - transit[0]) - estimate) / 16
        values.append(estimate)
    return values


def rtp(number, stamp, ssrc, kind=8, size=160):
    return Struct("!BBHII").pack(0x80, kind, number & 0xFFFF, stamp & 0xFFFFFFFF, ssrc) + bytes(size)


def stream(rnd, ssrc, count, lost=(), kind=8, first=65_500, clock=8000, step_ms=20):
    out = []
    for k in range(count):
        if k not in lost:
            arrive = 10**9 + k * step_ms * MS + int(rnd.expovariate(1 / (2 * MS)))
            out.append(
                (
                    arrive,
                    ether(
                        udp(
                            C,
                            16_400 + ssrc,
                            S,
                            16_400,
                            rtp(first + k, 2**32 - 500 + k * clock * step_ms // 1000, ssrc, kind),
                        )
                    ),
                )
            )
    return out


def test_losses_and_jitter_of_two_streams_are_known_to_the_packet(tmp_path):
    rnd = random.Random(4)
    lost = {30, 31, 32, 90, 150}
    one, two = stream(rnd, 7, 300, lost), stream(rnd, 9, 200, kind=111, clock=48_000)
    other = [(10**9 + k * MS, ether(udp(C, 5000, S, 6000, rnd.randbytes(60)))) for k in range(100)]
    copies = [(one[10][0] + 100_000, one[10][1])]
    packets = sorted([*one, *two, *other, *copies], key=lambda p: p[0])
    analysis = analyse([pcap(tmp_path / "a.pcap", packets)])
    found = {m["ssrc"]: m for m in document(analysis)["media"]}
    assert set(found) == {7, 9}
    assert (found[7]["lost"], found[7]["expected"], found[7]["loss_events"], found[7]["longest_loss"]) == (5, 300, 3, 3)
    assert (found[7]["duplicates"], found[9]["lost"], found[9]["clock_hz"]) == (1, 0, 48_000)
    arrived = [t for t, _ in sorted([*one, *copies])]
    stamps = [k * 160 for k in range(300) if k not in lost]
    stamps.insert(11, stamps[10]) if arrived[11] == copies[0][0] else None
    values = plain_jitter(arrived, sorted(stamps), 8000)
    assert found[7]["jitter_ms"]["mean"] == pytest.approx(np.mean(values) / MS, rel=1e-6)
    assert found[7]["jitter_ms"]["max"] == pytest.approx(max(values) / MS, rel=1e-6)
    save_case(tmp_path / "c.yaffle", analysis, {})
    assert open_case(tmp_path / "c.yaffle")[0].media == analysis.media


def test_the_kernel_is_its_twin_and_numbers_wrap():
    rnd = random.Random(1)
    arrived = np.cumsum([rnd.randrange(1, 40 * MS) for _ in range(200)])
    stamps = np.arange(200) * 160
    out = np.zeros(200)
    fill_jitter(arrived, stamps, 8000, out)
    assert out.tolist() == pytest.approx(plain_jitter(arrived.tolist(), stamps.tolist(), 8000), abs=1)
    assert unwrapped(np.array([65_534, 65_535, 1, 0, 2]), 16).tolist() == [65_534, 65_535, 65_537, 65_536, 65_538]


def test_noise_and_control_packets_are_no_stream(tmp_path):
    rnd = random.Random(2)
    noise = [(k * MS, ether(udp(C, 5000, S, 6000, b"\x80" + rnd.randbytes(40)))) for k in range(200)]
    control = [
        (k * MS, ether(udp(C, 5001, S, 6001, b"\x80\xc8\0\6" + bytes([0, 0, 0, 7]) + rnd.randbytes(20))))
        for k in range(200)
    ]
    assert document(analyse([pcap(tmp_path / "a.pcap", sorted(noise + control))]))["media"] == []
