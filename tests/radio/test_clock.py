"""Frames' times by the radio's clock, tied to the host's: against clocks that are known."""

import numpy as np
import pytest

from tests.cyclic.feeds import S0
from tests.frames import pcap
from tests.radio import air
from tests.radio.air import AP1
from yaffle.analysis import analyse
from yaffle.radio.clock import tie

US, MS, S = 1000, 10**6, 10**9
ONE_RADIO = np.zeros(4000, np.int64)


def heard(count=4000, ppm=30.0, start_us=77_000_000, seed=1):
    """(true ns, radio's us, when the host noted them): it is 20 us late at least, now and then by milliseconds."""
    random = np.random.default_rng(seed)
    true = S0 + np.cumsum(random.exponential(5 * MS, count)).astype(np.int64)
    radio = start_us + ((true - S0) * (1 + ppm * 1e-6) / US).astype(np.int64)
    late = (
        20 * US + random.exponential(30 * US, count) + (random.random(count) < 0.05) * random.exponential(3 * MS, count)
    )
    return true, radio, np.maximum.accumulate(true + late.astype(np.int64))


@pytest.mark.parametrize("ppm", [0.0, 45.0, -200.0])
def test_times_are_the_radios_whatever_the_host_did(ppm):
    true, radio, noted = heard(ppm=ppm)
    found = tie(radio, noted, ONE_RADIO)
    off = found.times_ns - true
    assert np.abs(noted - true).max() > 5 * MS and np.abs(off - np.median(off)).max() < 8 * US
    assert np.median(off) < 25 * US and abs(found.drift_ppm - abs(ppm)) < 1 and found.leaps == found.untied == 0
    assert (found.times_ns <= noted).all() and len(found.words) == 1


def test_a_clock_that_leaps_is_tied_anew_and_a_wild_frame_keeps_the_hosts_time():
    true, radio, noted = heard()
    radio[1700:] -= 40_000_000  # The interface was brought up again.
    radio[2500], radio[2600] = 5, 1 << 62
    radio[3000] += 300_000  # Wild by less than a host may be late.
    found = tie(radio, noted, ONE_RADIO)
    off = np.abs(found.times_ns - true)
    kept = np.ones(4000, bool)
    kept[[2500, 2600, 3000]] = False
    assert found.leaps >= 1 and (off[kept] < 40 * US).mean() > 0.98 and off.max() < 40 * MS
    assert found.times_ns[2500] == noted[2500] and found.untied >= 1


def test_without_one_clock_the_hosts_times_stand():
    _, radio, noted = heard()
    for clock in (np.full(4000, 77), np.random.default_rng(2).integers(0, 1 << 62, 4000), np.full(4000, -1)):
        found = tie(clock, noted, ONE_RADIO)
        assert (found.times_ns == noted).all() and not found.late_ns.size and not found.leaps
        assert bool(found.words) == (np.unique(clock).size > 1)  # A clock that stands is none.
    assert (tie(radio[:40], noted[:40], ONE_RADIO[:40]).times_ns == noted[:40]).all()
    assert tie(radio[:0], noted[:0], ONE_RADIO[:0]).times_ns.size == 0


def test_two_radios_have_clocks_of_their_own():
    true, radio, noted = heard()
    which = np.arange(4000) % 2
    radio = np.where(which == 1, radio + 123_456_789, radio)
    found = tie(radio, noted, which)
    assert np.abs(found.times_ns - true).max() < 40 * US


def test_a_steady_stream_on_the_air_is_as_steady_as_the_radio_heard_it(tmp_path):
    random = np.random.default_rng(3)
    frames = []
    for k in range(3000):
        at = S0 + k * 10 * MS
        head = air.radiotap(clock=900 + (at - S0) // US)
        late = 20 * US + int(random.exponential(2 * MS))
        frames.append((at + late, head + air.data(True, AP1, k % 4096, b"x" * 60)))
    frames.sort(key=lambda one: one[0])
    path = tmp_path / "air.pcap"
    pcap(path, frames, 127)
    analysis = analyse([path])
    (stream,) = analysis.cyclic
    assert stream.missed == stream.doubled == 0 and stream.jitter_ns[2] < 10 * US
    assert any("by the radio's clock" in note for note in analysis.radio.notes)
