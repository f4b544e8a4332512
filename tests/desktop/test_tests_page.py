"""Tests on purpose in the window: how they went, and one asked now."""

import numpy as np
import pytest

from tests.desktop.test_kept_waits import opened, settle
from yaffle.analysis import analyse
from yaffle.desktop.survey.station import TESTS
from yaffle.desktop.window.station_rail import SURVEY
from yaffle.history.layout import HOUR_NS, PROBES
from yaffle.history.probe_rows import rows_of
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.session.catalogue_values import choices, groups, over_time, titles
from yaffle.session.evidence import Evidence
from yaffle.session.probe_courses import probe_courses

START_NS = 1_773_100_800 * 10**9


def result(at, ok=True, trip=20.0, **more):
    why = "" if ok else "unanswered within 2 s"
    return {
        "kind": "reach",
        "target": "192.0.2.9",
        "at_ns": at,
        "ok": ok,
        "why": why,
        "round_trip_ms": trip if ok else None,
        **more,
    }


@pytest.fixture
def tested(tmp_path):
    writer = HistoryWriter(tmp_path / "h", now_ns=lambda: START_NS + 3 * HOUR_NS, settle=False)
    for name, bad in (("pier", 3), ("quay", 0)):
        told = [result(START_NS + k * 60 * 10**9, k >= bad, 20.0 + k % 5) for k in range(60)]
        writer.append_rows(PROBES, rows_of(name, told))
    both = [
        result(START_NS + 10**9, kind="speed", direction=way, bps=1e6, there_ms={"min": 1.0})
        for way in ("there", "back")
    ]
    writer.append_rows(PROBES, rows_of("speed", both))
    writer.close()
    return tmp_path / "h"


def test_courses_are_the_worst_first(tested, tmp_path):
    found = probe_courses(History(tested), START_NS, START_NS + HOUR_NS)
    assert [(one.name, one.direction) for one in found] == [
        ("pier", ""),
        ("quay", ""),
        ("speed", "back"),
        ("speed", "there"),
    ]
    pier = found[0]
    assert pier.sent == 60 and pier.failed_share == pytest.approx(0.05) and pier.median_ms == 22 and pier.p95_ms == 24
    assert "unanswered" in pier.last_why
    assert probe_courses(History(tested), START_NS + 5 * HOUR_NS, START_NS + 6 * HOUR_NS) == []
    HistoryWriter(tmp_path / "empty").close()
    assert probe_courses(History(tmp_path / "empty"), 0, 1) is None and probe_courses(None, 0, 1) is None


def test_measures_of_tests_over_time(tested):
    evidence = Evidence(analyse([tested]))
    names = [name for name in titles(evidence.analysis) if name.startswith("test ")]
    assert names == ["test round trip", "test failures", "test throughput", "test MOS"]
    known = ["pier", "quay", "speed", "speed back", "speed there"]
    assert groups(evidence, names[0], "test") == choices(evidence.analysis)[names[1]] == known
    edge_ns = START_NS + np.arange(7) * 600 * 10**9
    trips, failures = (over_time(evidence, name, "test", "pier", edge_ns) for name in names[:2])
    assert over_time(evidence, "test throughput", "test", "speed back", edge_ns)[0] == 1e6
    assert np.isnan(over_time(evidence, "test throughput", "test", "pier", edge_ns)).all()
    assert trips.tolist() == [22.0] * 6 or trips[1:].tolist() == [22.0] * 5
    assert failures.tolist() == pytest.approx([30.0, 0, 0, 0, 0, 0])


def test_the_page_and_a_test_asked_now(qtbot, tested):
    window = opened(qtbot, [tested])
    window.go(SURVEY)
    window.survey.parts.setCurrentIndex(TESTS)
    settle(qtbot, window)
    panel = window.survey.tests
    qtbot.waitUntil(lambda: panel.table.model().rowCount() == 4, timeout=30_000)
    assert "1 of them with failures" in panel.words.text()
    cells = [str(panel.table.model().index(0, c).data()) for c in range(11)]
    assert cells[:3] == ["pier", "reach", "192.0.2.9"] and cells[5:] == [
        "5.0 %",
        "22.0 ms",
        "24.0 ms",
        "–",
        "–",
        "unanswered within 2 s",
    ]
    panel.table.selectRow(2)
    assert "failed" not in panel._words_at(1.0, 0.0)
    panel.table.selectRow(0)
    panel.now.click()
    dialog = window.testing
    assert (dialog.kind.currentText(), dialog.target.text()) == ("reach", "192.0.2.9")
    dialog.target.clear()
    dialog.ask()
    assert "Whom?" in dialog.wrong.text()
    dialog.kind.setCurrentText("connect")
    dialog.target.setText("127.0.0.1:1")
    dialog.go.click()
    qtbot.waitUntil(lambda: not dialog.busy and dialog.answers.toPlainText() != "", timeout=60_000)
    assert "refused" in dialog.answers.toPlainText()
    dialog.target.setText("127.0.0.1")
    dialog.go.click()
    qtbot.waitUntil(lambda: "which port" in dialog.wrong.text(), timeout=60_000)
    dialog.kind.setCurrentText("delay")
    dialog.target.setText("192.0.2.99")
    dialog.go.click()
    dialog.end.click()
    qtbot.waitUntil(lambda: not dialog.busy, timeout=60_000)
    dialog.close()
    window.survey.dress()


def test_a_finding_offers_the_test_that_would_settle_it(qtbot, morning):
    window = opened(qtbot, morning)
    card = window.findings.cards[0]
    card.menu.aboutToShow.emit()
    first = card.more.menu().actions()[0]
    assert first.text().startswith("Test now: connect 203.0.113.21:5432") and "It would say" in first.toolTip()
    first.trigger()
    assert (window.testing.kind.currentText(), window.testing.target.text()) == ("connect", "203.0.113.21:5432")
    window.testing.close()


def test_the_window_answers_tests_of_others(qtbot):
    import socket

    from tests.ports import free_port
    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.probing import stamp
    from yaffle.session.investigation import Investigation

    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    window.show()
    window.answer_tests()
    dialog = window.responding
    dialog.port.setText("none")
    dialog.start()
    assert "not a port" in dialog.wrong.text() and not dialog.running
    port = free_port()
    dialog.port.setText(str(port))
    dialog.start()
    qtbot.waitUntil(lambda: "answering" in dialog.words.text(), timeout=20_000)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        own.connect(("127.0.0.1", port))
        own.settimeout(5)
        own.send(stamp.ask(0, 1))
        assert stamp.read_answer(own.recv(2000)).number == 0
    dialog.stop()
    qtbot.waitUntil(lambda: not dialog.running, timeout=10_000)
    assert "answered" in dialog.words.text()
