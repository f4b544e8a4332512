"""The pages of addresses and of connections in Survey."""

import socket
import time

import pytest

from yaffle.collector.host_reader import HostReader
from yaffle.collector.sock_diag import SocketWatch
from yaffle.collector.socket_owners import owners
from yaffle.collector.socket_snapshot import (
    INTERFACES_FILE,
    SOCKETS_FILE,
    Snapshots,
    interfaces_now,
    is_wanted,
    read_snapshot,
    want,
    write_snapshot,
)
from yaffle.desktop.survey.sockets_panel import SocketsPanel
from yaffle.desktop.survey.whereabouts_panel import WhereaboutsPanel
from yaffle.findings.suffering import details, suffering
from yaffle.findings.whereabouts import ADDRESS, PORT, DeviceText, Whereabout, Whereabouts
from yaffle.records.counter_table import COUNTS
from yaffle.session.live_rates import LiveRates

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
    [DeviceText("switch", "ports", NOW - 50 * S, "port 4 crane", "port 4 spare")],
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
    assert "3 entries of 2 devices in the period, 2 changes" in panel.words.text()
    assert cells(panel, 0) == ["198.51.100.140", "02:00:00:00:00:01", "quay"]
    assert cells(panel, 1) == ["02:00:00:00:00:02", "", "port eth0"]
    assert cells(panel, 5)[0] == "present" and cells(panel, 5)[1] != "present"
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
    assert not is_wanted(tmp_path) and read_snapshot(tmp_path, SOCKETS_FILE) is None
    want(tmp_path)
    assert is_wanted(tmp_path)
    with SocketWatch() as watch:
        snapshots = Snapshots("pier-office")
        snapshots.table(watch.sockets(), {}, NOW)
        fill(near)
        write_snapshot(tmp_path, SOCKETS_FILE, snapshots.table(watch.sockets((6, 17)), owners(), NOW + S))
    write_snapshot(tmp_path, INTERFACES_FILE, interfaces_now(HostReader("pier-office")))
    panel = SocketsPanel()
    qtbot.addWidget(panel)
    assert "No connections here" in panel.words.text()
    panel.watch(tmp_path)
    panel.show()
    qtbot.waitUntil(lambda: "pier-office" in panel.words.text(), timeout=10_000)
    port = near.getsockname()[1]
    names = [panel.interfaces.model().index(row, 0).data() for row in range(panel.interfaces.model().rowCount())]
    assert "lo" in names
    panel.search.setText(f"127.0.0.1:{port}")
    assert len(cells(panel, 0)) == 2 and all("python" in name or "pytest" in name for name in cells(panel, 0))
    assert any("not read by the process" in text for text in cells(panel, 8))
    panel.table.selectRow(0)
    for words in ("congestion window", "delivery rate", "receive queue", "(process ", "user "):
        assert words in panel.details.text()
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


def snapshot(second, octets, interrupts, name="eth0"):
    counted = dict.fromkeys(COUNTS, 0) | {"in_octets": octets, "in_unicast": octets // 100, "in_errors": second}
    return [
        {"time_ns": NOW + second * S, "name": name, "speed_bps": 10**9, "interrupts": interrupts,
         "soft_interrupts": interrupts / 2, **counted}
    ]  # fmt: skip


def test_rates_over_the_last_seconds():
    rates = LiveRates()
    assert not rates.rows and rates.interrupts == (0, 0)
    for second in range(60):
        rates.add(snapshot(second, 1000 * min(second, 50), 10.0 * second))
    (one,) = rates.rows
    assert one.in_bps == (0, pytest.approx(800), pytest.approx(6200)) and one.out_bps == (0, 0, 0)
    assert one.in_packets == pytest.approx(1) and one.errors == 10
    assert rates.interrupts == (pytest.approx(10), pytest.approx(5))
    rates.add(snapshot(59, 5, 590.0))  # The same moment again.
    assert rates.rows == [one]
    rates.add(snapshot(60, 5, 3.0))  # Started again.
    assert rates.rows[0].in_bps == (0, 0, 0)


QUIET = {
    "listening": False, "transport": "TCP", "timeouts_rise": 0, "retransmissions_rise": 0, "busy_us_rise": 1000,
    "receiver_limited_us_rise": 0, "sender_limited_us_rise": 0, "floor_us": 5000, "round_trip_us": 6000,
    "receive_queue": 0, "send_queue": 0, "drops": 9, "drops_rise": 0,
}  # fmt: skip


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ({}, ""),
        ({"retransmissions_rise": 3}, "3 retransmissions"),
        ({"timeouts_rise": 2, "retransmissions_rise": 3}, "2 timeouts (RTO)"),
        ({"receiver_limited_us_rise": 800}, "receive-window-limited 80 %"),
        ({"sender_limited_us_rise": 700}, "send-buffer-limited 70 %"),
        ({"round_trip_us": 105_000}, "RTT 100 ms above minimum"),
        ({"round_trip_us": 105_000, "busy_us_rise": 0}, ""),
        ({"receive_queue": 512 << 10}, "512 KiB not read by the process"),
        ({"drops_rise": 4, "transport": "UDP"}, "4 dropped (socket buffer full)"),
        ({"listening": True, "receive_queue": 120, "send_queue": 128}, "accept queue 120 of 128"),
        ({"listening": True, "receive_queue": 3, "send_queue": 128}, ""),
    ],
)
def test_what_it_suffers_from(told, words):
    assert suffering({**QUIET, **told}) == words


def test_the_details_of_a_socket_add_up_and_say_whose_it_is():
    told = {
        **QUIET, "process": 7, "program": "webd", "unit": "webd.service", "state": "established", "user": 33,
        "window": 10,
        "segment": 1448, "delivery_rate": 125_000, "acknowledged": 5000, "received": 300, "not_sent": 0,
        "busy_us": 1_000_000,
        "receiver_limited_us": 250_000, "sender_limited_us": 500_000,
    }  # fmt: skip
    words = details(told)
    assert words.startswith("webd (process 7, webd.service); TCP, established, user 33; congestion window 10 segments")
    assert "1.00 Mbit/s" in words and "25 % receive-window-limited, 50 % send-buffer-limited, the rest network" in words
    assert "process unknown" in details({**told, "process": 0, "busy_us": 0})
    assert "accept queue 3 of 128" in details({**told, "listening": True, "receive_queue": 3, "send_queue": 128})
