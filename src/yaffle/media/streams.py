"""Voice and video streams (RTP, RFC 3550) found by content: loss to the packet, loss events, jitter, reordering.

A stream is one SSRC from one host to another. Loss is what the sequence numbers lack between the lowest and the highest
that arrived: packets lost before the first or after the last cannot be known. Jitter is RFC 3550 section 6.4.1 after
each packet in order of arrival; least, mean and greatest of those values are given.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s, Int64s2, Uint8s
from yaffle.capture.captured import Capture
from yaffle.capture.first_bytes import Beginnings
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.kernels import int64, kernel
from yaffle.media.calls import Call, ends_of
from yaffle.media.rtcp_reports import Said, said_of_streams
from yaffle.media.voice_quality import CODECS, HEARD_NS, PLAYED_AFTER_NS
from yaffle.progress import Progress, go_on, step
from yaffle.transport.envelope import line_below

LEAST_PACKETS = 8
COURSE = 120  # Stretches of a stream that its course is kept in.
LEAST_ANNOUNCED = 2  # Of a stream that a session description announced.
_LEAST_GAP = 16  # Packets in a row that end a burst (RFC 3611).
_LEAST_FOR_DRIFT, _LEAST_SPAN_NS = 50, 5_000_000_000
_KINDS = {**dict.fromkeys(range(24), "audio"), **dict.fromkeys((25, 26, 28, 31, 32, 33, 34), "video")}  # RFC 3551
_LEAST_IN_ORDER = 0.8  # Of a stream's steps, so many go on by a few numbers.
_LONGEST_STREAM = (
    1 << 24
)  # Packets between the first and the last number from which numbers are not believed one by one.
_CONTROL = range(72, 77)  # RTCP packet types look like these payload types (RFC 5761 section 4).
_RATES = {
    **dict.fromkeys((0, 3, 4, 5, 7, 8, 9, 12, 13, 15, 18), 8000), 6: 16000, 10: 44100, 11: 44100, 16: 11025, 17: 22050,
    **dict.fromkeys((14, 25, 26, 28, 31, 32, 33, 34), 90000),
}  # fmt: skip
_VIDEO_HZ, _VERSION = 90_000, 2
_KNOWN_RATES = np.array([8000, 16000, 24000, 32000, 44100, 48000, 90000])


@dataclass(frozen=True)
class Media:
    """One stream."""

    ssrc: int
    source: str
    destination: str
    payload_type: int
    clock_hz: int
    packets: int
    expected: int
    lost: int
    loss_events: int  # runs of missing numbers
    longest_loss: int  # packets of the longest run
    duplicates: int
    reordered: int
    jitter_ns: tuple[float, float, float]  # least, mean, greatest
    first_ns: int
    last_ns: int
    dscp: int
    point: int
    late: int = 0  # arrived too late to be played
    gaps: int = 0  # times that a listener hears nothing, by loss or lateness
    longest_gap_ns: int = 0
    burst_ratio: float = 1.0  # mean length of losses to that of random ones (G.107)
    bursts: int = 0  # stretches in which losses lie no further apart than RFC 3611 section 4.7.2 says
    burst_density: float = 0.0  # share missing within them
    burst_ns: int = 0  # their mean length
    gap_density: float = 0.0  # share missing outside of them
    sender_ppm: float | None = (
        None  # how fast the sender's clock runs against the capture's; None where the stream is too short
    )
    codec: str = ""  # as a session description or the payload type tells it
    kind: str = (
        ""  # audio, video: as announced or registered, else by its clock (RFC 3551 section 5: video counts 90 kHz)
    )
    call: str = ""  # the call that announced it
    said_packets: int = -1  # that its sender says it sent (RTCP); -1: it said nothing
    reports: int = 0  # of receivers that were heard here
    reported_lost: int = 0
    reported_worst: float = 0.0  # greatest share lost between two reports
    reported_jitter_ns: float = 0.0
    round_trip_ns: int = -1  # from here to the receiver and back, the least
    course: tuple[
        tuple[int, float, int], ...
    ] = ()  # time, greatest jitter in ns, packets missing, of COURSE stretches as far as they hold packets

    @property
    def missing(self) -> float:
        """Share of its packets that cannot be played."""
        return min(1.0, (self.lost + self.late) / max(1, self.expected))


@kernel
def _headers(rows: Int64s, packets: Columns, number: int, buf: Uint8s, out: Int64s2) -> None:
    """Fills out[k]: sequence number, timestamp, SSRC, payload type; type -1 where it is no RTP."""
    for k in range(rows.size):
        row = rows[k]
        if packets.source[row] != number:
            continue
        at = packets.position[row] + packets.payload_at[row]
        out[k, 3] = -1
        if (
            int64(packets.captured_bytes[row]) - int64(packets.payload_at[row]) < 12
            or at + 12 > buf.size
            or buf[at] >> 6 != 2
        ):
            continue
        out[k, 0] = (int64(buf[at + 2]) << 8) | int64(buf[at + 3])
        for part, first in ((1, 4), (2, 8)):
            value = int64(0)
            for b in range(4):
                value = (value << 8) | int64(buf[at + first + b])
            out[k, part] = value
        out[k, 3] = int64(buf[at + 1]) & 127


@kernel
def fill_jitter(arrived_ns: Int64s, stamp: Int64s, clock_hz: int, jitter_ns: Float64s) -> None:
    """RFC 3550 section 6.4.1 in ns, after each packet in order of arrival; timestamps unwrapped."""
    estimate = 0.0
    for i in range(1, arrived_ns.size):
        step = abs((arrived_ns[i] - arrived_ns[i - 1]) - (stamp[i] - stamp[i - 1]) * 1e9 / clock_hz)
        estimate += (step - estimate) / 16
        jitter_ns[i] = estimate


def unwrapped(numbers: Int64s, bits: int) -> Int64s:
    """Numbers that count modulo 2^bits, each taken nearest to the one before."""
    half, whole = 1 << (bits - 1), 1 << bits
    steps = (np.diff(numbers) + half) % whole - half
    return np.asarray(numbers[0] + np.concatenate([[0], np.cumsum(steps)]))


def _clock(payload_type: int, arrived_ns: Int64s, stamp: Int64s) -> int:
    """The stream's clock: registered for static types (RFC 3551), else the common rate that fits its timestamps."""
    if payload_type in _RATES:
        return _RATES[payload_type]
    span_s = (arrived_ns[-1] - arrived_ns[0]) / 1e9
    ticks = float(stamp.max() - stamp.min())
    if span_s <= 0 or ticks <= 0:
        return 8000 if payload_type < 96 else 90000
    return int(_KNOWN_RATES[np.argmin(np.abs(np.log(_KNOWN_RATES / (ticks / span_s))))])


def find_media(
    capture: Capture, payload: Payload, begun: Beginnings, calls: Sequence[Call] = (), progress: Progress = go_on
) -> list[Media]:
    """All streams, in order of when they began. calls: what was announced; few packets are enough for an announced
    stream. Raises Cancelled when `progress` says so.
    """
    announced: dict[tuple[str, int], tuple[str, str, dict[int, tuple[str, int]]]] = {}
    for call in calls:
        for target, kind, codecs in call.streams:
            announced[target, call.point] = (call.call_id, kind, codecs)
    said = said_of_streams(capture, payload, begun, progress)
    packets = capture.packets
    rows = begun.rows[begun.first >> 30 == _VERSION]
    least = LEAST_ANNOUNCED if announced else LEAST_PACKETS
    if rows.size < least:
        return []
    heads = np.full((rows.size, 4), -1, np.int64)
    for number, source in enumerate(payload.sources):
        if source is not None:
            _headers(rows, packets, number, source, heads)
    good = (heads[:, 3] >= 0) & ~np.isin(heads[:, 3], _CONTROL)
    rows, heads = rows[good], heads[good]
    if rows.size < least:
        return []
    key = (packets.flow[rows].astype(np.int64) * 2 + packets.direction[rows]) * (1 << 32) + heads[:, 2]
    order = np.lexsort((packets.time_ns[rows], key))
    found = []
    for part in np.split(order, np.flatnonzero(np.diff(key[order])) + 1):
        step(progress, 0.5, "looking for voice and video")
        if part.size >= least:
            stream = _stream(capture, rows[part], heads[part], announced, said)
            if stream is not None:
                found.append(stream)
    return sorted(found, key=lambda m: m.first_ns)


def _stream(
    capture: Capture,
    rows: Int64s,
    heads: Int64s2,
    announced: dict[tuple[str, int], Any],
    said: dict[tuple[int, int], Said],
) -> Media | None:
    """A stream from its packets in order of arrival; None where their numbers do not behave like one."""
    packets, flows = capture.packets, capture.conversations
    number = unwrapped(heads[:, 0], 16)
    steps = np.diff(number)
    kinds, counts = np.unique(heads[:, 3], return_counts=True)
    flow, row = int(packets.flow[rows[0]]), int(rows[0])
    source, destination = ends_of(flows, flow, bool(packets.direction[row]))
    call, kind, codecs = announced.get((destination, int(flows.point[flow])), ("", "", {}))
    if not call and rows.size < LEAST_PACKETS:
        return None
    if (
        ((steps >= -20) & (steps <= 100)).mean() < _LEAST_IN_ORDER
        or kinds.size > 4
        or (steps == 0).mean() > 1 - _LEAST_IN_ORDER
    ):
        return None
    arrived, stamp = packets.time_ns[rows], unwrapped(heads[:, 1], 32)
    payload_type = int(kinds[np.argmax(counts)])
    codec, told_hz = codecs.get(payload_type, ("", 0))
    clock_hz = told_hz or _clock(payload_type, arrived, stamp)
    jitter = np.zeros(rows.size)
    fill_jitter(arrived, stamp, clock_hz, jitter)
    seen = np.unique(number)
    gaps = np.diff(seen) - 1
    expected = int(seen[-1] - seen[0] + 1)
    what_is_heard = heard(arrived, number, stamp, clock_hz)
    return Media(
        int(heads[0, 2]), source, destination, payload_type, clock_hz, int(rows.size), expected,
        expected - int(seen.size), int((gaps > 0).sum()),
        int(gaps.max(initial=0)), int(rows.size - seen.size),
        int((number[1:] < np.maximum.accumulate(number)[:-1]).sum()),
        (float(jitter.min()), float(jitter.mean()), float(jitter.max())), int(arrived[0]), int(arrived[-1]),
        int(np.bincount(packets.tos[rows] >> 2).argmax()), int(flows.point[flow]), *what_is_heard,
        _sender_ppm(arrived, stamp, clock_hz), codec or CODECS.get(payload_type, ("",))[0],
        kind or _KINDS.get(payload_type) or ("video" if clock_hz == _VIDEO_HZ else "audio"), call,
        **said.get((int(heads[0, 2]), int(flows.point[flow])), Said()).as_fields(clock_hz),
        course=_course(arrived, number, jitter),
    )  # fmt: skip


def _course(arrived_ns: Int64s, number: Int64s, jitter_ns: Float64s) -> tuple[tuple[int, float, int], ...]:
    """A stream over time: what was missing stands where it should have come."""
    seen, first = np.unique(number, return_index=True)
    size = max(1, -(-arrived_ns.size // COURSE))
    starts = np.arange(0, arrived_ns.size, size)
    missing = np.zeros(starts.size, np.int64)
    np.add.at(missing, first[1:] // size, np.diff(seen) - 1)
    return tuple(
        zip(arrived_ns[starts].tolist(), np.maximum.reduceat(jitter_ns, starts).tolist(), missing.tolist(), strict=True)
    )


def _sender_ppm(arrived: Int64s, stamp: Int64s, clock_hz: int) -> float | None:
    """How fast the sender's clock runs against the capture's, in ppm: by the line below all transit times
    (`transport.envelope`).
    """
    told = (stamp - stamp[0]) * 1e9 / clock_hz
    if arrived.size < _LEAST_FOR_DRIFT or told.max() - told.min() < _LEAST_SPAN_NS:
        return None
    middle = told - told.mean()
    return -line_below(middle, (arrived - arrived[0]) - told)[1] * 1e6


def heard(
    arrived: Int64s, number: Int64s, stamp: Int64s, clock_hz: int
) -> tuple[int, int, int, float, int, float, int, float]:
    """(packets too late to be played, gaps that are heard, the longest in ns, burst ratio of what is missing, and by
    RFC 3611: bursts, density, mean ns, density outside).
    """
    numbers, first = np.unique(number, return_index=True)
    transit = arrived[first] - stamp[first] * 1e9 / clock_hz
    played = transit - transit.min() <= PLAYED_AFTER_NS
    here = (
        np.zeros(int(numbers[-1] - numbers[0] + 1), bool)
        if numbers[-1] - numbers[0] < _LONGEST_STREAM
        else np.ones(1, bool)
    )
    if here.size == 1:
        return int((~played).sum()), 0, 0, 1.0, 0, 0.0, 0, 0.0
    here[(numbers[played] - numbers[0]).astype(np.int64)] = True
    steps = np.diff(stamp[first]) / np.maximum(1, np.diff(numbers))
    each_ns = int(np.median(steps) * 1e9 / clock_hz) if steps.size else 0
    borders = np.flatnonzero(np.diff(np.concatenate([[True], here, [True]])))
    runs = borders[1::2] - borders[::2]
    missing = int(runs.sum())
    mean = float(runs.mean()) if runs.size else 0.0
    burst = max(1.0, mean * (1 - missing / here.size)) if runs.size else 1.0
    heard = runs[runs * each_ns >= HEARD_NS]
    count, dense, packets, outside = rfc_bursts(~here)
    return (
        int((~played).sum()),
        int(heard.size),
        int(runs.max(initial=0)) * each_ns,
        burst,
        count,
        dense,
        round(packets * each_ns),
        outside,
    )


def rfc_bursts(missing: Bools) -> tuple[int, float, float, float]:
    """(bursts, share missing within them, their mean length in packets, share missing outside).

    A burst is the longest stretch that begins and ends with a loss and holds no _LEAST_GAP packets in a row that
    arrived; a lone loss with as many around it is none (RFC 3611 section 4.7.2, with its Gmin of 16). missing: bool
    (n,), by sequence number.
    """
    places = np.flatnonzero(missing)
    if not places.size:
        return 0, 0.0, 0.0, 0.0
    cuts = np.flatnonzero(np.diff(places) > _LEAST_GAP)
    first, last = np.concatenate([[0], cuts + 1]), np.concatenate([cuts, [places.size - 1]])
    real = last > first
    lengths, lost = (places[last] - places[first] + 1)[real], (last - first + 1)[real]
    inside, outside = int(lengths.sum()), missing.size - int(lengths.sum())
    alone = places.size - int(lost.sum())
    return (
        int(real.sum()),
        float(lost.sum() / inside) if inside else 0.0,
        float(lengths.mean()) if inside else 0.0,
        alone / outside if outside else 0.0,
    )
