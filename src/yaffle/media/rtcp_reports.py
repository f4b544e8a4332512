"""What the ends of a stream said of it by RTCP (RFC 3550 section 6.4), and the round trips that follow from it.

A receiver's report gives back the stamp of the sender's report it last had, and how long ago that was. Seen at a point
in between, the time from the sender's report to the receiver's, less that delay, is the round trip from here to the
receiver.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from yaffle.capture.captured import Capture
from yaffle.capture.first_bytes import Beginnings
from yaffle.capture.payload import Payload
from yaffle.progress import Progress, go_on, step
from yaffle.protocols.rtcp import KINDS, reports

_MOST_STAMPS = 1_000_000
_LOOK = 4096  # Packets between two looks whether to go on.


@dataclass
class Said:
    """Of one stream, as its ends told it where a point could hear them. -1: not told."""

    sender_packets: int = -1
    reports: int = 0  # of receivers
    lost: int = 0
    worst_fraction: float = 0.0  # lost between two reports
    jitter_ticks: int = 0  # the greatest
    round_trip_ns: int = -1  # from here to the receiver and back, the least

    def as_fields(self, clock_hz: int) -> dict[str, Any]:
        """For the stream."""
        return {
            "said_packets": self.sender_packets, "reports": self.reports, "reported_lost": self.lost,
            "reported_worst": self.worst_fraction,
            "reported_jitter_ns": self.jitter_ticks * 1e9 / max(1, clock_hz), "round_trip_ns": self.round_trip_ns,
        }  # fmt: skip


def said_of_streams(
    capture: Capture, payload: Payload, begun: Beginnings, progress: Progress = go_on
) -> dict[tuple[int, int], Said]:
    """By SSRC and point. Raises Cancelled when `progress` says so."""
    kind = (begun.first >> 16) & 255
    rows = begun.rows[(begun.first >> 30 == 2) & (kind >= KINDS.start) & (kind < KINDS.stop)]
    packets, flows = capture.packets, capture.conversations
    found: dict[tuple[int, int], Said] = {}
    stamps: dict[tuple[int, int, int], int] = {}  # SSRC, stamp, point: when it passed
    for k, row in enumerate(rows[np.argsort(packets.time_ns[rows], kind="stable")].tolist()):
        if k % _LOOK == 0:
            step(progress, k / rows.size, "listening to what receivers say")
        told = reports(payload.of_packet(row))
        if told is None:
            continue
        point, time_ns = int(flows.point[packets.flow[row]]), int(packets.time_ns[row])
        for sent in told[0]:
            found.setdefault((sent.ssrc, point), Said()).sender_packets = sent.packets
            if len(stamps) < _MOST_STAMPS:
                stamps[sent.ssrc, sent.stamp, point] = time_ns
        for got in told[1]:
            own = found.setdefault((got.ssrc, point), Said())
            own.reports += 1
            own.lost, own.worst_fraction, own.jitter_ticks = (
                max(own.lost, got.lost),
                max(own.worst_fraction, got.fraction),
                max(own.jitter_ticks, got.jitter),
            )
            began = stamps.get((got.ssrc, got.last_report, point)) if got.last_report else None
            if (
                began is not None
                and (trip := time_ns - began - got.delay_ns) >= 0
                and (own.round_trip_ns < 0 or trip < own.round_trip_ns)
            ):
                own.round_trip_ns = trip
    return found
