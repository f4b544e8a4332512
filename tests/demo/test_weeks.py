"""The demo's four weeks: the same each time, and what is said of them is true."""

import itertools

import numpy as np

from yaffle.demo import weeks


def test_the_hours_are_the_same_each_time_and_lines_carry_what_they_can():
    one, two = (list(itertools.islice(weeks.hours(), 6)) for _ in range(2))
    for left, right in zip(itertools.chain(*one), itertools.chain(*two), strict=True):
        assert all((left.flows[name] == right.flows[name]).all() for name in left.flows)
        assert left.router == right.router
    speeds = {router: speed for _, router, speed in weeks.SITES.values()}
    for told in itertools.chain(*one):
        line = told.counters["interface"] == weeks.LINE
        rates = np.diff(told.counters["out_octets"][line]) * 8 / 60
        assert rates.max() <= speeds[told.router]
        assert (told.flows["first_ns"] < told.flows["last_ns"]).all()
        assert (told.flows["first_ns"] >= told.start_ns).all()


def test_the_copy_fits_the_night_at_first_and_not_in_the_third_week():
    line = weeks.SITES["Saltmarsh"][2] * 0.95 / 8
    night_s = 4.5 * 3600  # from 01:00 until the desks open
    assert weeks.archive_bytes(7) / line < night_s
    assert all(weeks.archive_bytes(day) / line > night_s for day in range(14, weeks.MENDED_DAY))
    assert weeks.archive_bytes(weeks.MENDED_DAY) / line < 600
