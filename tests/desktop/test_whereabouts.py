"""The pages of addresses and of connections in Survey."""

import socket
import time

import pytest

from yaffle.collector.sock_diag import SocketWatch
from yaffle.collector.socket_owners import owners
from yaffle.collector.socket_snapshot import Snapshots, is_wanted, read_snapshot, want, write_snapshot
from yaffle.desktop.survey.sockets_panel import SocketsPanel
from yaffle.desktop.survey.whereabouts_panel import WhereaboutsPanel
from yaffle.findings.suffering import suffering
from yaffle.findings.whereabouts import ADDRESS, PORT, TextChange, Whereabout, Whereabouts

S = 10**9
NOW = 1_790_000_000 * S
FOUND = Whereabouts(
    [
        Whereabout(
            ADDRESS, "router", "desks", "198.51.100.140", "02:00:00:00:00:02", NOW - 60 * S, NOW, "before: 02:…:01"
        ),
        Whereabout(PORT, "switch", "port 4", "02:00:00:00:00:01", "", NOW - 7200 * S, NOW - 3600 * S),
        Whereabout(PORT, "switch", "uplink", "quay", "eth0", NOW - 7200 * S, NOW),
    ],
    [TextChange("switch", "ports", NOW - 50 * S, "port 4 crane", "port 4 spare")],
)


def cells(panel, column):
    model = panel.table.model()
    return [model.index(row, column).data() for row in range(model.rowCount())]


def test_changes_come_first_and_can_be_asked_for_alone(qtbot):
    panel = WhereaboutsPanel()
    qtbot.addWidget(panel)
    panel.show()
    assert "yaffle collect" in panel.words.text() and not panel.search.isVisible()
    panel.show_whereabouts(FOUND, NOW)
    assert "3 places, 2 changed" in panel.words.text()
    assert cells(panel, 0) == ["198.51.100.140", "02:00:00:00:00:01", "quay"]
    assert cells(panel, 1) == ["02:00:00:00:00:02", "", "port eth0"]
    assert cells(panel, 5)[0] == "still there" and cells(panel, 5)[1] != "still there"
    assert panel.text.toPlainText() == "- port 4 crane\n+ port 4 spare"
    panel.changed_only.setChecked(True)
    assert cells(panel, 0) == ["198.51.100.140"]
    panel.changed_only.setChecked(False)
    panel.search.setText("switch uplink")
    assert cells(panel, 0) == ["quay"]
    panel.dress()
    assert cells(panel, 0) == ["quay"]


@pytest.fixture
def talking():
    """A connection whose receiver does not read."""
    with socket.create_server(("127.0.0.1", 0)) as listening:
        near = socket.create_connection(listening.getsockname())
        far, _ = listening.accept()
        near.setblocking(False)
        with near, far:
            yield near, far


def fill(near):
    for _ in range(200):
        try:
            near.send(bytes(100_000))
        except BlockingIOError:
            time.sleep(0.005)


def test_connections_are_shown_while_somebody_looks(qtbot, tmp_path, talking):
    near, far = talking
    assert not is_wanted(tmp_path) and read_snapshot(tmp_path) is None
    want(tmp_path)
    assert is_wanted(tmp_path)
    with SocketWatch() as watch:
        snapshots = Snapshots("pier-office")
        snapshots.table(watch.sockets(), {}, NOW)
        fill(near)
        write_snapshot(tmp_path, snapshots.table(watch.sockets((6, 17)), owners(), NOW + S))
    panel = SocketsPanel()
    qtbot.addWidget(panel)
    assert "No connections here" in panel.words.text()
    panel.watch(tmp_path)
    panel.show()
    qtbot.waitUntil(lambda: "pier-office" in panel.words.text(), timeout=10_000)
    port = near.getsockname()[1]
    panel.search.setText(f"127.0.0.1:{port}")
    assert len(cells(panel, 0)) == 2 and all("python" in name or "pytest" in name for name in cells(panel, 0))
    assert any("not read" in text for text in cells(panel, 8))
    panel.suffering.setChecked(True)
    assert cells(panel, 8) and all(cells(panel, 8))
    panel.suffering.setChecked(False)
    panel.search.setText(f"listening {far.getsockname()[1]}")
    assert not cells(panel, 0)
    panel.listening.setChecked(True)
    assert cells(panel, 2) == [""]
    panel.pace.setCurrentText("paused")
    panel._set_timer()
    assert not panel._timer.isActive()
    panel.hide()


QUIET = {
    "listening": False, "transport": "TCP", "timeouts_rise": 0, "retransmissions_rise": 0, "busy_us_rise": 1000,
    "receiver_limited_us_rise": 0, "sender_limited_us_rise": 0, "floor_us": 5000, "round_trip_us": 6000,
    "receive_queue": 0, "send_queue": 0, "drops": 0,
}  # fmt: skip


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ({}, ""),
        ({"retransmissions_rise": 3}, "loss: 3 sent again"),
        ({"timeouts_rise": 2, "retransmissions_rise": 3}, "timeouts: 2"),
        ({"receiver_limited_us_rise": 800}, "receiver has no room: 80 %"),
        ({"sender_limited_us_rise": 700}, "own send buffer: 70 %"),
        ({"round_trip_us": 105_000}, "queue on the path: +100 ms"),
        ({"round_trip_us": 105_000, "busy_us_rise": 0}, ""),
        ({"receive_queue": 512 << 10}, "not read: 512 KiB"),
        ({"drops": 4, "transport": "UDP"}, "no room: 4 dropped"),
        ({"listening": True, "receive_queue": 120, "send_queue": 128}, "queue full: 120 of 128"),
        ({"listening": True, "receive_queue": 3, "send_queue": 128}, ""),
    ],
)
def test_what_it_suffers_from(told, words):
    assert suffering({**QUIET, **told}) == words
