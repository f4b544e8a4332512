"""What the network and the air tell: reports of switches and frames of a radio, the demo's again and again until there
are half a million and a million. `python -m benchmarks.inside [FOLDER]` prints the time to decode them, and what comes
of reports (ways, queues), as ratios to a checksum of the same octets, and how many that is in a second.
"""

import hashlib
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.cyclic.streams import find_cyclic
from yaffle.demo.inside import make_inside
from yaffle.hops.reports import Datagrams, datagrams_of, report_rows, visits_of_reports
from yaffle.hops.telemetry import Telemetry
from yaffle.radio import frame_scan

REPORTS, FRAMES, ROUNDS = 500_000, 1_000_000, 3


def _best(work: Callable[[], Any]) -> float:
    took = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return min(took)


def _told(what: str, count: int, took_s: float, data: Any) -> None:
    checksum_s = _best(lambda: hashlib.md5(data, usedforsecurity=False).digest())
    print(f"{what}: {took_s / checksum_s:.2f} times the checksum, {count / took_s:,.0f} a second")


def _again(data: Any, at: Any, times: int) -> tuple[Any, Any]:
    """The same octets so many times, and where things lie in all of them."""
    places = np.tile(at, times) + np.repeat(np.arange(times) * data.size, at.size)
    return np.tile(data, times), places


def reports(path: Path) -> None:
    """Half a million reports."""
    capture = read_captures([path])
    (own,) = datagrams_of(capture, Payload(capture))
    times = REPORTS // int(report_rows(own)[0][:, 1].max() + 1) + 1
    data, at = _again(np.asarray(own.data), own.at, times)
    span = int(own.heard_ns.max() - own.heard_ns.min()) + 10**9
    heard = np.tile(own.heard_ns, times) + np.repeat(np.arange(times) * span, own.at.size)
    told = Datagrams(data, at, np.tile(own.size, times), heard)
    count = int(report_rows(told)[0][:, 1].max()) + 1
    _told(f"{count:,} reports decoded", count, _best(lambda: report_rows(told)), data)
    _told("with the visits of packets", count, _best(lambda: visits_of_reports([told])), data)

    def whole() -> None:
        found = Telemetry(visits_of_reports([told]))
        print(len(found.flows), "flows,", len(found.congestion), "stretches", end="; ")

    _told("and ways, delays, queues", count, _best(whole), data)


def frames(path: Path) -> None:
    """A million frames."""
    capture = read_captures([path])
    packets = capture.packets
    data = np.asarray(Payload(capture).sources[0])
    times = FRAMES // packets.position.size + 1
    whole, at = _again(data, packets.position.astype(np.int64), times)
    captured = np.tile(packets.captured_bytes.astype(np.int64), times)
    link = np.full(at.size, capture.sources[0].interfaces[0].link_type, np.int64)
    rows, out = np.arange(at.size), np.zeros((at.size, frame_scan.COLUMNS), np.int64)
    count = frame_scan.scan_frames(whole, at, captured, link, rows, out)
    took = _best(lambda: frame_scan.scan_frames(whole, at, captured, link, rows, out))
    _told(f"{count:,} frames decoded", count, took, whole)


def cycles(path: Path) -> None:
    """Cyclic streams of a capture, again and again."""
    capture = read_captures([path])
    payload = Payload(capture)
    assert len(find_cyclic(capture, payload, capture.packets.time_ns, set())) == 4
    took = _best(lambda: find_cyclic(capture, payload, capture.packets.time_ns, set()))
    _told("cyclic streams found, with their cycles", capture.packets.flow.size, took, path.read_bytes())


def main() -> None:
    """Prints all."""
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "bench-data")
    switches, air, _, ramp = make_inside(folder)
    reports(switches)
    frames(air)
    cycles(ramp)


if __name__ == "__main__":
    main()
