"""The hosts page of Survey, on a history that a collector writes."""

import json

import pyarrow as pa
import pytest

from yaffle.collector.readings import SCHEMA
from yaffle.desktop.gather.station import _collector_words
from yaffle.desktop.survey.hosts_panel import HostsPanel, figure
from yaffle.findings.host_readings import host_readings
from yaffle.history.layout import READINGS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter

START, S = 1_790_000_000 // 3600 * 3600 * 10**9, 10**9


@pytest.fixture
def history(tmp_path):
    writer = HistoryWriter(tmp_path / "history", settle=False)
    told = []
    for k in range(60):
        told += [
            (START + k * S, "pier-office", "IPv4", "udp no ports", 100.0 * max(0, k - 30), "datagrams"),
            (START + k * S, "pier-office", "", "tcp timeouts", 5.0, "timeouts"),
            (START + k * S, "pier-office", "", "memory available", 8e9, "bytes"),
        ]
    columns = list(zip(*told, strict=True))
    writer.append_rows(
        READINGS, pa.table([pa.array(v, f.type) for v, f in zip(columns, SCHEMA, strict=True)], schema=SCHEMA)
    )
    writer.close()
    return tmp_path / "history"


def text(panel, row, column):
    return panel.table.model().index(row, column).data()


def test_what_moved_comes_first_and_can_be_found(qtbot, history):
    panel = HostsPanel()
    qtbot.addWidget(panel)
    panel.show()
    panel.show_hosts(host_readings(History(history), START, START + 60 * S), START, START + 60 * S)
    assert [text(panel, row, 1) for row in range(3)] == ["memory available", "udp no ports", "tcp timeouts"]
    assert text(panel, 0, 5) == "8.00 GB"
    assert text(panel, 1, 4) == "100 datagrams/s"
    assert "count anew" not in panel.words.text()
    panel.search.setText("a port that nobody")
    assert panel.table.model().rowCount() == 1
    assert "udp no ports of pier-office IPv4: came for a port" in panel.plot.head.quantity
    panel.search.setText("nothing of the kind")
    assert panel.table.model().rowCount() == 0
    panel.search.clear()
    panel.table.selectRow(2)
    assert "tcp timeouts" in panel.plot.head.quantity
    panel.dress()
    assert "tcp timeouts" in panel.plot.head.quantity  # The same number is shown again.


def test_without_any_it_says_how_to_get_some(qtbot):
    panel = HostsPanel()
    qtbot.addWidget(panel)
    assert "yaffle collect" in panel.words.text()
    assert not panel.search.isVisible()


@pytest.mark.parametrize(
    ("value", "unit", "words"),
    [
        (0, "bytes", "0.00 bytes"),
        (2.5e9, "bytes", "2.50 GB"),
        (0, "s", "0 s"),
        (1234.6, "packets/s", "1,235 packets/s"),
    ],
)
def test_figures_have_their_unit(value, unit, words):
    assert figure(value, unit) == words


def test_gather_says_how_the_collector_is_doing(history):
    told = {
        "trouble": "",
        "tasks": [{"task": "host", "address": "pier-office", "state": "running", "why": "", "since_ns": START}],
    }
    (history / "collector.json").write_text(json.dumps(told))
    (words,) = _collector_words(history)
    assert "host pier-office: stopped since" in words  # Nobody writes it now.
    assert "no collector is running" in words
    (history / "collector.json").write_text("<broken>")
    assert "cannot be read" in _collector_words(history)[0]
    (history / "collector.json").unlink()
    assert _collector_words(history) == []
