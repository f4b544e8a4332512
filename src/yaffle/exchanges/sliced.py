"""Captures whose packets were sliced: exchanges by turns of bytes, with what the first bytes of each turn still tell.

Messages cannot be followed to their ends where their bytes were cut away; turns can, since headers tell every size.
Pipelined messages fall into one turn, and what fails only at the end of an answer is not seen to fail.
"""

import re
from collections.abc import Callable

import numpy as np

from yaffle.capture.payload import Payload
from yaffle.exchanges.turns import TurnRows, empty_turns, find_turns
from yaffle.protocols import ldap, mysql, postgres, redis, smb
from yaffle.protocols.message import ENCRYPTION, EXCHANGE, SIGN_ON, Decoded, Run
from yaffle.transport.segments import Segments

NOTE = "truncated packets: requests inferred from direction changes and first bytes"
_LONGEST = 200
_ASK = re.compile(rb"([A-Z][A-Z-]{1,19}) ([^ \r\n]{1,4096})")
_STATUS = re.compile(rb"HTTP/1\.[01] (\d{3})")
_HOST = re.compile(rb"\r\nhost:[ \t]*([^\r\n]{1,255}?)[ \t]*\r\n", re.IGNORECASE)
_SEALED_HANDSHAKE = b"\x16"
Glance = tuple[str, str, int]  # label, outcome, kind


def _web(asked: bytes, told: bytes) -> Glance:
    found, status = _ASK.match(asked), _STATUS.match(told)
    return (
        f"{found[1].decode('latin-1')} {found[2].decode('latin-1')}"[:_LONGEST] if found else "",
        status[1].decode() if status else "answered",
        EXCHANGE,
    )


def _postgres(asked: bytes, told: bytes) -> Glance:
    if asked[:1] == b"\0" or asked[:1] == b"p":
        return "sign-on", "answered", SIGN_ON
    return postgres.first_statement(asked), postgres.first_outcome(told), EXCHANGE


def _mysql(asked: bytes, told: bytes) -> Glance:
    if asked[3:4] != b"\0":  # Its packets are numbered on from the greeting.
        return "sign-on", "answered", SIGN_ON
    return mysql.command(asked[4:]), mysql.first_outcome(told), EXCHANGE


def _redis(asked: bytes, told: bytes) -> Glance:
    return redis.command(asked), redis.outcome(told), EXCHANGE


def _decoded(decode: Callable[[list[Run], list[Run]], Decoded]) -> Callable[[bytes, bytes], Glance]:
    """For protocols whose decoders bear messages that are cut off."""

    def look(asked: bytes, told: bytes) -> Glance:
        pairs = decode([Run(0, asked)], [Run(0, told)]).pairs
        return (
            (pairs[0].label, pairs[0].outcome if pairs[0].answer >= 0 else "answered", EXCHANGE)
            if pairs
            else ("", "answered", EXCHANGE)
        )

    return look


def _nothing(_asked: bytes, _told: bytes) -> Glance:
    return "", "answered", EXCHANGE


def _sealed(asked: bytes, told: bytes) -> Glance:
    return "", "answered", ENCRYPTION if asked[:1] == _SEALED_HANDSHAKE else EXCHANGE


def _files(asked: list[Run], told: list[Run]) -> Decoded:
    return smb.decode(asked, told, [])


_LOOKS: dict[str, Callable[[bytes, bytes], Glance]] = {
    "http": _web, "postgresql": _postgres, "mysql": _mysql, "redis": _redis, "tls": _sealed,
    "ldap": _decoded(ldap.decode),
    "smb": _decoded(_files),
}  # fmt: skip


def is_sliced(g: Segments, payload: Payload) -> bool:
    """Whether a connection has payload that was not kept. g: its segments, as gathered."""
    rows, packets = g["row"], payload.packets
    return bool((packets.captured_bytes[rows].astype(np.int64) - packets.payload_at[rows] < g["n"]).any())


def glanced(protocol: str, g: Segments, payload: Payload) -> tuple[TurnRows, list[str], list[str], str]:
    """(turns, labels, outcomes, the server's name) of a sliced connection."""
    turns = empty_turns(g.size)
    count = int(find_turns(g, turns))
    rows = turns[:count].copy()
    look = _LOOKS.get(protocol, _nothing)
    label, outcome, host = [], [], ""
    for row in rows:
        asked = payload.of_packet(int(g["row"][row["first"]]))
        told = payload.of_packet(int(g["row"][row["answer"]])) if row["answer"] >= 0 else b""
        what, how, row["kind"] = look(asked, told)
        label.append(what)
        outcome.append(how if row["answer"] >= 0 else "unanswered")
        if protocol == "http" and not host and (named := _HOST.search(asked)):
            host = named[1].decode("latin-1")
    return rows, label, outcome, host.rsplit(":", 1)[0] if host.count(":") == 1 else host
