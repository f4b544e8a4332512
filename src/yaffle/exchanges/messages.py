"""Exchanges by the messages of their protocol: connections told by content, their streams decoded, each message tied to its packets."""

from dataclasses import dataclass, field

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.reader import Progress, go_on
from yaffle.errors import Cancelled
from yaffle.exchanges.payload import Payload
from yaffle.exchanges.streams import Stream, stream_of
from yaffle.exchanges.turns import TURN
from yaffle.kernels import kernel
from yaffle.protocols import dns, http1, mysql, postgres, redis, tls
from yaffle.protocols.message import Decoded
from yaffle.transport.segments import FACTS, empty_segments, gather

_EVERY = 100  # Connections between two looks at whether to go on.
_FIRST = 64  # Bytes by which a protocol is told.


@dataclass
class Messages:
    """For connection c: rows starts[c]:starts[c + 1] of `turns`; none where turns of bytes have to do."""

    starts: Array
    turns: Array
    label: list[str] = field(default_factory=list)
    outcome: list[str] = field(default_factory=list)
    protocol: dict[int, str] = field(default_factory=dict)  # of decoded connections
    host: dict[int, str] = field(default_factory=dict)  # the server's name as the client asked for it
    note: dict[int, str] = field(default_factory=dict)


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
    if tls.looks_like(client, server):
        return "tls"
    if postgres.looks_like(client, server):
        return "postgresql"
    if redis.looks_like(client, server):
        return "redis"
    if mysql.looks_like(client, server):
        return "mysql"
    if dns.looks_like_stream(client, port):
        return "dns"
    return ""


def decode_messages(starts: Array, order: Array, ports: Array, payload: Payload, progress: Progress = go_on) -> Messages:
    """Messages of every connection whose protocol is known. ports: of the servers."""
    count = starts.size - 1
    first = np.empty((count, 2), np.int64)
    _first_rows(starts, order, payload.packets, first)
    found = no_messages(count)
    counts = np.zeros(count, np.int64)
    parts: list[Array] = []
    longest = int(np.diff(starts).max()) if count else 0
    room = empty_segments(longest)
    with_bytes = np.flatnonzero((first >= 0).any(axis=1)).tolist()
    for place, c in enumerate(with_bytes):
        if place % _EVERY == 0 and not progress(place / len(with_bytes), "reading what was asked"):
            raise Cancelled
        heads = [payload.of_packet(int(row))[:_FIRST] if row >= 0 else b"" for row in first[c]]
        protocol = _told(heads[0], heads[1], int(ports[c]))
        if not protocol:
            continue
        g = room[: starts[c + 1] - starts[c]]
        gather(order[starts[c] : starts[c + 1]], payload.packets, g, np.zeros(FACTS, np.int64))
        client, server = stream_of(g, 0, payload), stream_of(g, 1, payload)
        decoded = _decode(protocol, client, server, g)
        if not decoded.pairs and protocol != "tls":
            continue
        found.protocol[c] = decoded.protocol
        if decoded.host:
            found.host[c] = decoded.host
        if decoded.note:
            found.note[c] = decoded.note
        rows = _tied(decoded, client, server, len(found.label))
        counts[c] = rows.size
        parts.append(rows)
        found.label += [pair.label for pair in decoded.pairs]
        found.outcome += [pair.outcome for pair in decoded.pairs]
    found.starts = np.concatenate([[0], np.cumsum(counts)])
    if parts:
        found.turns = np.concatenate(parts)
    return found


def _decode(protocol: str, client: Stream, server: Stream, g: Array) -> Decoded:
    if protocol == "tls":
        both = np.concatenate([np.column_stack([s.segment, np.full(s.segment.size, side), s.end]) for side, s in ((0, client), (1, server))])
        both = both[np.argsort(both[:, 0], kind="stable")]
        return tls.decode(client.runs, server.runs, [(int(side), int(end)) for _, side, end in both])
    decoder = {"http": http1.decode, "postgresql": postgres.decode, "redis": redis.decode, "mysql": mysql.decode, "dns": dns.decode}[protocol]
    return decoder(client.runs, server.runs)


def _tied(decoded: Decoded, client: Stream, server: Stream, first_label: int) -> Array:
    """The pairs as rows of TURN: with the segments that brought their first and last bytes."""
    rows = np.zeros(len(decoded.pairs), TURN)
    if not rows.size:
        return rows
    pairs = np.array([(p.request, p.request_end, p.answer, p.answer_end, p.kind) for p in decoded.pairs], np.int64)
    asked, asked_end, told, told_end, rows["kind"] = pairs.T

    def segment(stream: Stream, place: Array) -> Array:
        return stream.segment[np.maximum(0, np.searchsorted(stream.start, place, "right") - 1)]

    rows["first"] = segment(client, asked)
    rows["request_end"], rows["request_bytes"] = asked_end, asked_end - asked
    answered = told >= 0
    rows["answer"] = -1
    rows["stop"] = np.iinfo(np.int64).max  # Of what was never answered: to the end of the connection.
    rows["response_end"] = asked_end * 0
    if answered.any():
        rows["answer"][answered] = segment(server, told[answered])
        last = segment(server, told_end[answered] - 1)
        rows["stop"][answered] = np.maximum(last, rows["answer"][answered]) + 1
        rows["response_end"][answered] = told_end[answered]
        rows["response_bytes"][answered] = (told_end - told)[answered]
    rows["message"] = first_label + np.arange(rows.size)
    return rows
