"""Every decoder on mutated and made-up bytes: it answers, in bounded time, with places that lie within what it was
given.
"""

import gzip
import random
import struct
from pathlib import Path

import pytest

from tests.protocols.test_streams_of_text import NAME, front, hello, packet, record
from yaffle.protocols import (
    dhcp,
    dhcp6,
    dns,
    dns_stream,
    http1,
    http2,
    ldap,
    mysql,
    ntp,
    postgres,
    quic,
    radius,
    redis,
    smb,
    smb_frames,
    snmp,
    tls,
)
from yaffle.protocols.message import Run


def frame(kind, flags, stream, body):
    """One frame of HTTP/2."""
    return len(body).to_bytes(3, "big") + bytes([kind, flags]) + stream.to_bytes(4, "big") + body


def shared(command, number, body, flags=0, status=0):
    """One message of SMB in its frame."""
    data = smb_frames.PLAIN + struct.pack("<HHIHHIIQ", 64, 1, status, command, 1, flags, 0, number) + bytes(32) + body
    return len(data).to_bytes(4, "big") + data


def sealed(size):
    """One encrypted message of SMB."""
    return (4 + size).to_bytes(4, "big") + smb_frames.SEALED + bytes(size)


_PAGES = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\nHTTP/1.1 204 No\r\n\r\n"
_SIGN_ON = b"\0\0\0\x12\0\3\0\0user\0me\0\0\0"
_STATEMENTS = front(b"Q", b"select 1\0") + front(b"P", b"s\0x\0\0\0") + front(b"S", b"")
_READY = front(b"Z", b"I")
_GREETING = packet(0, b"\x0a8.0\0" + bytes(60)) + packet(2, b"\0\0\0")
_ASK_PAGE = bytes.fromhex("828684410f7777772e6578616d706c652e636f6d")
_BIND = bytes.fromhex("301102010160 0c0201030402636e800361 6263".replace(" ", ""))
_FIND = bytes.fromhex(
    "302502010263200402634e0a01020a0100020100020100010100a30a0402636e0404646573 6b3000".replace(" ", "")
)
SEEDS = {
    "http": (
        http1.decode,
        b"GET /a HTTP/1.1\r\nHost: b\r\nContent-Length: 4\r\n\r\nbodyHEAD /c HTTP/1.1\r\n\r\n",
        _PAGES,
    ),
    "redis": (
        redis.decode,
        b"*2\r\n$3\r\nGET\r\n$1\r\nk\r\n*1\r\n$4\r\nPING\r\n",
        b"*2\r\n$1\r\na\r\n*1\r\n:5\r\n-ERR x\r\n",
    ),
    "postgres": (
        postgres.decode,
        _SIGN_ON + _STATEMENTS,
        front(b"R", b"\0\0\0\0") + _READY + front(b"E", b"C42P01\0\0") + _READY,
    ),
    "mysql": (
        mysql.decode,
        packet(1, bytes(64))
        + packet(0, b"\x03select 1")
        + packet(0, b"\x16x")
        + packet(0, b"\x17\1\0\0\0\0\1\0\0\0\0\1\3\0\xfd\0\7\0\0\0\2ab"),
        _GREETING
        + packet(1, b"\xff\1\0#42000no")
        + packet(1, b"\0\1\0\0\0\0\0\2\0\0\0\0")
        + packet(1, b"\0\0\0\2\0\0\0"),
    ),
    "dns": (
        dns_stream.decode,
        b"\0\x1d\0\1\1\0\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1",
        b"\0\x1d\0\1\x81\x80\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1",
    ),
}
SEEDS |= {
    "http2": (
        http2.decode,
        http2.PREFACE
        + frame(4, 0, 0, b"")
        + frame(1, 5, 1, _ASK_PAGE)
        + frame(1, 4, 3, _ASK_PAGE)
        + frame(0, 1, 3, b"body"),
        frame(4, 0, 0, b"")
        + frame(1, 4, 3, b"\x88")
        + frame(1, 4, 1, b"\x8d")
        + frame(0, 1, 1, bytes(40))
        + frame(9, 4, 3, b"\x88")
        + frame(3, 0, 3, bytes(4)),
    ),
    "ldap": (
        ldap.decode,
        _BIND + _FIND,
        bytes.fromhex("300c02010161070a010004000400")
        + bytes.fromhex("301602010264110402634e30 0b3009040161310404023132".replace(" ", ""))
        + bytes.fromhex("300c02010265070a012004000400"),
    ),
}
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


@pytest.mark.parametrize("name", SEEDS)
def test_what_is_mutated_is_understood_whole(name):
    decode, client, server = SEEDS[name]
    pairs = decode([Run(0, client)], [Run(0, server)]).pairs
    assert pairs
    assert any(pair.answer >= 0 for pair in pairs)


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
    server = (
        record(22, hello(2, b"\0\x2b\0\2\3\4"))
        + record(23, bytes(250))
        + record(23, bytes(250))
        + record(23, bytes(900))
    )
    for _ in range(4000):
        one, two = split(mutated(client, rnd), rnd), split(mutated(server, rnd), rnd)
        order = sorted(
            (
                (side, place)
                for side, part in ((0, one), (1, two))
                for r in part
                for place in range(r.at + 1, r.end + 1, 97)
            ),
            key=lambda _: rnd.random(),
        )
        check(tls.decode(one, two, [*order, (0, 10_000), (1, 10_000)]).pairs, one, two)


def test_mutated_files():
    rnd = random.Random(9)
    client = shared(3, 1, b"\x09\0\0\0\x48\0\x0a\0" + "\\\\a\\b".encode("utf-16-le")) + shared(
        5, 2, bytes(44) + b"\x78\0\x04\0" + bytes(8) + b"a\0b\0"
    )
    client += shared(8, 3, bytes(48)) + sealed(40)
    server = (
        shared(3, 1, bytes(16), 1)
        + shared(5, 2, bytes(88), 1)
        + shared(8, 3, b"", 1, 0x103)
        + shared(8, 3, bytes(60), 1)
        + sealed(90)
    )
    for _ in range(4000):
        one, two = split(mutated(client, rnd), rnd), split(mutated(server, rnd), rnd)
        order = [(side, r.end) for side, part in ((0, one), (1, two)) for r in part]
        check(smb.decode(one, two, order).pairs, one, two)


def test_mutated_first_packets_of_quic():
    rnd = random.Random(11)
    rows = gzip.decompress((Path(__file__).parents[1] / "data" / "services" / "quick.pcap.gz").read_bytes())
    at = rows.index(b"\0\0\0\1\x08") - 1
    first = rows[at : at + 1200]
    packet = quic.packets(first)[0]
    frames = quic.opened(first, packet, packet.destination)
    for _ in range(3000):
        data = mutated(first, rnd)
        for found in quic.packets(data):
            assert 0 <= found.start <= found.end <= len(data)
            if rnd.random() < 0.05:
                quic.opened(data, found, found.destination)
        hello_ = quic.Hello()
        for _ in range(2):
            hello_.take(mutated(frames, rnd))
        assert len(hello_.name) < 1200


@pytest.mark.parametrize("parse", [dns.parse, dhcp.parse, radius.parse, dhcp6.parse, ntp.parse, snmp.parse])
def test_mutated_datagrams(parse):
    rnd = random.Random(3)
    seeds = (
        b"\x01\0\0\5\0\1\0\x0a\0\3\0\1\2\3\4\5\6\7\0\3\0\x28" + bytes(12) + b"\0\5\0\x18" + bytes(24),
        b"\x0c\0" + bytes(32) + b"\0\x09\0\x12" + b"\x01\0\0\5\0\1\0\x0a\0\3\0\1\2\3\4\5\6\7",
        b"\x23" + bytes(47),
        bytes.fromhex("302602010104067075626c6963a01902040badcafe020100020100300b300906052b060102010500"),
        b"\0\1\x81\x80\0\1\0\1\0\0\0\0\1a\7example\0\0\1\0\1\xc0\x0c\0\1\0\1\0\0\0\5\0\4\xc0\0\2\1",
        b"\1\1\6\0" + bytes(4) + bytes(220) + bytes(8) + b"\x63\x82\x53\x63\x35\1\1\x32\4\x0a\0\0\1\xff",
        b"\1\7\0\x1e" + bytes(16) + b"\1\x0aabcdefgh",
    )
    for _ in range(6000):
        parse(mutated(rnd.choice(seeds), rnd))
    assert parse(b"") is None
    assert parse(rnd.randbytes(300)) is None or parse in (dns.parse, ntp.parse, dhcp6.parse)
