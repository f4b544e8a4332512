"""Decoders that are fed piece by piece: at any moment they tell what they would tell of all bytes so far at once."""

import copy
import random
import struct

import pytest

from tests.protocols.test_mutated import SEEDS, mutated, sealed, shared
from tests.protocols.test_streams_of_text import NAME, hello, record
from yaffle.protocols.conversation import whole
from yaffle.protocols.dns_stream import DnsStream
from yaffle.protocols.http1 import Web
from yaffle.protocols.http2 import Web2
from yaffle.protocols.ldap import Ldap
from yaffle.protocols.message import Run
from yaffle.protocols.mysql import MySql
from yaffle.protocols.postgres import Postgres
from yaffle.protocols.redis import Redis
from yaffle.protocols.smb import Smb
from yaffle.protocols.tls import Tls


def _question(number, answer=False):
    """A message of DNS behind its length."""
    body = struct.pack("!HHHHHH", number, 0x8180 if answer else 0x100, 1, 0, 0, 0) + b"\1a\7example\0\0\1\0\1"
    return len(body).to_bytes(2, "big") + body


def _opening(name):
    """The body of an SMB request that opens a file."""
    wide = name.encode("utf-16-le")
    return bytes(44) + struct.pack("<HH", 120, len(wide)) + bytes(8) + wide


def _reading(file):
    """The body of one that reads from it."""
    return bytes(16) + file + bytes(17)


_NEWER = (
    record(22, hello(1, NAME)) + record(20, b"\1") + record(23, bytes(53)) + record(23, bytes(99)) * 2
    + record(23, bytes(19)),
    record(22, hello(2, b"\0\x2b\0\2\3\4")) + record(23, bytes(500)) + record(23, bytes(250)) * 2
    + record(23, bytes(900)) * 2 + record(23, bytes(19)),
)  # fmt: skip
_OLDER = (
    record(22, hello(1, NAME)) + record(22, bytes(60)) + record(20, b"\1") + record(22, bytes(40))
    + record(23, bytes(99)) * 2,
    record(22, hello(2, b"\0\0")) + record(22, bytes(900)) + record(20, b"\1") + record(22, bytes(40))
    + record(23, bytes(900)) * 2,
)  # fmt: skip
_START_TLS = bytes.fromhex("301d02010177188016") + b"1.3.6.1.4.1.1466.20037"
_FILES = (
    shared(5, 4, _opening("fares.txt")) + shared(8, 5, _reading(b"H" * 16)) + shared(15, 6, bytes(40))
    + shared(8, 7, _reading(b"H" * 16)),
    shared(5, 4, bytes(64) + b"H" * 16 + bytes(8), flags=1) + shared(8, 5, bytes(40), flags=1, status=0x103)
    + shared(8, 5, bytes(900), flags=1) + shared(18, 2**64 - 1, bytes(24), flags=1)
    + shared(8, 7, bytes(16), flags=1, status=0xC0000011),
)  # fmt: skip
CONVERSATIONS = {
    "dns": (DnsStream, _question(1) + _question(2) + _question(3), _question(2, True) + _question(1, True)),
    "redis": (Redis, *(side * 3 for side in SEEDS["redis"][1:])),
    "redis of parts": (
        Redis,
        b"*3\r\n$4\r\nMGET\r\n$1\r\na\r\n$1\r\nb\r\n" * 4,
        (b">2\r\n+a\r\n:1\r\n" + b"%1\r\n+k\r\n*2\r\n$-1\r\n$3\r\nabc\r\n") * 4,
    ),
    "ldap": (Ldap, *(side * 3 for side in SEEDS["ldap"][1:])),
    "ldap inside TLS": (Ldap, _START_TLS + _NEWER[0], bytes.fromhex("300c02010178070a010004000400") + _NEWER[1]),
    "ldap that stays open": (
        Ldap,
        _START_TLS + SEEDS["ldap"][1],
        bytes.fromhex("300c02010178070a010204000400") + SEEDS["ldap"][2],
    ),
    "smb": (Smb, *_FILES),
    "smb that is sealed": (Smb, _FILES[0] + sealed(90) * 3, _FILES[1] + sealed(300) * 3),
    "http": (Web, *SEEDS["http"][1:]),
    "http2": (Web2, *SEEDS["http2"][1:]),
    "postgres": (Postgres, *SEEDS["postgres"][1:]),
    "postgres inside TLS": (Postgres, b"\0\0\0\x08\x04\xd2\x16\x2f" + _NEWER[0], b"S" + _NEWER[1]),
    "postgres inside GSS": (Postgres, b"\0\0\0\x08\x04\xd2\x16\x30" + bytes(40), b"G" + bytes(90)),
    "mysql": (MySql, *SEEDS["mysql"][1:]),
    "tls of today": (Tls, *_NEWER),
    "tls of before": (Tls, *_OLDER),
}


def pieces(data, rnd):
    """A side's bytes, cut anywhere."""
    found, at = [], 0
    while at < len(data):
        size = rnd.choice((1, 2, 3, 5, 9, 30, 100, 400))
        found.append(Run(at, data[at : at + size]))
        at += size
    return found


def interleaved(client, server, rnd):
    """(side, piece) of both sides, each side's in order."""
    left, found = [pieces(client, rnd), pieces(server, rnd)], []
    while any(left):
        side = rnd.randrange(2) if all(left) else int(not left[0])
        for _ in range(rnd.randrange(1, 6)):
            if left[side]:
                found.append((side, left[side].pop(0)))
    return found


def sides(passed):
    """What passed, as runs of both sides and their order."""
    data = [b"".join(piece.data for side, piece in passed if side == own) for own in (0, 1)]
    return *([Run(0, some)] if some else [] for some in data), [(side, piece.end) for side, piece in passed]


def said(pairs):
    return sorted(pairs, key=lambda pair: pair.request)


@pytest.mark.parametrize("name", CONVERSATIONS)
def test_what_is_told_so_far_does_not_depend_on_the_pieces(name):
    made, client, server = CONVERSATIONS[name]
    rnd = random.Random(name)
    early = 0
    for number in range(400):
        asked, told = (client, server) if number < 50 else (mutated(client, rnd), mutated(server, rnd))
        passed = interleaved(asked, told, rnd)
        conversation, kept, at = made(), [], 0
        for stop in sorted(rnd.randrange(len(passed) + 1) for _ in range(4)):
            part = passed[at:stop]
            order = [(side, piece.end) for side, piece in part]
            conversation.feed(*([piece for side, piece in part if side == own] for own in (0, 1)), order)
            kept, conversation.pairs, at = kept + conversation.pairs, [], stop
            early += len(kept)
            so_far = copy.deepcopy(conversation)
            so_far.finish([], [], [])
            wanted = whole(made(), *sides(passed[:stop]))
            assert said(kept + so_far.pairs) == said(wanted.pairs)
            assert (so_far.host, so_far.note, so_far.sealed) == (wanted.host, wanted.note, wanted.sealed)
    assert early > 100  # Exchanges do come out before the end.


@pytest.mark.parametrize("name", CONVERSATIONS)
def test_beginnings_that_lead_nowhere_are_read_through(name):
    """Long sides of them, behind a hole: what looked at all that follows for each of them would not end here."""
    made, client, server = CONVERSATIONS[name]
    bait = b"\nGET \nHTTP/1.1 x\r\nQ\0\0\0\0P\0\0\0\1Z\0\0\0\5x\x17\x03\x03\0\x02ab" * 40_000
    found = whole(made(), [Run(0, client), Run(9_999, bait)], [Run(0, server), Run(9_999, bait)])
    assert all(pair.request <= pair.request_end for pair in found.pairs)
