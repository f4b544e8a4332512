"""Which protocol a connection speaks: what is told without a look at each leaves none out."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yaffle.exchanges.spoken import FIRST, may_be_spoken, spoken
from yaffle.protocols import mysql
from yaffle.protocols.http2_frames import PREFACE

BEGINNINGS = {
    "http": (b"GET /timetable HTTP/1.1\r\nHost: quay.example\r\n\r\n", b""),
    "http2": (PREFACE, b""),
    "tls": (b"\x16\x03\x01\x00\xc8\x01\x00\x00\xc4\x03\x03" + bytes(20), b""),
    "postgresql": (b"\x00\x00\x00\x17\x00\x03\x00\x00user\x00berth\x00\x00\x00", b""),
    "redis": (b"*1\r\n$4\r\nPING\r\n", b""),
    "mysql": (b"", b"\x4a\x00\x00\x00\x0a8.0.36\x00" + bytes(60)),
    "smb": (b"\x00\x00\x00\x40\xfeSMB@\x00" + bytes(50), b""),
    "ldap": (b"\x30\x0c\x02\x01\x01\x60\x07\x02\x01\x03\x04\x00\x80\x00", b""),
}
octets = st.binary(max_size=FIRST)


def may(client: bytes, server: bytes, port: int) -> bool:
    """Whether `spoken` would be asked about a connection that begins like this."""
    told = [client[0] if client else -1, server[0] if server else -1]
    told.append(server[mysql.VERSION_AT] if len(server) > mysql.VERSION_AT else -1)
    return bool(may_be_spoken(*(np.array([one]) for one in told), np.array([port], np.uint16))[0])


@pytest.mark.parametrize("protocol", BEGINNINGS)
def test_known_beginnings_are_asked_about(protocol: str) -> None:
    client, server = BEGINNINGS[protocol]
    assert spoken(client, server, 9999) == protocol
    assert may(client, server, 9999)


@given(st.sampled_from(sorted(BEGINNINGS)), octets, octets, st.integers(0, 12), st.sampled_from([53, 80, 9999]))
def test_whatever_is_spoken_is_asked_about(protocol: str, client: bytes, server: bytes, kept: int, port: int) -> None:
    asked, told = BEGINNINGS[protocol]
    for one, other in (((asked[:kept] + client), (told[:kept] + server)), (client, server), (asked[kept:], server)):
        if spoken(one[:FIRST], other[:FIRST], port):
            assert may(one[:FIRST], other[:FIRST], port)


def test_sealed_bytes_are_not_asked_about() -> None:
    assert not may(b"A" * 40, b"A" * 40, 8080)
    assert not may(b"", b"", 8080)
    assert may(b"A" * 40, b"", 53)
