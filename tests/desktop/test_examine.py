from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtWidgets import QApplication

from tests.frames import SYN, C, S, ether, ip, pcap, tcp, udp
from tests.ledger.test_simulated import simulate
from yaffle.demo.morning import Request
from yaffle.demo.network import MS
from yaffle.desktop.shared import theme
from yaffle.desktop.window.main_window import MainWindow
from yaffle.session.investigation import Investigation, Opened


def settle(window, qtbot):
    """Waits until everything that is shown has been computed."""
    qtbot.waitUntil(lambda: not window.busy, timeout=240_000)


@pytest.fixture
def window(qtbot):
    theme.apply(QApplication.instance(), theme.LIGHT)  # Another test may have left it dark.
    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    window.show()
    yield window
    window.task.stop()
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)


def load(window, qtbot, paths, **options):
    window.load(paths, **options)
    settle(window, qtbot)


@pytest.fixture
def lossy(tmp_path) -> Path:
    return simulate(
        tmp_path / "lossy.pcapng",
        [Request(300, 20 * MS, 200_000, 50 * MS) for _ in range(3)],
        loss=0.04,
        delay_ms=20,
        seed=4,
        near_client=False,
    )[0]


def test_the_plots_share_their_time_and_say_what_limited_the_sender(window, qtbot, lossy):
    load(window, qtbot, [lossy])
    window.go(3)
    flow = window.examine.flow
    assert "server limited by" in flow.words.text()
    assert "loss recovery" in flow.words.text()
    assert flow.times.to_client.data.size > 10
    flow.kinds.button(1).click()
    assert flow.times.flight.getData()[0].size > 10
    assert flow.times.to_client.data.size == 0
    flow.sequence.setXRange(0.1, 0.3, padding=0)
    qtbot.waitUntil(lambda: flow.rate.text().startswith("in view, 200 ms: throughput"))
    assert flow.times.getPlotItem().vb.viewRange()[0] == pytest.approx(flow.sequence.getPlotItem().vb.viewRange()[0])
    assert flow.strip._words_at(0.2, 0.5).strip()
    assert flow.strip._words_at(1e6, 0.5) == ""


def test_each_kind_of_segment_has_its_mark_and_a_click_finds_the_packet(window, qtbot, lossy):
    load(window, qtbot, [lossy])
    window.go(3)
    plot = window.examine.sequence
    assert plot._parts["fast retransmission"].getData()[0].size >= 2
    assert plot._parts["sacked"].getData()[0].size >= 2
    connection = window.investigation.connection
    t, left, right = connection.sack_blocks(1)
    assert (right > left).all()
    assert (left >= 0).all()
    assert right.max() <= connection.segments["e"][connection.segments["d"] == 1].max()
    assert (np.diff(t) >= 0).all()
    row = int(np.flatnonzero((connection.segments["d"] == 1) & (connection.segments["n"] > 0))[5])
    x = (int(connection.segments["t"][row]) - int(connection.segments["t"][0])) / 1e9
    window.investigation.select_segment(plot._nearest(x, float(connection.segments["s"][row])))
    assert window.investigation.segment >= 0
    assert window.examine.packet_table.currentIndex().isValid()


def test_a_tunnel_and_what_the_way_said_stand_with_the_connection(window, qtbot, tmp_path):
    inner = [tcp(C, 40000, S, 80, 7, 0, SYN), tcp(C, 40000, S, 80, 7, 0, SYN)]
    packets = [
        (k * 10**9, ether(ip("192.0.2.1", "192.0.2.2", 47, b"\x20\0\x08\0\0\0\0\x2a" + p))) for k, p in enumerate(inner)
    ]
    packets.append((2 * 10**9, ether(ip("192.0.2.254", C, 1, b"\x03\x0d\0\0\0\0\0\0" + inner[0][:28]))))
    load(window, qtbot, [pcap(tmp_path / "a.pcap", packets)])
    window.investigation.examine(0)
    window.go(3)
    assert "inside GRE 42, 192.0.2.1 to 192.0.2.2" in window.examine._title.text()
    assert "administratively prohibited" in window.examine._verdict.text()


def test_goodput_counts_each_byte_once(window, qtbot, lossy):
    load(window, qtbot, [lossy])
    window.go(3)
    connection = window.investigation.connection
    first, last = int(connection.segments["t"][0]), int(connection.segments["t"][-1])
    throughput, goodput = connection.rate_bps(1, first, last)
    assert throughput > goodput > 0
    assert goodput * (last - first) / 8e9 == pytest.approx(600_000, rel=0.01)


def test_sources_are_named_while_they_are_read(window, qtbot, lossy):
    window.load([lossy])
    assert window.gather._title.text() == "Reading 1 source"
    assert window.gather.table_model.index(0, 0).data() == "lossy.pcapng"
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    assert "seen from 1 point" in window.gather._title.text()


def test_a_growing_capture_is_read_again_and_the_focus_stays(window, qtbot, lossy, tmp_path):
    whole = lossy.read_bytes()
    growing = tmp_path / "growing.pcapng"
    growing.write_bytes(whole[: len(whole) // 2])
    load(window, qtbot, [growing])
    before = window.investigation.evidence.analysis.capture.packets.time_ns.size
    window.investigation.look(window.investigation.focus.with_filter("wait_ms > 1"))
    settle(window, qtbot)
    window.files.follow_growth(True)
    window.files.look_for_growth()
    assert window.task.job is None
    growing.write_bytes(whole)
    window.files.look_for_growth()
    assert window.task.job is not None
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    assert window.investigation.evidence.analysis.capture.packets.time_ns.size > before
    assert window.investigation.focus.filter == "wait_ms > 1"
    window.files.follow_growth(False)
    qtbot.waitUntil(lambda: not window.files._timer.isActive(), timeout=60_000)


def test_who_was_told_to_wait_is_let_in_before_the_next_look(window, qtbot, lossy, tmp_path):
    whole = lossy.read_bytes()
    growing = tmp_path / "growing.pcapng"
    growing.write_bytes(whole[: len(whole) // 2])
    load(window, qtbot, [growing])
    window.files.follow_growth(True)
    growing.write_bytes(whole[: len(whole) * 3 // 4])
    window.files.look_for_growth()
    window.files.save_case(tmp_path / "kept.yaffle")  # A look is under way: it is said, and
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    growing.write_bytes(whole)
    window.files.look_for_growth()
    assert window.task.job is None  # the next look waits for the one who was told so.
    window.files.save_case(tmp_path / "kept.yaffle")
    qtbot.waitUntil(lambda: (tmp_path / "kept.yaffle" / "manifest.json").exists(), timeout=60_000)
    qtbot.waitUntil(lambda: window.task.job is None, timeout=60_000)
    qtbot.waitUntil(
        lambda: window.investigation.evidence.analysis.capture.sources[0].size_bytes == len(whole), timeout=60_000
    )
    window.files.follow_growth(False)
    qtbot.waitUntil(lambda: not window.files._timer.isActive(), timeout=60_000)


def test_a_followed_capture_is_told_provisionally_until_it_rests(window, qtbot, lossy, tmp_path):
    whole = lossy.read_bytes()
    growing = tmp_path / "growing.pcapng"
    growing.write_bytes(whole[: len(whole) // 2])
    load(window, qtbot, [growing])
    window.files.follow_growth(True)
    growing.write_bytes(whole)
    qtbot.waitUntil(lambda: window.investigation.evidence.analysis.provisional, timeout=60_000)
    assert "still grows" in window.gather._title.text()
    qtbot.waitUntil(lambda: not window.investigation.evidence.analysis.provisional, timeout=60_000)
    assert "still grows" not in window.gather._title.text()
    assert window.investigation.evidence.analysis.capture.sources[0].size_bytes == len(whole)
    growing.write_bytes(whole + whole[-4:])
    qtbot.waitUntil(lambda: window.investigation.evidence.analysis.provisional, timeout=60_000)
    window.files.follow_growth(False)
    qtbot.waitUntil(lambda: not window.investigation.evidence.analysis.provisional, timeout=60_000)
    qtbot.waitUntil(lambda: not window.files._timer.isActive(), timeout=60_000)


def test_while_captures_grow_findings_are_those_so_far(window, qtbot, analysed_morning):
    window.investigation.open(Opened(replace(analysed_morning, provisional=True)))
    settle(window, qtbot)
    assert window.findings._title.text().endswith("so far)")


def test_what_is_not_tcp_is_listed_with_its_answers(window, qtbot, tmp_path):
    packets = [
        (1, udp(C, 5000, S, 53, b"q")),
        (9_000_001, udp(S, 53, C, 5000, b"a")),
        (20_000_000, udp(C, 5001, S, 53, b"q")),
    ]
    load(window, qtbot, [pcap(tmp_path / "names.pcap", [(t, ether(p)) for t, p in packets])])
    window.go(1)
    settle(window, qtbot)
    cells = [window.survey.others.columns.index(0, c).data() for c in range(4)]
    assert cells == ["names, UDP", "9.00 ms", "9.00 ms", "1"]


def test_the_dark_theme_draws_everything_again(window, qtbot, lossy):
    load(window, qtbot, [lossy])
    window.go(3)
    window.switch_theme()
    assert theme.current().name == "dark"
    assert "limited by" in window.examine.flow.words.text()
    window.switch_theme()
