"""Octets over one TCP connection for a time: how fast they came, and what their sender's kernel had to repeat."""

import json
import socket
import threading
import time
from struct import unpack_from
from typing import Any

from yaffle.probing.host_work import host_work, per_second

_PIECE = bytes(128 << 10)
_LONGEST_REPORT = 1024
_LATE_S = 10.0
_WARM, _WARM_S = 0.25, 2.0  # Of a run so much, and at most so long, is left out: slow start.
_STEP_S = 0.5


def kernel_counts(own: socket.socket) -> dict[str, int]:
    """What the kernel counts of a sender (struct tcp_info); empty where it is older."""
    told = own.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 512)
    if len(told) < 216:
        return {}
    sent, again = unpack_from("=QQ", told, 200)
    return {"octets_sent": sent, "octets_again": again, "segments_out": unpack_from("=I", told, 136)[0],
            "segments_again": unpack_from("=I", told, 100)[0], "mss": unpack_from("=I", told, 16)[0],
            "path_mtu": unpack_from("=I", told, 60)[0]}  # fmt: skip


def send_octets(own: socket.socket, seconds: float, ended: threading.Event) -> dict[str, Any]:
    """Sends for a time, then a report as the last line; gives it."""
    own.settimeout(_STEP_S)
    until, work = time.monotonic() + seconds, host_work()
    while time.monotonic() < until and not ended.is_set():
        try:
            own.send(_PIECE)
        except TimeoutError:
            continue
    report: dict[str, Any] = kernel_counts(own) | per_second(work, host_work())
    own.settimeout(_LATE_S)
    own.sendall(b"\n" + json.dumps(report).encode() + b"\n")
    return report


def receive_octets(own: socket.socket, seconds: float, ended: threading.Event) -> dict[str, Any]:
    """Reads until the other side reports: octets, how long they took and their rate without the first part, and what
    the sender said.
    """
    own.settimeout(_STEP_S)
    room, work = bytearray(1 << 20), host_work()
    began = first = time.monotonic()
    warm = seconds - max(0.0, seconds - min(_WARM_S, _WARM * seconds))
    count, at_warm, warm_s, last, tail = 0, 0, 0.0, began, b""
    while time.monotonic() - began < seconds + _LATE_S and not ended.is_set():
        try:
            size = own.recv_into(room)
        except TimeoutError:
            continue
        if not size:
            break
        now = time.monotonic()
        first = first if count else now
        count += size
        if not warm_s and now - first >= warm:
            at_warm, warm_s = count, now
        tail = (tail + bytes(room[max(0, size - _LONGEST_REPORT) : size]))[-_LONGEST_REPORT:]
        if tail.endswith(b"\n") and tail.count(b"\n") >= 2:
            break
        last = now
    report = _report(tail)
    span = last - warm_s if warm_s and last > warm_s else last - first
    octets = count - at_warm if warm_s and last > warm_s else count
    told = {"bytes": count, "seconds": last - first, "bps": 8 * octets / span if span > 0 else 0.0, "sender": report}
    return told | per_second(work, host_work())


def _report(tail: bytes) -> dict[str, Any]:
    line = tail.rstrip(b"\n").rpartition(b"\n")[2]
    try:
        told = json.loads(line)
    except ValueError:
        return {}
    return told if isinstance(told, dict) else {}
