"""What passes a capture now: means by host, pair, application and port, shown and hidden by keys."""

import time

import numpy as np
import pytest
from PySide6.QtCore import Qt

from tests.desktop.test_kept_waits import opened, settle
from tests.live.test_capturing import tcp_frame
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.desktop.survey.station import PASSING
from yaffle.desktop.window.station_rail import SURVEY
from yaffle.inventory.places import Places
from yaffle.session.live_packets import APPLICATION, HOST, PAIR, PORT, LivePackets
from yaffle.session.live_rates import OVER_S

ONE, TWO, THREE = "192.0.2.1", "198.51.100.9", "192.0.2.2"
NOW = 1_800_000_000 * 10**9


def write(ring, number, packets):
    path = ring / f"{number:08d}-x.pcapng"
    frames = []
    for at, source, target, ports, size in packets:
        frame = bytearray(tcp_frame(source, target, ports[0], bytes(size)))
        frame[36:38] = ports[1].to_bytes(2, "big")
        frames.append((at, len(frame), bytes(frame)))
    write_pcapng(path, frames)


def made(seconds, now=NOW):
    """Each second 1,000 octets from ONE to TWO, 500 back, and once in ten seconds 2,000 from THREE."""
    found = []
    for k in range(seconds):
        at = now - (k + 1) * 10**9 + 5
        found += [(at, ONE, TWO, (40_000, 443), 946), (at + 9, TWO, ONE, (443, 40_000), 446)]
        if k % 10 == 3:
            found.append((at + 20, THREE, TWO, (40_001, 5432), 1946))
    return sorted(found)


def test_means_are_those_of_a_plain_sum_over_files_that_follow_each_other(tmp_path):
    packets = made(60)
    write(tmp_path, 1, packets[:70])
    live = LivePackets(tmp_path)
    live.look()
    write(tmp_path, 2, packets[70:])
    live.look()
    live.look()
    for by, name, sent, received in (
        (HOST, ONE, (ONE, TWO), (TWO, ONE)), (HOST, TWO, (TWO, None), (None, TWO)),
        (PAIR, f"{ONE} and {TWO}", (ONE, TWO), (TWO, ONE)),
        (PORT, "TCP 443", (ONE, TWO), (TWO, ONE)), (APPLICATION, "database", (THREE, TWO), (TWO, THREE)),
    ):  # fmt: skip
        rows = {one.name: one for one in live.passing(by, Places({}), NOW)}
        own = rows[name]
        for place, seconds in enumerate(OVER_S):
            for ends, told in ((sent, own.first_bps), (received, own.second_bps)):
                octets = sum(
                    size + 54
                    for at, source, target, _, size in packets
                    if NOW - seconds * 10**9 <= at and ends[0] in (None, source) and ends[1] in (None, target)
                )
                assert told[place] == pytest.approx(octets * 8 / seconds), (by, name, seconds)
    live.close()
    assert live.passing(HOST, Places({}), NOW + 60 * 10**9) == []


def test_the_page_is_worked_by_keys(qtbot, tmp_path):
    ring = tmp_path / "ring"
    ring.mkdir()
    now = time.time_ns() // 10**9 * 10**9
    write(ring, 1, made(50, now))
    window = opened(qtbot, [ring])
    assert window.files.ring == ring
    window.go(SURVEY)
    window.survey.parts.setCurrentIndex(PASSING)
    panel = window.survey.passing
    qtbot.waitUntil(lambda: panel.table.model().rowCount() == 3, timeout=20_000)
    panel.still.setChecked(True)

    def heads():
        model = panel.table.model()
        return [model.headerData(k, Qt.Orientation.Horizontal) for k in range(model.columnCount())]

    assert heads() == ["host", *(f"{way}, {s} s" for way in ("sent", "received") for s in OVER_S)]
    panel.table.setFocus()
    for key in (Qt.Key.Key_2, Qt.Key.Key_4, Qt.Key.Key_R):
        qtbot.keyClick(panel.table, key)
    assert heads() == ["host", "sent, 10 s"]
    qtbot.keyClick(panel.table, Qt.Key.Key_H)
    assert not panel.still.isChecked()
    qtbot.keyClick(panel.table, Qt.Key.Key_B)
    qtbot.waitUntil(lambda: heads()[0] == "pair" and panel.table.model().rowCount() == 2, timeout=20_000)
    names = [str(panel.table.model().index(r, 0).data()) for r in range(2)]
    assert f"{ONE} and {TWO}" in names
    panel.still.setChecked(True)
    panel.table.selectRow(names.index(f"{ONE} and {TWO}"))
    assert np.isfinite(panel._rows[0].weight)
    qtbot.keyClick(panel.table, Qt.Key.Key_Return)
    settle(qtbot, window)
    window.go(SURVEY)
    window.survey.watch(None)
    assert "Nothing is captured here" in panel.words.text() and not panel.by.isVisible()


def test_now_goes_along_until_another_period_is_chosen(qtbot, tmp_path):
    ring = tmp_path / "ring"
    ring.mkdir()
    packets = made(60)
    write(ring, 1, packets[:60])
    window = opened(qtbot, [ring])
    window.files.follow_growth(True)
    window.go_to_now()
    model = window.investigation
    settle(qtbot, window)
    assert model.focus.period == (packets[0][0], packets[59][0])

    def grown(number, some):
        write(ring, number, some)
        window.files.look_for_growth()
        qtbot.waitUntil(lambda: model.evidence.last_ns == some[-1][0], timeout=60_000)
        settle(qtbot, window)

    grown(2, packets[60:90])
    assert model.focus.period[1] == packets[89][0]
    followed = window.files._followed
    chosen = (packets[10][0], packets[20][0])
    model.look(model.focus.with_period(chosen))
    grown(3, packets[90:])
    assert model.focus.period == chosen
    assert window.files._followed is followed and followed.paths[-1].name.startswith("00000003")
    window.files.follow_growth(False)
    settle(qtbot, window)
