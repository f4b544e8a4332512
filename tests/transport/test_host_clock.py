"""Each host's own clock: a longer way shows as extra delay, a slow host does not."""

import numpy as np
import pytest

from yaffle.transport.host_clock import extra_delays
from yaffle.transport.segments import empty_segments

MS = 1_000_000


def segments(sent_ns, delay_ns, tick_ns=MS, side=1, drift=0.0):
    g = empty_segments(len(sent_ns))
    g.view(np.uint8)[:] = 0
    g["d"] = side
    g["t"] = np.array(sent_ns) + np.array(delay_ns)
    g["tsv"] = (np.array(sent_ns) * (1 + drift)).astype(np.int64) // tick_ns
    return g


def extras(g):
    out = np.empty((2, g.size), np.int64)
    extra_delays(g, out)
    return out


def test_the_tick_of_each_clock_is_told():
    for tick_ns in (MS, 4 * MS, 10 * MS):
        g = segments(np.arange(200) * 20 * MS, np.full(200, 5 * MS), tick_ns)
        assert extra_delays(g, np.empty((2, g.size), np.int64)) == (0, tick_ns)


@pytest.mark.parametrize("tick_ns", [MS, 4 * MS, 10 * MS])
def test_a_longer_way_shows_within_a_tick_and_a_half(tick_ns):
    sent = np.arange(200) * 20 * MS
    delay = np.where((np.arange(200) >= 80) & (np.arange(200) < 120), 60 * MS, 10 * MS)
    found = extras(segments(sent, delay, tick_ns))[1]
    assert (np.abs(found - (delay - 10 * MS)) <= 1.5 * tick_ns).all()


def test_a_host_that_pauses_is_not_a_longer_way():
    sent = np.cumsum(np.where(np.arange(100) % 10 == 0, 700 * MS, 5 * MS))
    assert (extras(segments(sent, np.full(100, 15 * MS)))[1] == 0).all()


def test_the_other_sides_packets_and_those_without_timestamps_are_marked():
    g = segments(np.arange(50) * 10 * MS, np.full(50, 5 * MS))
    g["tsv"][7] = -1
    found = extras(g)
    assert (found[0] == -1).all()
    assert found[1][7] == -1


def test_drift_over_minutes_does_not_pass_for_a_longer_way():
    sent = np.arange(400) * 1000 * MS
    found = extras(segments(sent, np.full(400, 20 * MS), drift=50e-6))[1]
    assert found.max() <= 2 * MS


def test_a_clock_of_no_known_rate_tells_nothing():
    g = segments(np.arange(60) * 20 * MS, np.full(60, 5 * MS), tick_ns=37_000)
    assert (extras(g) == -1).all()
    short = segments(np.arange(3) * MS, np.full(3, 5 * MS))
    assert (extras(short) == -1).all()


def test_an_acknowledgement_that_is_stamped_ahead_tells_nothing():
    """As of a host that spreads ten packets of data over 20 ms, and acknowledges meanwhile."""
    sent = np.concatenate([np.arange(10), [15], 30 + np.arange(300)]) * MS
    g = segments(sent, np.full(sent.size, 10 * MS))
    g["n"] = 1000
    g["n"][10] = 0
    g["tsv"][10] += 20
    found = extras(g)[1]
    assert found[10] == -1
    assert (np.delete(found, 10) == 0).all()


@pytest.mark.parametrize("far", [True, False])
def test_one_that_is_early_because_it_took_less_tells_the_least_way(far):
    """Without data of its own lately, or by no more than is usual, it is not stamped ahead."""
    sent = np.concatenate([np.arange(10), [150 if far else 15], 300 + np.arange(300)]) * MS
    delay = np.full(sent.size, 21 * MS if far else 11 * MS)
    delay[10] = 10 * MS
    g = segments(sent, delay)
    g["n"] = 1000
    g["n"][10] = 0
    assert extras(g)[1].tolist() == [(11 * MS if far and i != 10 else 0) for i in range(sent.size)]
