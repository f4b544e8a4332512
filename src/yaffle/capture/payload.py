"""The bytes of packets, wherever their captures are: mapped, or decompressed once more into memory where they fit."""

from copy import copy
from pathlib import Path

import numpy as np

from yaffle.arrays import Array, Int64s, Uint8s, Uint64s
from yaffle.capture.byte_source import ByteSource
from yaffle.capture.captured import Capture
from yaffle.capture.link_layer import ETHERNET
from yaffle.capture.packets import Columns
from yaffle.errors import YaffleError
from yaffle.room import mapped_file

_ETHERNET_BYTES, _SENDER_AT, _ADDRESS_BYTES = 14, 6, 6
_MOST_UNPACKED = 1 << 30  # Bytes of a compressed capture that are held for decoding; larger ones stay with turns.


def _fixed(data: Uint8s) -> Uint8s:
    """As a mapped file is, not to be written to: kernels are compiled for that."""
    data.flags.writeable = False
    return data


class Payload:
    """Bytes by source and position."""

    def __init__(self, capture: Capture, only: frozenset[int] | None = None) -> None:
        """only: the sources whose bytes are asked for, where those are not all."""
        self.packets = capture.packets
        read = [
            self._of(Path(source.path)) if only is None or number in only else ("", None)
            for number, source in enumerate(capture.sources)
        ]
        self.notes = [[note] if note else [] for note, _ in read]  # what to say of each source
        self.sources = [data for _, data in read]
        self.wired = [  # interfaces of each source that are Ethernet
            [place for place, face in enumerate(source.interfaces) if face.link_type == ETHERNET]
            for source in capture.sources
        ]

    def with_packets(self, packets: Columns) -> "Payload":
        """The same bytes, of packets as they are told now."""
        found = copy(self)
        found.packets = packets
        return found

    def _of(self, path: Path) -> tuple[str, Array | None]:
        """What to say of it, and its bytes where they can be had."""
        try:
            data = ByteSource(path)
        except YaffleError as error:  # It was read a moment ago; without it there are turns.
            return f"it cannot be read once more ({error}): its exchanges are told by turns", None
        if not data.compressed:
            data.close()
            return "", np.asarray(mapped_file(path)) if path.stat().st_size else _fixed(np.empty(0, np.uint8))
        parts, total = [], 0
        windows = data.windows()
        try:
            _, window, last = next(windows)
            while True:
                parts.append(window.copy())
                total += window.size
                if total > _MOST_UNPACKED:
                    return "it is too large to be held unpacked: its exchanges are told by turns", None
                if last:
                    break
                _, window, last = windows.send(window.size)
        except StopIteration:
            pass
        finally:
            data.close()
        return "", _fixed(np.concatenate(parts) if parts else np.empty(0, np.uint8))

    def hardware_senders(self, rows: Int64s) -> Uint64s:
        """The hardware address that each of some packets was sent from onto the captured wire, as a number; 0 where
        there is none, or it was not kept.
        """
        packets = self.packets
        found = np.zeros(rows.size, np.uint64)
        for number, source in enumerate(self.sources):
            if source is None:
                continue
            own = np.flatnonzero((packets.source[rows] == number) & (packets.captured_bytes[rows] >= _ETHERNET_BYTES))
            own = own[np.isin(packets.link[rows[own]], self.wired[number])]
            place = packets.position[rows[own]]
            own, place = own[place + _ETHERNET_BYTES <= source.size], place[place + _ETHERNET_BYTES <= source.size]
            for octet in range(_SENDER_AT, _SENDER_AT + _ADDRESS_BYTES):
                found[own] = found[own] << np.uint64(8) | source[place + octet].astype(np.uint64)
        return found

    def octets_of(self, rows: Int64s, at: int) -> Int64s:
        """The octet of the payload of some packets that comes after so many, int64; -1 where it was not kept."""
        packets = self.packets
        found = np.full(rows.size, -1, np.int64)
        skip = packets.payload_at[rows].astype(np.int64) + at
        kept = packets.captured_bytes[rows] > skip
        for number, source in enumerate(self.sources):
            if source is not None:
                place = packets.position[rows] + skip
                own = kept & (packets.source[rows] == number) & (place < source.size)
                found[own] = source[place[own]]
        return found

    def of_packet(self, row: int) -> bytes:
        """The transport payload of a packet, as far as it was kept."""
        packets = self.packets
        source = self.sources[int(packets.source[row])]
        if source is None:
            return b""
        skip = int(packets.payload_at[row])
        size = min(int(packets.payload_bytes[row]), int(packets.captured_bytes[row]) - skip)
        start = int(packets.position[row]) + skip
        return source[start : start + size].tobytes() if size > 0 else b""

    def kept_bytes(self, rows: Int64s) -> Int64s:
        """How much of the transport payload of some packets was kept."""
        packets = self.packets
        kept = packets.captured_bytes[rows].astype(np.int64) - packets.payload_at[rows]
        return np.minimum(packets.payload_bytes[rows], kept).clip(0)

    def heads_of(self, rows: Int64s, most: int) -> list[bytes]:
        """What the transport payload of some packets begins with, as far as it was kept; nothing where a row is -1."""
        packets, taken = self.packets, np.maximum(rows, 0)
        size = np.where(rows >= 0, self.kept_bytes(taken).clip(max=most), 0)
        start = packets.position[taken] + packets.payload_at[taken]
        octets = [source.data if source is not None else b"" for source in self.sources]
        columns = zip(packets.source[taken].tolist(), start.tolist(), (start + size).tolist(), strict=True)
        return [bytes(octets[number][begin:end]) for number, begin, end in columns]
