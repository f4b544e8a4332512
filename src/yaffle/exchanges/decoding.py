"""Exchanges by the messages of their protocol: connections told by content, their streams decoded, each message tied
to its packets.
"""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from yaffle.arrays import Array, Bools, Int32s, Int64s, Int64s2, Uint8s, Uint16s, runs_of
from yaffle.capture.packets import Columns
from yaffle.capture.payload import Payload
from yaffle.errors import Cancelled
from yaffle.exchanges.gathering import Gathering
from yaffle.exchanges.http_scan import empty_heads, empty_rows, scan
from yaffle.exchanges.messages import KeptReading, KnownMessages, Messages, join_messages
from yaffle.exchanges.reading import Reading, Told
from yaffle.exchanges.sliced import NOTE, glanced, is_sliced
from yaffle.exchanges.spoken import FIRST, SHORT, may_be_spoken, spoken
from yaffle.exchanges.streams import stream_of
from yaffle.garbage_collection import collector_resting
from yaffle.kernels import kernel
from yaffle.progress import Progress, go_on
from yaffle.protocols import mysql
from yaffle.transport.segments import FACTS, Segments, empty_segments, gather

_PACKETS_A_PART = 4 << 20  # Connections of about so many packets are decoded before the next ones.
_EVERY = 100  # Connections between two looks at whether to go on.
_ROWS = 1 << 16  # Exchanges that are scanned at once.
_LONG = 256  # Packets of a connection from which on it is read on instead of anew while a capture grows.
_GIVEN_UP_NS = 300 * 10**9  # So long after its last packet a connection is decoded anew if it goes on.
_LONGEST_LABEL = 200
_STATUS = {0: "unanswered", **{code: str(code) for code in range(200, 600)}}


@kernel
def _first_rows(starts: Int64s, order: Int32s, packets: Columns, first: Int64s2) -> None:
    """The first packet with payload of each side of each connection, -1 without."""
    for c in range(starts.size - 1):
        first[c, 0] = first[c, 1] = -1
        for k in range(starts[c], starts[c + 1]):
            row = order[k]
            if packets.head[row].payload > 0:
                side = packets.direction[row]
                if first[c, side] < 0:
                    first[c, side] = row
                if first[c, 1 - side] >= 0:
                    break


def decode_messages(
    starts: Int64s,
    order: Int32s,
    ports: Uint16s,
    payload: Payload,
    progress: Progress = go_on,
    known: KnownMessages | None = None,
) -> Messages:
    """Messages of every connection whose protocol is known. ports: of the servers. What is known already is taken over.

    Raises Cancelled when `progress` says so.
    """
    with collector_resting():
        return _decode_all(starts, order, ports, payload, progress, known)


def _decode_all(
    starts: Int64s, order: Int32s, ports: Uint16s, payload: Payload, progress: Progress, known: KnownMessages | None
) -> Messages:
    count = starts.size - 1
    first = np.empty((count, 2), np.int64)
    _first_rows(starts, order, payload.packets, first)
    if known is not None:
        first[known.rows >= 0] = -1
    decoder = _Decoder(starts, order, ports, payload, first, known.messages if known is not None else None)
    total = max(1, int((first >= 0).any(axis=1).sum()))
    parts: list[Messages] = []
    done = 0

    def went(connections: float) -> None:
        if not progress((done + connections) / total, "decoding requests"):
            raise Cancelled

    for begin, end in runs_of(starts, _PACKETS_A_PART):
        gathering = Gathering(begin, end)
        if known is not None:
            gathering.take_over(known.messages, known.rows)
        decoder.decode(begin, end, gathering, went)
        done += int((first[begin:end] >= 0).any(axis=1).sum())
        parts.append(gathering.messages())
    return replace(join_messages([(0, part) for part in parts]), begun=decoder.begun, readings=decoder.still_open())


class _Decoder:
    """Decodes connections, some at a time: what is held meanwhile grows with their number."""

    def __init__(
        self,
        starts: Array,
        order: Array,
        ports: Array,
        payload: Payload,
        first: Array,
        known: Messages | None,
    ) -> None:
        self._starts, self._order, self._ports, self._payload, self._first = starts, order, ports, payload, first
        self._known, self.begun, self.readings = known, dict[tuple[int, int, int], str](), dict[int, KeptReading]()
        self._room = empty_segments(int(np.diff(starts).max(initial=0)))

    def decode(self, begin: int, end: int, gathering: "Gathering", went: Callable[[float], None]) -> None:
        """Adds the messages of connections from begin to before end. went: told how many are done, may stop it."""
        told = self._spoken(begin, end, went)
        web = [c for c, protocol in told.items() if protocol == "http"]
        sources = self._payload.packets.source[self._first[web].max(axis=1)] if web else np.empty(0, np.int64)
        for number, source in enumerate(self._payload.sources):
            own = np.array(web, np.int64)[sources == number]
            if source is not None and own.size:
                _scan_web(own, self._starts, self._order, self._payload, number, source, gathering)
        for place, (c, protocol) in enumerate(told.items()):
            if place % _EVERY == 0:
                went((end - begin) * (0.2 + 0.8 * place / len(told)))
            if c not in gathering.protocol:
                self._decode_one(c, protocol, gathering)

    def _spoken(self, begin: int, end: int, went: Callable[[float], None]) -> dict[int, str]:
        """The protocol of each connection that is known by its first bytes."""
        told, new = {}, []
        with_bytes = np.flatnonzero((self._first[begin:end] >= 0).any(axis=1)) + begin
        with_bytes = with_bytes[self._may_be_spoken(with_bytes)]
        begun = zip(self._first[with_bytes].tolist(), self._ports[with_bytes].tolist(), strict=True)
        for c, ((asked, answered), port) in zip(with_bytes.tolist(), begun, strict=True):
            beginning = asked, answered, port
            if self._known is not None and beginning in self._known.begun:
                told[c] = self.begun[beginning] = self._known.begun[beginning]
            else:
                new.append((c, beginning))
        for place in range(0, len(new), _EVERY):
            went(0.2 * place)
            some = new[place : place + _EVERY]
            rows = np.array([beginning[:2] for _, beginning in some], np.int64)
            heads = zip(*(self._payload.heads_of(rows[:, side], FIRST) for side in (0, 1)), strict=True)
            for (c, beginning), (client, server) in zip(some, heads, strict=True):
                told[c] = self._protocol(c, beginning, [client, server])
        return {c: protocol for c, protocol in sorted(told.items()) if protocol}

    def _may_be_spoken(self, connections: Int64s) -> Bools:
        """Which of some connections may speak a known protocol, told without a look at each."""
        rows, heads, short = self._first[connections], [], np.zeros(connections.size, bool)
        for side in (0, 1):
            some = rows[:, side] >= 0
            own = rows[some, side]
            octets = np.full((2, connections.size), -1)
            octets[:, some] = self._payload.octets_of(own, 0), self._payload.octets_of(own, mysql.VERSION_AT)
            heads.append(octets)
            kept = self._payload.kept_bytes(own)
            short[some] |= (kept > 0) & (kept < SHORT)
        (asked, _), (answered, versions) = heads
        return short | may_be_spoken(asked, answered, versions, self._ports[connections])

    def _protocol(self, c: int, beginning: tuple[int, int, int], heads: list[bytes]) -> str:
        """That of a connection by its beginning, and the first bytes of both sides; empty where it is not known."""
        whole = not (0 < len(heads[0]) < SHORT or 0 < len(heads[1]) < SHORT)
        if not whole:  # Cut finer than a protocol is told by.
            g = self._segments(c)
            runs = [stream_of(g, side, self._payload, FIRST).runs() for side in (0, 1)]
            heads = [side[0].data if side else head for side, head in zip(runs, heads, strict=True)]
        found = spoken(heads[0], heads[1], beginning[2])
        if whole and self._known is not None:
            self.begun[beginning] = found
        return found

    def _segments(self, c: int) -> Segments:
        """The segments of a connection, until the next one is asked for."""
        own = slice(int(self._starts[c]), int(self._starts[c + 1]))
        g = self._room[: own.stop - own.start]
        gather(self._order[own], self._payload.packets, g, np.zeros(FACTS, np.int64))
        return g

    def _decode_one(self, c: int, protocol: str, gathering: "Gathering") -> None:
        g = self._segments(c)
        if protocol != "dns" and is_sliced(g, self._payload):
            gathering.add(c, protocol, *glanced(protocol, g, self._payload), NOTE)
            return
        told = self._told(c, protocol, g)
        if told.rows.size or protocol == "tls":
            gathering.take(c, told)

    def _told(self, c: int, protocol: str, g: Segments) -> Told:
        """What a connection says; a long one of a capture that grows is read on from where it was."""
        sides = stream_of(g, 0, self._payload), stream_of(g, 1, self._payload)
        one_sided = sides[0].begin is None or sides[1].begin is None  # What is asked would wait for ever.
        if self._known is None or g.size < _LONG or one_sided:
            return Reading(protocol).told(sides, more=False)
        first = int(self._order[self._starts[c]])
        kept = self._known.readings.get(first)
        goes_on = kept is not None and kept.reading.protocol == protocol and kept.goes_on_in(g)
        reading = kept.reading if kept is not None and goes_on else Reading(protocol)
        if not reading.read_on(sides):
            reading = Reading(protocol)
            reading.read_on(sides)
        self.readings[first] = KeptReading(reading, g["row"].copy(), int(g["d"][0]))
        return reading.told(sides, more=True)

    def still_open(self) -> dict[int, KeptReading]:
        """Readings by the first packets of their connections: those of now, and of connections that had no packets
        since the last look, but not long ago.
        """
        if self._known is None:
            return self.readings
        times = self._payload.packets.time_ns
        since = int(times[-1]) - _GIVEN_UP_NS if times.size else 0
        rested = {first: kept for first, kept in self._known.readings.items() if int(times[kept.rows[-1]]) >= since}
        return rested | self.readings


def _scan_web(
    own: Int64s, starts: Int64s, order: Int32s, payload: Payload, number: int, source: Uint8s, gathering: Gathering
) -> None:
    """The quick way for web connections that allow it, on two threads."""
    longest = int((starts[own + 1] - starts[own]).max())
    buf = np.asarray(source)
    view = memoryview(buf)  # type: ignore[arg-type]

    def work(mine: Array) -> list[tuple[Array, Array, Array, Array]]:
        room = empty_segments(longest)
        one, two = np.empty((4, 2 * longest), np.int64), np.empty((4, 2 * longest), np.int64)
        asked, told = empty_heads(longest), empty_heads(longest)
        parts = []
        while mine.size:
            turns, texts = empty_rows(max(_ROWS, longest))
            used = np.empty(mine.size, np.int64)
            done, rows = scan(
                mine, starts, order, payload.packets, number, buf, room, one, two, asked, told, turns, texts, used
            )
            parts.append((mine[:done], used[:done], turns[:rows], texts[:rows]))
            mine = mine[done:]
        return parts

    with ThreadPoolExecutor(2) as pool:
        done = [part for parts in pool.map(work, np.array_split(own, 2)) for part in parts]
    for connections, used, turns, texts in done:
        rows, at = texts.tolist(), 0
        for c, count in zip(connections.tolist(), used.tolist(), strict=True):
            if count <= 0:
                continue
            mine = rows[at : at + count]
            label = [str(view[p : p + min(size, _LONGEST_LABEL)], "latin-1") for p, size, _, _, _ in mine]
            outcome = [_STATUS.get(row[4]) or str(row[4]) for row in mine]
            host = next((str(view[p : p + size], "latin-1").strip() for _, _, p, size, _ in mine if p >= 0), "")
            gathering.add(
                c,
                "http",
                turns[at : at + count],
                label,
                outcome,
                host.rsplit(":", 1)[0] if host.count(":") == 1 else host,
            )
            at += count
