"""The frames that a capture heard, by column, in order of time: the radio's where it could be tied to the host's."""

from dataclasses import dataclass, replace

import numpy as np

from yaffle.arrays import Bools, Int64s, Int64s2
from yaffle.capture.captured import Capture
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.capture.radio_head import BAD, RADIO_LINKS
from yaffle.radio import frame_scan as f
from yaffle.radio.clock import tie

_EVERY = 1 << 18
GROUP = 1 << 40  # the bit of an address that stands for several


@dataclass(frozen=True)
class Frames:
    """Rows (`frame_scan`), when each was heard, and the source that holds it."""

    rows: Int64s2
    time_ns: Int64s
    source: Int64s
    air_ns: Int64s  # how long each took, 0 where its rate is not told
    noted_ns: Int64s  # when the host noted it
    notes: tuple[str, ...] = ()  # of clocks

    @property
    def good(self) -> "Frames":
        """Those whose check sequence was not said to be wrong."""
        return self.of(np.asarray(self.rows[:, f.IS_BAD] != BAD))

    def of(self, which: Bools) -> "Frames":
        """Some of them, by mask or number."""
        return replace(
            self, rows=self.rows[which], time_ns=self.time_ns[which], source=self.source[which],
            air_ns=self.air_ns[which], noted_ns=self.noted_ns[which],
        )  # fmt: skip


def frames_of(capture: Capture, payload: Payload) -> Frames:
    """All frames of all sources that a radio heard."""
    packets = capture.packets
    found, sources = [], []
    for number, source in enumerate(capture.sources):
        data = payload.sources[number]
        links = np.array([face.link_type for face in source.interfaces] or [0], np.int64)
        if data is None or not data.size or not np.isin(links, RADIO_LINKS).any():
            continue
        mine = np.flatnonzero(packets.source == number)
        link = links[np.minimum(packets.link[mine], links.size - 1)]
        mine, link = mine[np.isin(link, RADIO_LINKS)], link[np.isin(link, RADIO_LINKS)]
        for begin in range(0, mine.size, _EVERY):
            rows = mine[begin : begin + _EVERY]
            out = np.zeros((rows.size, f.COLUMNS), np.int64)
            captured = packets.captured_bytes[rows].astype(np.int64)
            count = f.scan_frames(data, packets.position[rows], captured, link[begin : begin + _EVERY], rows, out)
            found.append(out[:count])
            sources.append(np.full(count, number))
    rows = np.concatenate(found) if found else np.zeros((0, f.COLUMNS), np.int64)
    numbers = np.concatenate(sources) if sources else np.zeros(0, np.int64)
    noted = packets.time_ns[rows[:, f.ROW]]
    radio = numbers << 32 | packets.link[rows[:, f.ROW]]
    tied = tie(rows[:, f.HEARD_CLOCK], noted, radio)
    order = np.argsort(tied.times_ns, kind="stable")
    rows, times, numbers, noted = rows[order], tied.times_ns[order], numbers[order], noted[order]
    took = air_times(rows, packets.wire_bytes[rows[:, f.ROW]].astype(np.int64))
    return Frames(rows, times, numbers, took, noted, tuple(tied.words))


def heard_times(frames: Frames, packets: Columns) -> Int64s:
    """Times of all packets: of those that a radio heard as in the frames, of all else as they were noted."""
    if not frames.rows.size:
        return packets.time_ns
    times = packets.time_ns.copy()
    times[frames.rows[:, f.ROW]] = frames.time_ns
    return times


def air_times(rows: Int64s2, recorded: Int64s) -> Int64s:
    """How long frames took on the air, ns: preamble and data at their rate (IEEE 802.11-2020, 16 to 21); frames of one
    aggregate share its preamble. recorded: octets of each record as sent. Waiting for the channel and acknowledgements
    are not in it.
    """
    rate = rows[:, f.HEARD_RATE]
    octets = np.maximum(0, recorded - rows[:, f.NOT_SENT])
    shared = np.zeros(rows.shape[0], bool)
    if rows.shape[0]:
        one, other = rows[:-1], rows[1:]
        shared[1:] = (other[:, f.AGGREGATE] >= 0) & (one[:, f.AGGREGATE] == other[:, f.AGGREGATE])
        shared[1:] &= one[:, f.SENDER] == other[:, f.SENDER]
    before = np.where(shared, 0, rows[:, f.US_BEFORE] * 1000)
    return np.where(rate > 0, before + octets * 8_000_000 // np.maximum(1, rate), 0)


def address_text(number: int) -> str:
    """A hardware address as people write it."""
    return number.to_bytes(6, "big").hex(":")
