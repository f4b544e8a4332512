"""A capture as a task of the collector."""

import os
import socket
import time

import pytest

from tests.collector.test_collector import collecting, configured, until
from tests.live.test_capturing import packets_of
from tests.real.two_kernels import available
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.capture.ring_folder import files_of, is_ring, with_rings
from yaffle.collector.status import status_of
from yaffle.desktop.window.capturing_here import CaptureDialog
from yaffle.desktop.window.main_window import MainWindow
from yaffle.live.capturing import interfaces_here
from yaffle.session.investigation import Investigation

REAL = pytest.mark.skipif(bool(available()), reason=available() or "can")


@REAL
def test_a_capture_runs_is_mended_and_ends_with_the_collector(tmp_path):
    path = configured(
        tmp_path, '[[capture]]\ninterface = "lo"\nring = "ring"\nlimit_bytes = "16MiB"\nslice = 96\nports = [9]\n'
    )
    history, ring = tmp_path / "history", tmp_path / "ring"

    def task():
        return next((one for one in status_of(history)["tasks"] if one["task"] == "capture"), {})

    with collecting(path):
        until(lambda: list(ring.glob("*.pcapng")) and task().get("state") == "running", "no capture")
        before = set(ring.glob("*.pcapng"))
        killed = [entry for entry in os.listdir("/proc") if entry.isdigit() and is_child(entry, str(ring))]
        for process in killed:
            os.kill(int(process), 9)
        until(lambda: set(ring.glob("*.pcapng")) - before, "not begun again")
        until(lambda: task()["state"] == "running", "not running again")
        time.sleep(0.2)
        talk()
        until(lambda: any(b"to nobody" in one for one in packets_of(ring)[0]), "nothing captured")
    assert not [entry for entry in os.listdir("/proc") if entry.isdigit() and is_child(entry, str(ring))]


def talk():
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        own.sendto(b"to nobody", ("127.0.0.1", 9))


def is_child(process, ring):
    try:
        with open(f"/proc/{process}/cmdline", "rb") as told:
            words = told.read()
    except OSError:
        return False
    return b"yaffle.live.child" in words and ring.encode() in words


@REAL
def test_an_interface_that_is_not_there_is_a_state_with_a_reason(tmp_path):
    path = configured(tmp_path, '[[capture]]\ninterface = "nope7"\nring = "ring"\n')
    with collecting(path):
        history = tmp_path / "history"
        told = until(
            lambda: (
                (history / "collector.json").exists()
                and [one for one in status_of(history)["tasks"] if one["state"] == "waiting"]
            ),
            "no reason",
        )
        assert "there is no such interface" in told[0]["why"]


def test_a_ring_is_opened_and_followed_as_its_files_come_and_go(tmp_path, qtbot):
    ring = tmp_path / "ring"
    ring.mkdir()
    write(ring / "00000001-a.pcapng", 1)
    write(ring / "00000002-b.pcapng", 2)
    (ring / "00000003-c.pcapng").write_bytes(b"")
    assert is_ring(ring) and files_of(ring) == [ring / "00000001-a.pcapng", ring / "00000002-b.pcapng"]
    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    window.load([ring])
    qtbot.waitUntil(lambda: packets(window) == 3, timeout=60_000)
    files = window.files
    files.follow_growth(True)
    (ring / "00000001-a.pcapng").unlink()
    write(ring / "00000003-c.pcapng", 5)
    files.look_for_growth()
    qtbot.waitUntil(lambda: packets(window) == 7, timeout=60_000)
    files.follow_growth(False)
    qtbot.waitUntil(lambda: not window.busy and window.task.job is None, timeout=60_000)
    assert not is_ring(tmp_path) and with_rings([tmp_path / "x"]) == [tmp_path / "x"]


def write(path, count):
    frames = [(10**18 + k, 60, bytes(12) + b"\x08\x00" + bytes(46)) for k in range(count)]
    write_pcapng(path, frames)


def packets(window):
    evidence = window.investigation.evidence
    return -1 if evidence is None else evidence.analysis.capture.packets.time_ns.size


@REAL
def test_the_window_captures_here_and_follows(tmp_path, qtbot):
    window = MainWindow(Investigation())
    qtbot.addWidget(window)
    dialog = CaptureDialog(window)
    qtbot.addWidget(dialog)
    dialog.interface.setCurrentIndex(interfaces_here().index("lo"))
    dialog.folder.setText(str(tmp_path / "ring"))
    for part, wrong, words in (
        (dialog.hosts, "pier", "no address"), (dialog.ports, "x", "not a port"), (dialog.slice, "3", "snap length"),
        (dialog.most, "a lot", "no amount"), (dialog.longest, "soon", "a duration"), (dialog.folder, "", "a folder"),
    ):  # fmt: skip
        good = part.text()
        part.setText(wrong)
        dialog.accept()
        assert words in dialog._wrong.text()
        part.setText(good)
    dialog._show_rates()
    assert "lo, in " in dialog.interface.itemText(interfaces_here().index("lo"))
    dialog.ports.setText("9")
    dialog.accept()
    assert dialog.arguments[:2] == ["--interface", "lo"] and dialog.arguments[-2:] == ["--port", "9"]
    files = window.files
    files.capturer.start(dialog.kept_in, dialog.arguments)
    qtbot.waitUntil(lambda: packets(window) >= 0, timeout=60_000)
    qtbot.waitUntil(lambda: not window.busy and window.task.job is None, timeout=60_000)
    talk()
    time.sleep(0.3)
    files.look_for_growth()
    qtbot.waitUntil(lambda: packets(window) > 0, timeout=60_000)
    files.capture()  # The same command ends it.
    qtbot.waitUntil(lambda: not files.capturer.running, timeout=60_000)
    files.capturer.close()
    files.follow_growth(False)
    qtbot.waitUntil(lambda: not window.busy and window.task.job is None, timeout=60_000)
