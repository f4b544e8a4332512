"""TLS 1.2 and 1.3 (RFC 5246, 8446) without keys: name, version, handshake turns; exchanges inside by turns of records.

What is encrypted shows only its sizes: turns of application data. In version 1.3 the client's Finished and the server's
session tickets look like application data; the first record of the client after the hellos is its Finished, and what
the server sends in records of one size right after it, before anything else, is taken for tickets.
"""

from struct import Struct

from yaffle.protocols.message import ENCRYPTION, LAST_OF_ENCRYPTION, Decoded, Pair, Run
from yaffle.protocols.records import Flow, Order, Record, in_time, turns

CHANGE, ALERT, HANDSHAKE, DATA = 20, 21, 22, 23
_HEADER = Struct("!BHH")
_LARGEST = (1 << 14) + 2048
_TICKET_MOST = 1500
_SEALED_ALERT = 24  # header, level, description, content type, tag of 16
VERSIONS = {0x0301: "TLS 1.0", 0x0302: "TLS 1.1", 0x0303: "TLS 1.2", 0x0304: "TLS 1.3"}


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    start = client or server
    return (
        len(start) >= 5
        and start[0] in (CHANGE, ALERT, HANDSHAKE, DATA)
        and start[1] == 3
        and start[2] <= 4
        and 0 < int.from_bytes(start[3:5], "big") <= _LARGEST
    )


def _records(runs: list[Run]) -> list[Record]:
    found = []
    for run in runs:
        data, at = run.data, 0
        while at + 5 <= len(data):
            kind, version, size = _HEADER.unpack_from(data, at)
            if not CHANGE <= kind <= DATA or version >> 8 != 3 or not 0 < size <= _LARGEST:
                at = _again(data, at + 1)
                if at < 0:
                    break
                continue
            end = min(len(data), at + 5 + size)
            found.append(Record(kind, run.at + at, run.at + end, data[at + 5 : end] if kind == HANDSHAKE else b""))
            at += 5 + size
    return found


def _again(data: bytes, at: int) -> int:
    """Where records begin again after a hole: a header whose length leads to another one; -1 nowhere."""
    while (at := data.find(b"\x17\x03\x03", at)) >= 0:
        if at + 5 > len(data):
            return -1
        following = at + 5 + int.from_bytes(data[at + 3 : at + 5], "big")
        if following + 3 > len(data) or data[following : following + 3] == b"\x17\x03\x03":
            return at
        at += 1
    return -1


def _extensions(body: bytes, at: int) -> dict[int, bytes]:
    found: dict[int, bytes] = {}
    if at + 2 > len(body):
        return found
    stop = min(len(body), at + 2 + int.from_bytes(body[at : at + 2], "big"))
    at += 2
    while at + 4 <= stop:
        kind, size = int.from_bytes(body[at : at + 2], "big"), int.from_bytes(body[at + 2 : at + 4], "big")
        found[kind] = body[at + 4 : min(stop, at + 4 + size)]
        at += 4 + size
    return found


def server_name(hello: bytes) -> str:
    """The name in a ClientHello (RFC 6066 section 3); empty where there is none."""
    at = 4 + 2 + 32
    for size_octets in (1, 2, 1):  # session, cipher suites, compression
        if at + size_octets > len(hello):
            return ""
        at += size_octets + int.from_bytes(hello[at : at + size_octets], "big")
    names = _extensions(hello, at).get(0, b"")
    size = int.from_bytes(names[3:5], "big")
    return names[5 : 5 + size].decode("ascii", "replace") if len(names) > 5 and names[2] == 0 else ""


def _version(hello: bytes) -> str:
    """The version that a ServerHello settles on."""
    at = 4 + 2 + 32
    if at >= len(hello):
        return ""
    at += 1 + hello[at] + 3
    chosen = _extensions(hello, at).get(43, b"")
    return VERSIONS.get(int.from_bytes(chosen[:2] or hello[4:6], "big"), "")


def decode(client: list[Run], server: list[Run], order: Order) -> Decoded:
    """Handshake turns, then turns of application data.

    order: (side, place) of each segment's first byte in order of time, so that records of both sides can be put in
    order.
    """
    found = Decoded("tls")
    asked, told = _records(client), _records(server)
    if asked and asked[0].kind == HANDSHAKE and asked[0].body[:1] == b"\x01":
        found.host = server_name(asked[0].body)
    hello = next((r.body for r in told if r.kind == HANDSHAKE and r.body[:1] == b"\x02"), b"")
    version = _version(hello)
    found.protocol = "tls"
    found.note = version
    begun = bool(hello) and bool(asked) and asked[0].kind == HANDSHAKE
    flow = in_time(asked, told, order)
    data_from = _handshake(found, flow, version == "TLS 1.3") if begun else 0
    found.pairs += _exchanges(flow[data_from:], found.host, version == "TLS 1.3" and begun)
    return found


def _handshake(found: Decoded, flow: Flow, newer: bool) -> int:
    """Adds the turns of the handshake; returns where application data begins in the flow."""
    changed = [False, False]
    turn: Pair | None = None
    for k, (side, record) in enumerate(flow):
        if record.kind == DATA and (not newer or (side == 0)):
            if not newer and not all(changed):
                return k
            break
        if side == 0:
            if newer and record.kind == CHANGE and turn is not None and turn.answer >= 0:
                continue  # A mere compatibility record ahead of Finished.
            if turn is None or turn.answer >= 0:
                turn = Pair(record.at, record.end, label="handshake", kind=ENCRYPTION)
                found.pairs.append(turn)
            turn.request_end = record.end
        elif turn is not None:
            if turn.answer < 0:
                turn.answer = record.at
            turn.answer_end = record.end
        if record.kind == CHANGE:
            changed[side] = True
    else:
        k = len(flow)
    found.pairs = [p for p in found.pairs if p.answer >= 0]
    for pair in found.pairs:
        pair.outcome = found.note
    if found.pairs and not newer:
        last = found.pairs[-1]
        # In a full handshake the server speaks last; in a resumed one the client does, and owes its Finished.
        finished = next((i for i in range(len(flow)) if flow[i][0] == 0 and flow[i][1].kind == CHANGE), -1)
        if finished >= 0 and flow[finished][1].at < last.request_end:
            last.kind = LAST_OF_ENCRYPTION
        else:
            while k < len(flow) and flow[k][1].kind != DATA:
                k += 1
    return k


def _exchanges(flow: Flow, label: str, newer: bool) -> list[Pair]:
    """Turns of application data. newer: a 1.3 connection from its start, whose first record of the client is its
    Finished.
    """
    flow = [(side, r) for side, r in flow if r.kind in (DATA, HANDSHAKE)]
    if newer:
        flow = _without_farewells(_without_tickets(flow))
    return turns([(side, r) for side, r in flow if r.kind == DATA], label)


def _without_farewells(flow: Flow) -> Flow:
    """The flow without the alert that ends each side: in version 1.3 it looks like application data of two octets."""
    last = {side: record.at for side, record in flow}
    return [(side, r) for side, r in flow if r.at != last[side] or r.end - r.at != _SEALED_ALERT]


def _without_tickets(flow: Flow) -> Flow:
    """The flow without the client's Finished and without what the server sends of itself once it has that."""
    first = next((k for k, (side, r) in enumerate(flow) if side == 0 and r.kind == DATA), -1)
    if first < 0:
        return []
    rest = flow[first + 1 :]
    own = [r for side, r in rest if side == 1]
    tickets: set[int] = set()
    sizes = [r.end - r.at for r in own[:4]]
    if len(sizes) >= 2 and sizes[0] == sizes[1] and sizes[0] <= _TICKET_MOST:
        tickets = {
            own[k].at for k in range(len(sizes)) if sizes[k] == sizes[0] and all(s == sizes[0] for s in sizes[: k + 1])
        }
    elif own and not any(side == 0 for side, _ in rest[: rest.index((1, own[0]))]):
        tickets = {own[0].at}  # Nothing was asked yet.
    return [(side, r) for side, r in rest if side == 0 or r.at not in tickets]
