"""SIP (RFC 3261) as far as calls need it, and the streams that session descriptions announce (SDP, RFC 8866)."""

from dataclasses import dataclass, field

_METHODS = (
    b"INVITE",
    b"ACK",
    b"BYE",
    b"CANCEL",
    b"REGISTER",
    b"OPTIONS",
    b"PRACK",
    b"SUBSCRIBE",
    b"NOTIFY",
    b"PUBLISH",
    b"INFO",
    b"REFER",
    b"MESSAGE",
    b"UPDATE",
)
_COMPACT = {
    "i": "call-id",
    "f": "from",
    "t": "to",
    "c": "content-type",
    "l": "content-length",
    "v": "via",
    "m": "contact",
}
STARTS = (b"SIP/", *(method[:4].ljust(4) for method in _METHODS))
_MOST = 65_535
_MOST_LINES = 400


@dataclass(frozen=True)
class Announced:
    """One stream of a session description: where its packets are to be sent, and what their payload types stand for."""

    kind: str  # audio, video, ...
    address: str
    port: int
    codecs: dict[int, tuple[str, int]] = field(default_factory=dict)  # payload type: name, clock in Hz


@dataclass(frozen=True)
class SipMessage:
    """A request (status 0) or a response."""

    method: str  # of a response: of the request it answers
    status: int
    reason: str
    call_id: str
    number: int  # of CSeq
    streams: tuple[Announced, ...]


def message(data: bytes) -> SipMessage | None:
    """The message of a datagram; None where it is none, or too much of it is missing."""
    head, _, body = data[:_MOST].partition(b"\r\n\r\n")
    lines = head.split(b"\r\n")[:_MOST_LINES]
    start = lines[0].split(b" ", 2)
    if len(start) < 3:
        return None
    status, method, reason = 0, "", ""
    if start[0] == b"SIP/2.0" and start[1].isdigit() and len(start[1]) == 3:
        status, reason = int(start[1]), start[2].decode("utf-8", "replace").strip()
    elif start[0] in _METHODS and start[2].startswith(b"SIP/2.0"):
        method = start[0].decode()
    else:
        return None
    headers: dict[str, str] = {}
    for line in lines[1:]:
        name, colon, value = line.partition(b":")
        if colon:
            key = name.strip().lower().decode("latin-1")
            headers.setdefault(_COMPACT.get(key, key), value.strip().decode("utf-8", "replace"))
    number, _, answered = headers.get("cseq", "").partition(" ")
    if "call-id" not in headers or not number.isdecimal() or len(number) > 10:
        return None
    described = headers.get("content-type", "").lower().startswith("application/sdp")
    return SipMessage(
        method or answered.strip().upper(),
        status,
        reason,
        headers["call-id"][:256],
        int(number),
        tuple(announced(body)) if described else (),
    )


def announced(body: bytes) -> list[Announced]:
    """The streams of a session description, as far as it reaches."""
    session = ""
    found: list[Announced] = []
    current: Announced | None = None
    for line in body.decode("utf-8", "replace").splitlines()[:_MOST_LINES]:
        kind, _, value = line.partition("=")
        parts = value.split()
        if kind == "c" and len(parts) == 3:
            address = parts[2].partition("/")[0]
            if current is None:
                session = address
            else:
                current = Announced(current.kind, address, current.port, current.codecs)
                found[-1] = current
        elif kind == "m" and len(parts) >= 4 and parts[1].partition("/")[0].isdecimal() and "RTP" in parts[2]:
            port = int(parts[1].partition("/")[0][:6])
            current = Announced(
                parts[0], session, port, {int(p): ("", 0) for p in parts[3:40] if p.isdecimal() and int(p[:4]) < 128}
            )
            found.append(current)
        elif kind == "a" and value.startswith("rtpmap:") and current is not None and len(parts) >= 2:
            number, (name, _, rest) = parts[0][7:], parts[1].partition("/")
            clock = rest.partition("/")[0]
            if number.isdecimal() and int(number[:4]) < 128 and clock.isdecimal():
                current.codecs[int(number)] = (name[:32], int(clock[:9]))
    return [one for one in found if 0 < one.port < 65_536]
