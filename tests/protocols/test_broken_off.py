"""An answer that ends in the middle of what it announced broke off; one that has a hole in it, or that is whole, did
not.
"""

import pytest

from tests.protocols.test_mutated import frame
from tests.protocols.test_streams_of_text import NAME, front, hello, record
from yaffle.protocols import http1, http2, postgres, redis
from yaffle.protocols.conversation import whole
from yaffle.protocols.message import Run
from yaffle.protocols.tls import Tls

_GET = b"GET /a HTTP/1.1\r\nHost: b\r\n\r\n"
_SIZED = b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\n" + bytes(100)
_CHUNKED = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + b"32\r\n" + bytes(50) + b"\r\n"
_ASK_PAGE = bytes.fromhex("828684410f7777772e6578616d706c652e636f6d")
_WEB2 = http2.PREFACE + frame(4, 0, 0, b"") + frame(1, 5, 1, _ASK_PAGE)
_PAGE2 = frame(4, 0, 0, b"") + frame(1, 4, 1, b"\x88") + frame(0, 0, 1, bytes(40))


_SELECT = b"\0\0\0\x12\0\3\0\0user\0me\0\0\0" + front(b"Q", b"select 1\0")
_READY = front(b"Z", b"I")
_SIGNED_ON = front(b"R", b"\0\0\0\0") + _READY
_ROWS = front(b"T", b"\0\1c\0" + bytes(18)) + front(b"D", bytes(30))
_HELLOS = (
    record(22, hello(1, NAME)),
    record(22, hello(2, b"\0\x2b\0\2\3\4")) + record(20, b"\1") + record(23, bytes(90)),
)
_ASKED = _HELLOS[0] + record(20, b"\1") + record(23, bytes(53)) + record(23, bytes(80))
_TOLD = _HELLOS[1] + record(20, b"\1") + record(23, bytes(90)) + record(23, bytes(500))


def _tls(client, server):
    """All of the client's, then all of the server's but its hello: whole turns."""
    order = [(0, len(_HELLOS[0])), (1, len(_HELLOS[1])), (0, client[-1].end), (1, server[-1].end)]
    return whole(Tls(), client, server, order)


CASES = {  # how it is decoded, what was asked, and of the answer: what it may end after, and what makes it whole
    "a length": (http1.decode, _GET, _SIZED[:90], _SIZED[90:]),
    "a chunk": (http1.decode, _GET, _CHUNKED[:-20], _CHUNKED[-20:] + b"0\r\n\r\n"),
    "between chunks": (http1.decode, _GET, _CHUNKED, b"0\r\n\r\n"),
    "a stream": (http2.decode, _WEB2, _PAGE2, frame(0, 1, 1, b"end")),
    "rows": (postgres.decode, _SELECT, _SIGNED_ON + _ROWS, front(b"C", b"SELECT 1\0") + _READY),
    "a value": (redis.decode, b"*2\r\n$3\r\nGET\r\n$1\r\nk\r\n", b"$100\r\n" + bytes(60), bytes(40) + b"\r\n"),
    "a record": (_tls, _ASKED, _TOLD[:-100], _TOLD[-100:]),
}


@pytest.mark.parametrize("name", CASES)
def test_it_broke_off_before_it_was_whole(name):
    decode, client, begun, rest = CASES[name]
    cut = decode([Run(0, client)], [Run(0, begun)]).pairs[-1]
    assert cut.broken_off
    assert cut.answer >= 0
    assert cut.answer_end == len(begun)
    assert not decode([Run(0, client)], [Run(0, begun + rest)]).pairs[-1].broken_off


@pytest.mark.parametrize("name", ["a length", "a chunk", "a value", "a record"])
def test_where_bytes_are_missing_nothing_broke_off(name):
    decode, client, begun, _ = CASES[name]
    found = decode([Run(0, client)], [Run(0, begun[:-20]), Run(len(begun) + 5000, begun[-20:])])
    assert not any(pair.broken_off for pair in found.pairs)


@pytest.mark.parametrize("of_client", [True, False])
def test_a_stream_that_was_stopped_did_not_break_off(of_client):
    stop = frame(3, 0, 1, bytes(4))
    client, server = (_WEB2 + stop, _PAGE2) if of_client else (_WEB2, _PAGE2 + stop)
    pair = http2.decode([Run(0, client)], [Run(0, server)]).pairs[-1]
    assert pair.outcome == "200"
    assert not pair.broken_off
