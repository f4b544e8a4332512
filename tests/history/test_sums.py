"""Sums of flow records: nothing is lost or made, whatever the interval; the plain way gives the same."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yaffle.history.layout import LEVELS, Level
from yaffle.history.sums import service_ends, spread, summed
from yaffle.records.flow_table import empty_flows

S = 10**9
MINUTE, HOUR = LEVELS[1], LEVELS[3]


def some_flows(seed, count=300, hosts=20):
    rng = np.random.default_rng(seed)
    rows = empty_flows(count)
    rows["exporter"] = rng.integers(0, 3, count)
    rows["src_lo"], rows["dst_lo"] = rng.integers(1, hosts, count), rng.integers(1, hosts, count)
    rows["src_port"], rows["dst_port"], rows["transport"] = (
        rng.integers(40_000, 60_000, count),
        rng.choice([53, 80, 443], count),
        6,
    )
    rows["first_ns"] = rng.integers(0, 7200 * S, count)
    rows["last_ns"] = rows["first_ns"] + rng.integers(0, 1800 * S, count)
    rows["arrived_ns"] = rows["last_ns"] + S
    rows["octets"], rows["packets"] = rng.integers(0, 10**7, count), rng.integers(1, 10**4, count)
    return rows


def plain_spread(rows, width_ns):
    """By interval: bytes as fractions."""
    found = {}
    for row in rows:
        first, last = int(row["first_ns"]), max(int(row["last_ns"]), int(row["first_ns"]) + 1)
        for k in range(first // width_ns, (last - 1) // width_ns + 1):
            share = (min(last, (k + 1) * width_ns) - max(first, k * width_ns)) / (last - first)
            found[k] = found.get(k, 0.0) + int(row["octets"]) * share
    return found


@pytest.mark.parametrize("width_s", [60, 900, 3600])
def test_bytes_fall_into_the_intervals_of_the_plain_way(width_s):
    rows = some_flows(width_s)
    cut = spread(rows, width_s * S)
    wanted = plain_spread(rows, width_s * S)
    sums = {}
    for start, octets in zip((cut.begin_ns // (width_s * S)).tolist(), cut.octets.tolist(), strict=True):
        sums[start] = sums.get(start, 0) + octets
    for k, octets in wanted.items():
        assert abs(sums[k] - octets) <= rows.size  # Rounded to whole bytes, record by record.


@given(st.integers(0, 10**6), st.sampled_from([60, 900, 3600, 86_400]), st.integers(1, 40))
@settings(max_examples=40, deadline=None)
def test_nothing_is_lost_or_made(seed, width_s, most):
    rows = some_flows(seed, 60)
    found = summed(rows, Level("x", "", width_s * S, width_s * S, 1, most))
    for name in ("octets", "packets", "records"):
        assert found[name].sum() == rows[name].sum()
        for exporter in range(3):
            assert found[name][found["exporter"] == exporter].sum() == rows[name][rows["exporter"] == exporter].sum()


def test_the_largest_keep_their_addresses_and_the_rest_is_put_together():
    rows = some_flows(5, 400, hosts=50)
    rows["first_ns"], rows["last_ns"], rows["exporter"] = 0, S, 0
    found = summed(rows, Level("x", "", 60 * S, 3600 * S, 1, 10))
    named = found[found["src_lo"] > 0]
    assert named.size == 10
    rest = found[found["src_lo"] == 0]
    assert rest.size >= 1
    assert set(rest["dst_lo"].tolist()) == {0}


def test_sums_of_sums_are_those_of_the_records():
    rows = some_flows(7)
    by_minutes, at_once = summed(summed(rows, MINUTE), HOUR), summed(rows, HOUR)
    keys = [
        [(r["first_ns"], r["exporter"], r["src_lo"], r["dst_lo"], r["src_port"], r["dst_port"]) for r in table]
        for table in (by_minutes, at_once)
    ]
    one, two = (
        dict(zip(key, table["octets"].tolist(), strict=True))
        for key, table in zip(keys, (by_minutes, at_once), strict=True)
    )
    assert one.keys() == two.keys()
    assert all(abs(one[k] - two[k]) <= 400 for k in one)


def test_the_clients_port_is_left_out_once_and_for_all():
    rows = empty_flows(4)
    rows["transport"] = [6, 17, 1, 6]
    rows["src_port"], rows["dst_port"] = [50_000, 53, 0, 0], [443, 40_000, 2048, 80]
    one, two = service_ends(rows)
    assert (one.tolist(), two.tolist()) == ([0, 53, 0, 0], [443, 0, 2048, 80])
    rows["src_port"], rows["dst_port"] = one, two
    again = service_ends(rows)
    assert (again[0].tolist(), again[1].tolist()) == (one.tolist(), two.tolist())
