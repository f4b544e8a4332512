"""A capture as a task of the collector."""

import os
import socket
import time

import pytest

from tests.collector.test_collector import collecting, configured, until
from tests.live.test_capturing import packets_of
from tests.real.two_kernels import available
from yaffle.collector.status import status_of

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
