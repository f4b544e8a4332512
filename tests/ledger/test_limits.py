import numpy as np

from tests.ledger.test_simulated import simulate
from yaffle.analysis import analyse
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.ledger.limits import APPLICATION, CONGESTION, PACE, RECEIVER, REPAIR
from yaffle.session.evidence import Evidence
from yaffle.session.examine import Connection


def shares(path, side=1):
    connection = Connection(Evidence(analyse([path])), 0)
    limits = connection.limits(side)
    found = np.zeros(5)
    np.add.at(found, limits.what, limits.to_ns - limits.from_ns)
    return found / max(1, found.sum()), connection


def test_a_server_that_pauses_between_answers_is_its_applications_limit(tmp_path):
    path, _ = simulate(tmp_path / "a.pcapng", [Request(300, 5 * MS, 3000, 400 * MS) for _ in range(5)])
    assert shares(path)[0][APPLICATION] > 0.8


def test_a_full_window_is_the_receivers_limit(tmp_path):
    path, _ = simulate(
        tmp_path / "a.pcapng", [Request(200, 5 * MS, 300_000, 0)], delay_ms=5, buffer_bytes=32_768, read_bps=800_000
    )
    assert shares(path)[0][RECEIVER] > 0.5


def test_a_narrow_line_is_the_paths_pace(tmp_path):
    path, _ = simulate(
        tmp_path / "a.pcapng",
        [Request(200, 5 * MS, 400_000, 0)],
        rate_bps=2_000_000,
        queue_bytes=400_000,
        near_client=False,
    )
    assert shares(path)[0][PACE] > 0.6


def test_loss_shows_as_repair_and_growth_as_congestion_control(tmp_path):
    path, _ = simulate(
        tmp_path / "a.pcapng", [Request(200, 5 * MS, 300_000, 0)], loss=0.04, delay_ms=25, seed=4, near_client=False
    )
    assert shares(path)[0][REPAIR] > 0.2
    path, _ = simulate(tmp_path / "b.pcapng", [Request(200, 5 * MS, 300_000, 0)], delay_ms=40, near_client=False)
    found, connection = shares(path)
    assert found[CONGESTION] > 0.6
    allowed = connection.limits(1).allowed_bytes
    own = connection.segments["d"] == 1
    assert (
        allowed[own & (connection.segments["n"] > 0)]
        >= connection.segments["flight"][own & (connection.segments["n"] > 0)]
    ).all()
    assert (allowed[~own] == 0).all()
