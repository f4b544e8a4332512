"""Exchanges by the messages of their protocol: connections told by content, their streams decoded, each message tied
to its packets.
"""

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np

from yaffle.arrays import Array, runs_of
from yaffle.capture.payload import Payload
from yaffle.errors import Cancelled
from yaffle.exchanges.http_scan import empty_heads, empty_rows, scan
from yaffle.exchanges.sliced import NOTE, glanced, is_sliced
from yaffle.exchanges.streams import Stream, stream_of
from yaffle.exchanges.turns import TURN
from yaffle.garbage_collection import collector_resting
from yaffle.kernels import kernel
from yaffle.progress import Progress, go_on
from yaffle.protocols import dns, http1, http2, ldap, mysql, postgres, redis, smb, tls
from yaffle.protocols.message import Decoded
from yaffle.protocols.records import Order
from yaffle.texts import Texts, no_texts
from yaffle.transport.segments import FACTS, empty_segments, gather

_PACKETS_A_PART = 4 << 20  # Connections of about so many packets are decoded before the next ones.
_EVERY = 100  # Connections between two looks at whether to go on.
_ROWS = 1 << 16  # Exchanges that are scanned at once.
_LONGEST_LABEL = 200
_STATUS = {0: "unanswered", **{code: str(code) for code in range(200, 600)}}
_SHORT = 16
_FIRST = 64  # Bytes by which a protocol is told.
_DECODERS = {
    "http": http1.decode, "http2": http2.decode, "postgresql": postgres.decode, "redis": redis.decode,
    "mysql": mysql.decode, "dns": dns.decode, "ldap": ldap.decode,
}  # fmt: skip
_BY_ORDER = {"tls": tls.decode, "smb": smb.decode}  # these need to know what passed first, whichever side sent it


@dataclass
class Messages:
    """For connection c: rows starts[c]:starts[c + 1] of `turns`; none where turns of bytes have to do."""

    starts: Array
    turns: Array
    label: Texts = field(default_factory=no_texts)
    outcome: Texts = field(default_factory=no_texts)
    protocol: dict[int, str] = field(default_factory=dict)  # of decoded connections
    host: dict[int, str] = field(default_factory=dict)  # the server's name as the client asked for it
    note: dict[int, str] = field(default_factory=dict)
    values: dict[int, tuple[str, ...]] = field(default_factory=dict)  # of messages that were asked with any
    # While captures grow, of connections that got packets: the protocol by the first packets with payload of both
    # sides, and the server's port.
    begun: dict[tuple[int, int, int], str] = field(default_factory=dict)


@dataclass(frozen=True)
class KnownMessages:
    """Those of a former reading of the same capture, when it was shorter."""

    rows: Array  # of each connection now, the one that it was then; -1 for a new one, and where packets came
    messages: Messages


def no_messages(connections: int) -> Messages:
    """Nothing is decoded."""
    return Messages(np.zeros(connections + 1, np.int64), np.zeros(0, TURN))


@kernel
def _first_rows(starts, order, packets, first):  # type: ignore[no-untyped-def]
    """The first packet with payload of each side of each connection, -1 without."""
    for c in range(starts.size - 1):
        first[c, 0] = first[c, 1] = -1
        for k in range(starts[c], starts[c + 1]):
            row = order[k]
            if packets.payload_bytes[row] > 0:
                side = packets.direction[row]
                if first[c, side] < 0:
                    first[c, side] = row
                if first[c, 1 - side] >= 0:
                    break


def _told(client: bytes, server: bytes, port: int) -> str:
    """The protocol of a connection that begins like this; empty where none matches."""
    if http1.looks_like(client, server):
        return "http"
    if http2.looks_like(client, server):
        return "http2"
    if tls.looks_like(client, server):
        return "tls"
    if postgres.looks_like(client, server):
        return "postgresql"
    if redis.looks_like(client, server):
        return "redis"
    if mysql.looks_like(client, server):
        return "mysql"
    if smb.looks_like(client, server):
        return "smb"
    if ldap.looks_like(client, server):
        return "ldap"
    if dns.looks_like_stream(client, port):
        return "dns"
    return ""


def decode_messages(
    starts: Array,
    order: Array,
    ports: Array,
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
    starts: Array, order: Array, ports: Array, payload: Payload, progress: Progress, known: KnownMessages | None
) -> Messages:
    count = starts.size - 1
    first = np.empty((count, 2), np.int64)
    _first_rows(starts, order, payload.packets, first)
    if known is not None:
        first[known.rows >= 0] = -1
    decoder = _Decoder(starts, order, ports, payload, first, known.messages.begun if known is not None else None)
    total = max(1, int((first >= 0).any(axis=1).sum()))
    parts: list[Messages] = []
    done = 0

    def went(connections: float) -> None:
        if not progress((done + connections) / total, "reading what was asked"):
            raise Cancelled

    for begin, end in runs_of(starts, _PACKETS_A_PART):
        gathering = _Gathering(begin, end)
        if known is not None:
            gathering.take_over(known.messages, known.rows)
        decoder.decode(begin, end, gathering, went)
        done += int((first[begin:end] >= 0).any(axis=1).sum())
        parts.append(gathering.messages())
    return replace(join_messages([(0, part) for part in parts]), begun=decoder.begun)


def join_messages(told: Sequence[tuple[int, Messages]]) -> Messages:
    """Messages of connections that follow each other. told: with each, by how much its connections' numbers are moved
    on to count among all.
    """
    parts = [part for _, part in told]
    if len(parts) <= 1:
        return parts[0] if parts else no_messages(0)
    sizes = np.concatenate([np.diff(part.starts) for part in parts])
    turns = np.zeros(int(sizes.sum()), TURN)
    found = Messages(
        np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64),
        turns,
        Texts.joined([part.label for part in parts]),
        Texts.joined([part.outcome for part in parts]),
    )
    at = 0
    for first, part in told:
        turns[at : at + part.turns.size] = part.turns
        for name in ("protocol", "host", "note"):
            getattr(found, name).update({first + c: text for c, text in getattr(part, name).items()})
        found.values.update({at + m: held for m, held in part.values.items()})
        at += part.turns.size
    turns["message"] = np.arange(turns.size)
    return found


class _Decoder:
    """Decodes connections, some at a time: what is held meanwhile grows with their number."""

    def __init__(
        self,
        starts: Array,
        order: Array,
        ports: Array,
        payload: Payload,
        first: Array,
        known: dict[tuple[int, int, int], str] | None,
    ) -> None:
        self._starts, self._order, self._ports, self._payload, self._first = starts, order, ports, payload, first
        self._known, self.begun = known, dict[tuple[int, int, int], str]()
        self._room = empty_segments(int(np.diff(starts).max(initial=0)))

    def decode(self, begin: int, end: int, gathering: "_Gathering", went: Callable[[float], None]) -> None:
        """Adds the messages of connections from begin to before end. went: told how many are done, may stop it."""
        told = self._told(begin, end, went)
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

    def _told(self, begin: int, end: int, went: Callable[[float], None]) -> dict[int, str]:
        """The protocol of each connection that is known by its first bytes."""
        told: dict[int, str] = {}
        with_bytes = np.flatnonzero((self._first[begin:end] >= 0).any(axis=1)) + begin
        for place, c in enumerate(with_bytes.tolist()):
            if place % _EVERY == 0:
                went(0.2 * place)
            if protocol := self._protocol(c, (*self._first[c].tolist(), int(self._ports[c]))):
                told[c] = protocol
        return told

    def _protocol(self, c: int, beginning: tuple[int, int, int]) -> str:
        """That of a connection by its beginning; empty where it is not known."""
        if self._known is not None and beginning in self._known:
            self.begun[beginning] = self._known[beginning]
            return self.begun[beginning]
        heads = [self._payload.of_packet(row)[:_FIRST] if row >= 0 else b"" for row in beginning[:2]]
        whole = not (0 < len(heads[0]) < _SHORT or 0 < len(heads[1]) < _SHORT)
        if not whole:  # Cut finer than a protocol is told by.
            g = self._segments(c)
            runs = [stream_of(g, side, self._payload, _FIRST).runs for side in (0, 1)]
            heads = [side[0].data if side else head for side, head in zip(runs, heads, strict=True)]
        found = _told(heads[0], heads[1], beginning[2])
        if whole and self._known is not None:
            self.begun[beginning] = found
        return found

    def _segments(self, c: int) -> Array:
        """The segments of a connection, until the next one is asked for."""
        own = slice(int(self._starts[c]), int(self._starts[c + 1]))
        g = self._room[: own.stop - own.start]
        gather(self._order[own], self._payload.packets, g, np.zeros(FACTS, np.int64))
        return g

    def _decode_one(self, c: int, protocol: str, gathering: "_Gathering") -> None:
        g = self._segments(c)
        if protocol != "dns" and is_sliced(g, self._payload):
            gathering.add(c, protocol, *glanced(protocol, g, self._payload), NOTE)
            return
        client, server = stream_of(g, 0, self._payload), stream_of(g, 1, self._payload)
        decoded = _decode(protocol, client, server)
        if decoded.pairs or protocol == "tls":
            gathering.take(c, decoded, _tied(decoded, client, server))


class _Gathering:
    """Messages as they are found, connection by connection in any order."""

    def __init__(self, begin: int, end: int) -> None:
        self._begin, self._end = begin, end
        self._rows: dict[int, tuple[Array, Sequence[str], Sequence[str]]] = {}
        self.protocol: dict[int, str] = {}
        self._host: dict[int, str] = {}
        self._note: dict[int, str] = {}
        self._values: dict[int, list[tuple[str, ...]]] = {}

    def take(self, c: int, decoded: Decoded, rows: Array) -> None:
        """A connection from the plain way."""
        self.add(
            c,
            decoded.protocol,
            rows,
            [p.label for p in decoded.pairs],
            [p.outcome for p in decoded.pairs],
            decoded.host,
            decoded.note,
        )
        if any(p.values for p in decoded.pairs):
            self._values[c] = [p.values for p in decoded.pairs]

    def add(
        self,
        c: int,
        protocol: str,
        rows: Array,
        label: Sequence[str],
        outcome: Sequence[str],
        host: str,
        note: str = "",
    ) -> None:
        """A connection with its rows and texts."""
        self.protocol[c] = protocol
        self._rows[c] = (rows, label, outcome)
        if note:
            self._note[c] = note
        if host:
            self._host[c] = host

    def take_over(self, former: Messages, rows: Array) -> None:
        """Connections that a former reading decoded. rows: of each connection the former one, -1 without."""
        for c in (np.flatnonzero(rows[self._begin : self._end] >= 0) + self._begin).tolist():
            was = int(rows[c])
            if was not in former.protocol:
                continue
            own = slice(int(former.starts[was]), int(former.starts[was + 1]))
            told = former.turns[own], former.label[own], former.outcome[own]
            self.add(c, former.protocol[was], *told, former.host.get(was, ""), former.note.get(was, ""))
            values = [former.values.get(m, ()) for m in range(own.start, own.stop)] if former.values else []
            if any(values):
                self._values[c] = values

    def messages(self) -> Messages:
        """All of them, in order of connections; `starts` and `turns` count from the first of these connections."""
        order = sorted(self._rows)
        counts = np.zeros(self._end - self._begin, np.int64)
        places = np.array(order, np.int64) - self._begin
        counts[places] = [self._rows[c][0].size for c in order]
        turns = np.zeros(int(counts.sum()), TURN)
        for c, at in zip(
            order, (np.cumsum(counts) - counts)[places].tolist(), strict=True
        ):  # Joining so many tables of records would compare their columns each time.
            turns[at : at + self._rows[c][0].size] = self._rows[c][0]
        turns["message"] = np.arange(turns.size)
        starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        return Messages(
            starts,
            turns,
            Texts.of(text for c in order for text in self._rows[c][1]),
            Texts.of(text for c in order for text in self._rows[c][2]),
            self.protocol,
            self._host,
            self._note,
            {
                int(starts[c - self._begin]) + k: held
                for c, every in self._values.items()
                for k, held in enumerate(every)
                if held
            },
        )


def _scan_web(
    own: Array, starts: Array, order: Array, payload: Payload, number: int, source: Array, gathering: _Gathering
) -> None:
    """The quick way for web connections that allow it, on two threads."""
    longest = int((starts[own + 1] - starts[own]).max())
    buf = np.asarray(source)
    view = memoryview(buf)  # type: ignore[arg-type]

    def work(mine: Array) -> list[tuple[Array, Array, Array, Array]]:
        room = empty_segments(longest)
        one, two = np.empty((4, longest), np.int64), np.empty((4, longest), np.int64)
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


def _decode(protocol: str, client: Stream, server: Stream) -> Decoded:
    if protocol not in _BY_ORDER:
        found = _DECODERS[protocol](client.runs, server.runs)
        if found.sealed is None:
            return found
        asked, told = (
            [run.after(place) for run in s.runs if run.end > place]
            for s, place in zip((client, server), found.sealed, strict=True)
        )
        inner = tls.decode(asked, told, _order(client, server))
        found.pairs += inner.pairs
        found.host = inner.host or found.host
        found.note = ", ".join(part for part in (found.note, inner.note) if part)
        return found
    return _BY_ORDER[protocol](client.runs, server.runs, _order(client, server))


def _order(client: Stream, server: Stream) -> Order:
    """What passed in order of time: (side, place behind it)."""
    both = np.concatenate(
        [np.column_stack([s.segment, np.full(s.segment.size, side), s.end]) for side, s in ((0, client), (1, server))]
    )
    both = both[np.argsort(both[:, 0], kind="stable")]
    return [(int(side), int(end)) for _, side, end in both]


def _tied(decoded: Decoded, client: Stream, server: Stream) -> Array:
    """The pairs as rows of TURN: with the segments that brought their first and last bytes."""
    rows = np.zeros(len(decoded.pairs), TURN)
    if not rows.size:
        return rows
    pairs = np.array(
        [
            (p.request, p.request_end, p.answer, p.answer_end, p.kind, p.asked_bytes, p.told_bytes)
            for p in decoded.pairs
        ],
        np.int64,
    )
    asked, asked_end, told, told_end, rows["kind"], asked_bytes, told_bytes = pairs.T

    def segment(stream: Stream, place: Array) -> Array:
        return stream.segment[np.maximum(0, np.searchsorted(stream.start, place, "right") - 1)]

    rows["first"] = segment(client, asked)
    rows["request_end"], rows["request_bytes"] = asked_end, np.where(asked_bytes >= 0, asked_bytes, asked_end - asked)
    answered = told >= 0
    rows["answer"] = -1
    rows["stop"] = np.iinfo(np.int64).max  # Of what was never answered: to the end of the connection.
    rows["response_end"] = asked_end * 0
    if answered.any():
        rows["answer"][answered] = segment(server, told[answered])
        last = segment(server, told_end[answered] - 1)
        rows["stop"][answered] = np.maximum(last, rows["answer"][answered]) + 1
        rows["response_end"][answered] = told_end[answered]
        rows["response_bytes"][answered] = np.where(told_bytes >= 0, told_bytes, told_end - told)[answered]
    return rows
