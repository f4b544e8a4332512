"""Video in MPEG transport streams (ISO/IEC 13818-1), in RTP (RFC 2250) or in datagrams alone: continuity and clock
references.

Every packet of 188 bytes with a payload counts its PID's continuity counter up by one, modulo 16; what the counter
leaves out is lost (a multiple of 16 cannot be seen). A packet that repeats the counter is a copy. Clock references
(PCR, 27 MHz) are compared with when they arrived: what they come later than the line through the earliest ones is their
jitter (overall jitter of ETSI TR 101 290), and the steepness of that line how the encoder's clock drifts against the
capture's.
"""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Int64s, Int64s2, Uint8s
from yaffle.capture.captured import Capture
from yaffle.capture.first_bytes import Beginnings
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.kernels import int64, kernel
from yaffle.media.calls import ends_of
from yaffle.transport.envelope import line_below

CELL, SYNC = 188, 0x47
_RTP_TYPE = 33
_RTP_HEADER = 12
LEAST_DATAGRAMS = 8
_PIDS, _NULL_PID = 8192, 8191
_PCR_HZ, _PCR_WRAP = 27_000_000, (1 << 33) * 300
_LEAST_SPAN_NS = 2_000_000_000
_LEAST_REFERENCES = 8


@dataclass(frozen=True)
class Program:
    """One transport stream at one point."""

    source: str
    destination: str
    point: int
    first_ns: int
    last_ns: int
    cells: int  # packets of 188 bytes
    lost: int  # by continuity, at least
    loss_events: int
    copies: int
    damaged: int  # marked so by who sent them
    pids: list[tuple[int, int, int]]  # PID, packets, lost
    references: int  # PCR of the PID that has most
    jitter_ns: tuple[float, float]  # of the references: mean and greatest; -1 where too few
    drift_ppm: float | None  # of the encoder's clock against the capture's
    rate_bps: float
    dscp: int

    @property
    def packets(self) -> int:
        """As streams call it."""
        return self.cells

    @property
    def expected(self) -> int:
        """What was sent, as far as the counters tell."""
        return self.cells - self.copies + self.lost


@kernel
def _cells(
    rows: Int64s,
    skips: Int64s,
    packets: Columns,
    number: int,
    buf: Uint8s,
    last: Int64s,
    counts: Int64s,
    lost: Int64s,
    out: Int64s,
    references: Int64s2,
) -> int:
    """Walks through the cells of one stream. last: counter of each PID, -1 at first; out: loss events, copies,
    damaged; returns references filled (row of datagram, PID, PCR).
    """
    found = 0
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        at = packets.position[row] + int64(packets.payload_at[row]) + skips[k]
        kept = (
            min(
                int64(packets.head[row].payload),
                int64(packets.captured_bytes[row]) - int64(packets.payload_at[row]),
            )
            - skips[k]
        )
        end = min(at + kept, int64(buf.size))
        while at + 188 <= end and buf[at] == 0x47:
            pid = (int64(buf[at + 1]) & 31) << 8 | int64(buf[at + 2])
            control, counter = int64(buf[at + 3]) >> 4 & 3, int64(buf[at + 3]) & 15
            if buf[at + 1] & 0x80:
                out[2] += 1
            counts[pid] += 1
            fresh = False
            if control & 2 and buf[at + 4] > 0:
                fresh = buf[at + 5] & 0x80 != 0  # The counter may begin anew here.
                if buf[at + 5] & 0x10 and buf[at + 4] >= 7 and found < references.shape[0]:
                    base = int64(0)
                    for b in range(4):
                        base = base << 8 | int64(buf[at + 6 + b])
                    base = base << 1 | int64(buf[at + 10]) >> 7
                    references[found, 0], references[found, 1] = row, pid
                    references[found, 2] = base * 300 + ((int64(buf[at + 10]) & 1) << 8 | int64(buf[at + 11]))
                    found += 1
            if control & 1 and pid != 8191:
                if last[pid] >= 0 and not fresh:
                    step = (counter - last[pid]) & 15
                    if step == 0:
                        out[1] += 1
                    elif step > 1:
                        lost[pid] += step - 1
                        out[0] += 1
                last[pid] = counter
            at += 188
    return found


def find_programs(capture: Capture, payload: Payload, begun: Beginnings) -> list[Program]:
    """All transport streams, in order of when they began."""
    packets = capture.packets
    rows, first = begun.rows, begun.first
    size = packets.payload_bytes[rows].astype(np.int64)
    bare = (first >> 24 == SYNC) & (size >= CELL) & (size % CELL == 0)
    in_rtp = (
        (first >> 30 == 2)
        & ((first >> 16) & 127 == _RTP_TYPE)
        & (size >= _RTP_HEADER + CELL)
        & ((size - _RTP_HEADER) % CELL == 0)
    )
    rows, skips = rows[bare | in_rtp], np.where(in_rtp, _RTP_HEADER, 0)[bare | in_rtp].astype(np.int64)
    if rows.size < LEAST_DATAGRAMS:
        return []
    key = packets.flow[rows].astype(np.int64) * 2 + packets.direction[rows]
    order = np.lexsort((packets.time_ns[rows], key))
    found = []
    for part in np.split(order, np.flatnonzero(np.diff(key[order])) + 1):
        if part.size >= LEAST_DATAGRAMS:
            one = _program(capture, payload, rows[part], skips[part])
            if one is not None:
                found.append(one)
    return sorted(found, key=lambda one: one.first_ns)


def _program(capture: Capture, payload: Payload, rows: Int64s, skips: Int64s) -> Program | None:
    packets, flows = capture.packets, capture.conversations
    last, counts, lost, out = (
        np.full(_PIDS, -1, np.int64),
        np.zeros(_PIDS, np.int64),
        np.zeros(_PIDS, np.int64),
        np.zeros(3, np.int64),
    )
    references, filled = np.zeros((rows.size * 8, 3), np.int64), 0
    for number, source in enumerate(payload.sources):
        if source is not None:
            filled += _cells(rows, skips, packets, number, source, last, counts, lost, out, references[filled:])
    cells = int(counts.sum())
    kept = (
        np.minimum(
            packets.payload_bytes[rows].astype(np.int64),
            packets.captured_bytes[rows].astype(np.int64) - packets.payload_at[rows],
        )
        - skips
    )
    if cells * 10 < 9 * int((kept // CELL).sum()) or not cells or counts[_NULL_PID] == cells:
        return None  # Not filled with cells: the first bytes were one by chance.
    flow, row = int(packets.flow[rows[0]]), int(rows[0])
    source_end, destination = ends_of(flows, flow, bool(packets.direction[row]))
    times = packets.time_ns[rows]
    references = references[:filled]
    jitter, drift, number_of = _clocked(packets.time_ns[references[:, 0]], references)
    span_s = max(1, int(times[-1] - times[0])) / 1e9
    return Program(
        source_end, destination, int(flows.point[flow]), int(times[0]), int(times[-1]), cells, int(lost.sum()),
        int(out[0]), int(out[1]), int(out[2]),
        [
            (int(pid), int(counts[pid]), int(lost[pid]))
            for pid in np.argsort(-counts, kind="stable")[:32]
            if counts[pid]
        ],
        number_of, jitter, drift,
        cells * CELL * 8 / span_s, int(np.bincount(packets.tos[rows] >> 2).argmax()),
    )  # fmt: skip


def _clocked(arrived_ns: Int64s, references: Int64s2) -> tuple[tuple[float, float], float | None, int]:
    """(mean and greatest jitter in ns, drift in ppm, number) of the clock references of the PID that has most."""
    if not references.size:
        return (-1.0, -1.0), None, 0
    pids, counts = np.unique(references[:, 1], return_counts=True)
    own = references[:, 1] == pids[counts.argmax()]
    arrived, clock = arrived_ns[own], references[own, 2]
    steps = (np.diff(clock) + _PCR_WRAP // 2) % _PCR_WRAP - _PCR_WRAP // 2
    whole = np.flatnonzero(
        np.abs(steps) > _PCR_HZ
    )  # A reference that jumps by over a second is another clock: the longest stretch counts.
    cuts = np.concatenate([[0], whole + 1, [clock.size]])
    longest = int(np.diff(cuts).argmax())
    arrived, steps = arrived[cuts[longest] : cuts[longest + 1]], steps[cuts[longest] : cuts[longest + 1] - 1]
    if arrived.size < _LEAST_REFERENCES:
        return (-1.0, -1.0), None, int(arrived.size)
    told_ns = np.concatenate([[0.0], np.cumsum(steps)]) * (1e9 / _PCR_HZ)
    late = (arrived - arrived[0]) - told_ns
    slope = 0.0
    if arrived[-1] - arrived[0] >= _LEAST_SPAN_NS:
        slope = line_below(told_ns, late)[1]
    late = late - slope * told_ns
    late -= late.min()
    return (
        (float(late.mean()), float(late.max())),
        -slope * 1e6 if slope or arrived[-1] - arrived[0] >= _LEAST_SPAN_NS else None,
        int(arrived.size),
    )
