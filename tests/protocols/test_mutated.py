"""Every decoder on mutated and made-up bytes: it answers, in bounded time, with places that lie within what it was given."""

import random

import pytest

from tests.protocols.test_streams_of_text import NAME, front, hello, packet, record
from yaffle.protocols import dhcp, dns, http1, mysql, postgres, radius, redis, tls
from yaffle.protocols.message import Run

_PAGES = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\nHTTP/1.1 204 No\r\n\r\n"
_SIGN_ON = b"\0\0\0\x12\0\3\0\0user\0me\0\0\0"
_STATEMENTS = front(b"Q", b"select 1\0") + front(b"P", b"s\0x\0\0\0") + front(b"S", b"")
_READY = front(b"Z", b"I")
_GREETING = packet(0, b"\x0a8.0\0" + bytes(60)) + packet(2, b"\0\0\0")
SEEDS = {
    "http": (http1.decode, b"GET /a HTTP/1.1\r\nHost: b\r\nContent-Length: 4\r\n\r\nbodyHEAD /c HTTP/1.1\r\n\r\n", _PAGES),
    "redis": (redis.decode, b"*2\r\n$3\r\nGET\r\n$1\r\nk\r\n*1\r\n$4\r\nPING\r\n", b"*2\r\n$1\r\na\r\n*1\r\n:5\r\n-ERR x\r\n"),
    "postgres": (postgres.decode, _SIGN_ON + _STATEMENTS, front(b"R", b"\0\0\0\0") + _READY + front(b"E", b"C42P01\0\0") + _READY),
    "mysql": (mysql.decode, packet(1, bytes(64)) + packet(0, b"\x03select 1") + packet(0, b"\x16x"), _GREETING + packet(1, b"\xff\1\0#42000no") + packet(1, b"\0\1\0\0\0")),
    "dns": (dns.decode, b"\0\x1d\0\1\1\0\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1", b"\0\x1d\0\1\x81\x80\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1"),
}  # fmt: skip
_CUTS = (0, 1, 255, 127, 128, 13, 10)


def mutated(data, rnd):
    data = bytearray(data * rnd.choice((1, 1, 2)))
    for _ in range(rnd.randrange(5)):
        if not data:
            break
        at, how = rnd.randrange(len(data)), rnd.randrange(5)
        if how == 0:
            data[at] = rnd.randrange(256)
        elif how == 1:
            data[at] = rnd.choice(_CUTS)
        elif how == 2:
            del data[at : at + rnd.randrange(1, 9)]
        elif how == 3:
            data[at:at] = data[at : at + rnd.randrange(1, 30)]
        else:
            data[at : at + 4] = rnd.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"9999"))
    return bytes(data)


def split(data, rnd):
    """One run, or two with a hole between."""
    if len(data) > 4 and rnd.random() < 0.3:
        cut = rnd.randrange(1, len(data))
        return [Run(0, data[:cut]), Run(cut + 500, data[cut:])]
    return [Run(0, data)] if data else []


def check(pairs, client, server):
    ends = [max((r.end for r in side), default=0) for side in (client, server)]
    for pair in pairs:
        assert 0 <= pair.request <= pair.request_end <= ends[0]
        assert pair.answer == -1 or 0 <= pair.answer <= pair.answer_end <= ends[1]


@pytest.mark.parametrize("name", SEEDS)
def test_mutated_streams(name):
    decode, client, server = SEEDS[name]
    rnd = random.Random(name)
    for _ in range(4000):
        sides = split(mutated(client, rnd), rnd), split(mutated(server, rnd), rnd)
        check(decode(*sides).pairs, *sides)


def test_mutated_records():
    rnd = random.Random(7)
    client = record(22, hello(1, NAME)) + record(20, b"\1") + record(23, bytes(53)) + record(23, bytes(100))
    server = record(22, hello(2, b"\0\x2b\0\2\3\4")) + record(23, bytes(250)) + record(23, bytes(250)) + record(23, bytes(900))
    for _ in range(4000):
        one, two = split(mutated(client, rnd), rnd), split(mutated(server, rnd), rnd)
        order = sorted(((side, place) for side, part in ((0, one), (1, two)) for r in part for place in range(r.at + 1, r.end + 1, 97)), key=lambda _: rnd.random())
        check(tls.decode(one, two, [*order, (0, 10_000), (1, 10_000)]).pairs, one, two)


@pytest.mark.parametrize("parse", [dns.parse, dhcp.parse, radius.parse])
def test_mutated_datagrams(parse):
    rnd = random.Random(3)
    seeds = (
        b"\0\1\x81\x80\0\1\0\1\0\0\0\0\1a\7example\0\0\1\0\1\xc0\x0c\0\1\0\1\0\0\0\5\0\4\xc0\0\2\1",
        b"\1\1\6\0" + bytes(4) + bytes(220) + bytes(8) + b"\x63\x82\x53\x63\x35\1\1\x32\4\x0a\0\0\1\xff",
        b"\1\7\0\x1e" + bytes(16) + b"\1\x0aabcdefgh",
    )
    for _ in range(6000):
        parse(mutated(rnd.choice(seeds), rnd))
    assert parse(b"") is None
    assert parse(rnd.randbytes(300)) is None or parse is dns.parse
