"""How much is captured without a loss: packets a second, and octets a second as a ratio to writing the same octets.

Needs root and network namespaces. python -m benchmarks.capture [SECONDS]
"""

import ctypes
import json
import os
import shutil
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

_AT_ONCE = 256


def _run(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True)


class _Sender:
    """Sends the same frame over and over, many with one call (sendmmsg(2)), at a rate or as fast as it can."""

    def __init__(self, size: int) -> None:
        self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        self._socket.setsockopt(263, 20, 1)  # Past the queue of the device.
        self._socket.bind(("eth", 0))
        frame = bytes(12) + b"\x08\x00" + bytes([0x45]) + bytes(size - 15)
        self._frame = ctypes.create_string_buffer(frame, size)
        part = struct.pack("PN", ctypes.addressof(self._frame), size)
        self._part = ctypes.create_string_buffer(part, len(part))
        one = struct.pack("PIPNPNi4xI4x", 0, 0, ctypes.addressof(self._part), 1, 0, 0, 0, 0)
        self._messages = ctypes.create_string_buffer(one * _AT_ONCE)
        self._libc = ctypes.CDLL(None, use_errno=True)

    def send(self, seconds: float, rate: int) -> int:
        """How many were sent."""
        count, began = 0, time.monotonic()
        while (now := time.monotonic()) - began < seconds:
            if rate and count > rate * (now - began):
                time.sleep(0.0005)
                continue
            done = self._libc.sendmmsg(self._socket.fileno(), self._messages, _AT_ONCE, 0)
            count += max(0, done)
        return count


def _captured(far: str, ring: Path, size: int, slice_bytes: int, rate: int, seconds: float) -> tuple[int, dict]:
    words = ["ip", "netns", "exec", far, sys.executable, "-m", "yaffle", "capture", "--interface", "eth"]
    shutil.rmtree(ring, ignore_errors=True)
    process = subprocess.Popen(
        [*words, "--ring", str(ring), "--slice", str(slice_bytes), "--json", "-"], stdout=subprocess.PIPE, text=True
    )
    while not list(ring.glob("*.pcapng")):
        time.sleep(0.02)
    sent: list[int] = []
    senders = 1 if rate else 2
    threads = [threading.Thread(target=lambda: sent.append(_Sender(size).send(seconds, rate))) for _ in range(senders)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    return sum(sent), json.loads(process.communicate()[0])


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 4.0
    if os.geteuid():
        print("capture: needs root to make network namespaces")
        return
    near, far = (f"yaffle-bench-{end}" for end in ("near", "far"))
    with tempfile.TemporaryDirectory(dir=".") as place:
        try:
            for space in (near, far):
                _run("ip", "netns", "add", space)
            _run("ip", "link", "add", "eth", "netns", near, "type", "veth", "peer", "name", "eth", "netns", far)
            for space in (near, far):
                _run("ip", "-n", space, "link", "set", "eth", "up", "arp", "off")
            handle = os.open(f"/run/netns/{near}", os.O_RDONLY)
            ctypes.CDLL(None).setns(handle, 0x40000000)  # This thread and those it begins send from there.
            for size, slice_bytes, rates in (
                (128, 128, (200_000, 600_000, 0)),
                (1514, 262_144, (200_000, 400_000, 0)),
            ):
                for rate in rates:
                    sent, told = _captured(far, Path(place) / "ring", size, slice_bytes, rate, seconds)
                    lost = told["dropped"] + told["unwritten"]
                    print(
                        f"{size} octets, {sent / seconds / 1e3:,.0f} k/s,"
                        f" {sent * min(size, slice_bytes) / seconds / 1e6:,.0f} MB/s: {told['captured']:,} captured,"
                        f" {lost:,} lost ({100 * lost / max(1, sent):.2f} %)",
                        flush=True,
                    )
            began, path = time.monotonic(), Path(place) / "plain"
            _run("dd", "if=/dev/zero", f"of={path}", "bs=1M", "count=1500")
            print(f"writing plainly: {1500 * 1.048576 / (time.monotonic() - began):,.0f} MB/s")
        finally:
            for space in (near, far):
                subprocess.run(["ip", "netns", "del", space], check=False, capture_output=True)


if __name__ == "__main__":
    main()
