"""Decoders of streams, on bytes written by hand: what is asked and answered, what is missing, what makes no sense."""

from struct import Struct

import pytest

from yaffle.protocols import dns, dns_stream, http1, mysql, postgres, redis, tls
from yaffle.protocols.message import ENCRYPTION, LAST_OF_ENCRYPTION, SIGN_ON, Run


def runs(*parts):
    """Runs from (place, bytes) or one run from bytes."""
    return [Run(*p) if isinstance(p, tuple) else Run(0, p) for p in parts]


def said(found):
    return [(p.label, p.outcome) for p in found.pairs]


def test_pipelined_requests_with_bodies_of_every_kind():
    client = (
        b"GET /a HTTP/1.1\r\nHost: x.example:8080\r\n\r\nPOST /b HTTP/1.1\r\nContent-Length: 3\r\n\r\nabcHEAD /c"
        b" HTTP/1.1\r\n\r\nGET /d HTTP/1.1\r\n\r\nGET /e HTTP/1.1\r\n\r\n"
    )
    server = (
        b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n5;x=y\r\nHTTP/\r\n0\r\n\r\n"
        b"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 201 Created\r\ncontent-length: 2\r\n\r\nok"
        b"HTTP/1.1 200 OK\r\nContent-Length: 5000\r\n\r\n"
        b"HTTP/1.1 304 Not Modified\r\n\r\nHTTP/1.1 200 OK\r\n\r\nto the end"
    )
    found = http1.decode(runs(client), runs(server))
    assert said(found) == [
        ("GET /a", "200"),
        ("POST /b", "201"),
        ("HEAD /c", "200"),
        ("GET /d", "304"),
        ("GET /e", "200"),
    ]
    assert found.host == "x.example"
    assert [(server[p.answer : p.answer + 6], p.answer_end) for p in found.pairs][-1] == (b"HTTP/1", len(server))
    assert all(
        a.answer_end <= b.answer and a.request_end == b.request
        for a, b in zip(found.pairs, found.pairs[1:], strict=False)
    )


def test_an_upgrade_ends_the_exchanges_and_a_silent_server_is_told():
    found = http1.decode(
        runs(b"GET /ws HTTP/1.1\r\nUpgrade: websocket\r\n\r\n\x81\x05hello"),
        runs(b"HTTP/1.1 101 Switching\r\n\r\n\x81\x02HTTP/1.1 200"),
    )
    assert said(found) == [("GET /ws", "101")]
    assert said(http1.decode(runs(b"GET /x HTTP/1.1\r\n\r\n"), [])) == [("GET /x", "unanswered")]


def test_after_a_hole_the_next_request_is_found():
    client = runs((0, b"GET /a HTTP/1.1\r\nHost: x"), (900, b"rest\r\n\r\nGET /b HTTP/1.1\r\n\r\n"))
    found = http1.decode(
        client, runs(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\nHTTP/1.1 404 No\r\nContent-Length: 0\r\n\r\n")
    )
    assert said(found) == [("GET /a", "200"), ("GET /b", "404")]


def test_redis_values_nest_and_pushes_answer_nothing():
    client = b"*2\r\n$3\r\nGET\r\n$1\r\nk\r\n*1\r\n$4\r\nPING\r\n*3\r\n$5\r\nHMGET\r\n$1\r\nh\r\n$0\r\n\r\n"
    server = b"$-1\r\n>2\r\n$1\r\na\r\n$1\r\nb\r\n-ERR no\r\n*2\r\n*1\r\n:5\r\n%1\r\n+a\r\n#t\r\n"
    found = redis.decode(runs(client), runs(server))
    assert said(found) == [("GET k", "OK"), ("PING", "ERR"), ("HMGET h", "OK")]
    assert found.pairs[-1].answer_end == len(server)


def front(kind, body):
    return kind + Struct("!I").pack(4 + len(body)) + body


def test_postgres_sign_on_simple_and_prepared_statements():
    start = Struct("!III").pack(8, 80877103, 0)[:8] + Struct("!II").pack(18, 196608) + b"user\0me\0\0\0"[:10]
    client = start + front(b"p", b"secret\0") + front(b"Q", b"select  1\0")
    client += (
        front(b"P", b"s1\0select $1\0\0\0")
        + front(b"B", b"\0s1\0\0\0\0\0\0\0")
        + front(b"E", b"\0\0\0\0\0")
        + front(b"S", b"")
    )
    client += front(b"B", b"\0s1\0\0\0\0\0\0\0") + front(b"E", b"\0\0\0\0\0") + front(b"S", b"") + front(b"X", b"")
    ready = front(b"Z", b"I")
    server = b"N" + front(b"R", b"\0\0\0\3") + front(b"R", b"\0\0\0\0") + ready
    server += front(b"T", b"\0\0") + front(b"D", b"\0\0") + front(b"C", b"SELECT 1\0") + ready
    server += (
        front(b"1", b"")
        + front(b"2", b"")
        + front(b"E", b"SERROR\0C42P01\0Mgone\0\0")
        + ready
        + front(b"2", b"")
        + front(b"C", b"SELECT 1\0")
        + ready
    )
    assert postgres.looks_like(client, server)
    found = postgres.decode(runs(client), runs(server))
    assert [(p.label, p.outcome, p.kind) for p in found.pairs] == [
        ("sign-on", "00000", SIGN_ON),
        ("select 1", "00000", 0),
        ("select $1", "42P01", 0),
        ("select $1", "00000", 0),
    ]
    assert found.pairs[1].answer_end <= found.pairs[2].answer


def packet(number, body):
    return len(body).to_bytes(3, "little") + bytes([number]) + body


def test_mysql_commands_and_errors():
    greeting = packet(0, b"\x0a8.0.1\0" + bytes(60))
    server = (
        greeting
        + packet(2, b"\0\0\0\2\0\0\0")
        + packet(1, b"\1")
        + packet(2, b"def")
        + packet(3, b"row")
        + packet(4, b"\xfe\0\0\2\0")
        + packet(1, b"\xff\x7a\x04#42S02no table")
    )
    client = (
        packet(1, b"\x85\xa6\xff\1" + bytes(60))
        + packet(0, b"\x03select 1")
        + packet(0, b"\x03select * from gone")
        + packet(0, b"\x01")
    )
    assert mysql.looks_like(client, server)
    found = mysql.decode(runs(client), runs(server))
    assert [(p.label, p.outcome, p.kind) for p in found.pairs] == [
        ("sign-on", "00000", SIGN_ON),
        ("select 1", "00000", 0),
        ("select * from gone", "42S02", 0),
    ]


PREPARED, DONE = packet(1, b"\0\7\0\0\0\0\0\2\0\0\0\0"), packet(1, b"\0\0\0\2\0\0\0")


def execute(body):
    return packet(0, b"\x17\7\0\0\0\0\1\0\0\0" + body)


def mysql_pairs(client, server, capabilities=b"\x85\xa6\xff\1"):
    greeting = packet(0, b"\x0a8.0.1\0" + bytes(60)) + packet(2, b"\0\0\0\2\0\0\0")
    return mysql.decode(runs(packet(1, capabilities + bytes(60)) + client), runs(greeting + server)).pairs[1:]


def test_mysql_values_of_prepared_statements():
    whole, text = b"\x08\0", b"\xfd\0"
    client = packet(0, b"\x16select * from seat where boat = ? and name = ?")
    client += execute(b"\0\1" + whole + text + (4711).to_bytes(8, "little") + b"\5Anwen")
    client += execute(b"\0\0" + (-5).to_bytes(8, "little", signed=True) + b"\4Berc")  # types as before
    client += execute(b"\1\1\x06\0" + text + b"\2Cy")  # the first is null
    client += execute(b"\0\1" + b"\x0c\0" + b"\x05\0" + b"\4\xea\x07\1\2" + b"\0\0\0\0\0\0\xf8\x3f")
    found = mysql_pairs(client, PREPARED + 4 * DONE)
    assert {p.label for p in found[1:]} == {"select * from seat where boat = ? and name = ?"}
    assert [p.values for p in found[1:]] == [("4711", "Anwen"), ("-5", "Berc"), ("Cy",), ("1.5",)]


def test_mysql_attributes_stand_before_a_query_and_name_values():
    able = (1 << 27 | 0x85).to_bytes(4, "little")
    client = packet(0, b"\x03\0\1select 1") + packet(0, b"\x03\1\1\0\1\xfd\0\5trace\3abcselect 2")
    client += packet(0, b"\x16select ?") + execute(b"\2\0\1\3\0\0\xfd\0\5trace\x2a\0\0\0\3abc")
    found = mysql_pairs(client, 2 * DONE + packet(1, b"\0\7\0\0\0\0\0\1\0\0\0\0") + DONE, able)
    assert [p.label for p in found] == ["select 1", "select 2", "PREPARE select ?", "select ?"]
    assert found[-1].values == ("42", "abc")


def test_mysql_values_that_are_cut_or_contradict_themselves_are_left_out():
    for body in (b"", b"\0", b"\0\1\3", b"\0\1\x08\0\xfd\0\1", b"\0\1\3\0\xfd\0\1\0\0\0\xfe\1", b"\0\0"):
        found = mysql_pairs(packet(0, b"\x16select ?, ?") + execute(body), PREPARED + DONE)
        assert found[1].label == "select ?, ?"
        assert len(found[1].values) <= 1


def record(kind, body):
    return bytes([kind, 3, 3]) + len(body).to_bytes(2, "big") + body


def hello(kind, extensions):
    sizes = b"\0" + (b"\0\2\x13\1\1\0" if kind == 1 else b"\x13\1\0")
    body = b"\3\3" + bytes(32) + sizes + len(extensions).to_bytes(2, "big") + extensions
    return bytes([kind]) + len(body).to_bytes(3, "big") + body


NAME = b"\0\0\0\x0e\0\x0c\0\0\x09a.example"


def in_order(client, server, *steps):
    """Order of segments from steps (side, end)."""
    return tls.decode(runs(client), runs(server), list(steps))


def test_tls_13_finished_and_tickets_are_no_exchange():
    c1, s1 = (
        record(22, hello(1, NAME)),
        record(22, hello(2, b"\0\x2b\0\2\3\4")) + record(20, b"\1") + record(23, bytes(900)),
    )
    c2, c3 = record(20, b"\1") + record(23, bytes(53)), record(23, bytes(120))
    s2, s3 = record(23, bytes(250)) * 2, record(23, bytes(4000))
    client, server = c1 + c2 + c3, s1 + s2 + s3
    found = in_order(
        client,
        server,
        (0, len(c1)),
        (1, len(s1)),
        (0, len(c1 + c2)),
        (0, len(client)),
        (1, len(s1 + s2)),
        (1, len(server)),
    )
    assert (found.host, found.note) == ("a.example", "TLS 1.3")
    assert [p.kind for p in found.pairs] == [ENCRYPTION, 0]
    assert (found.pairs[1].request, found.pairs[1].answer, found.pairs[1].answer_end) == (
        len(c1 + c2),
        len(s1 + s2),
        len(server),
    )


def test_tls_12_has_two_turns_and_then_what_was_asked():
    c1, s1 = (
        record(22, hello(1, NAME)),
        record(22, hello(2, b"\0\0")) + record(22, b"\x0b" + bytes(900)) + record(22, b"\x0e\0\0\0"),
    )
    c2, s2 = (
        record(22, b"\x10" + bytes(60)) + record(20, b"\1") + record(22, bytes(40)),
        record(20, b"\1") + record(22, bytes(40)),
    )
    c3, s3 = record(23, bytes(100)), record(23, bytes(900))
    client, server = c1 + c2 + c3, s1 + s2 + s3
    found = in_order(
        client,
        server,
        (0, len(c1)),
        (1, len(s1)),
        (0, len(c1 + c2)),
        (1, len(s1 + s2)),
        (0, len(client)),
        (1, len(server)),
    )
    assert found.note == "TLS 1.2"
    assert [p.kind for p in found.pairs] == [ENCRYPTION, LAST_OF_ENCRYPTION, 0]
    assert found.pairs[2].request == len(c1 + c2)


def test_names_over_tcp_are_paired_by_identifier():
    def message(number, answer):
        body = Struct("!HHHHHH").pack(number, 0x8183 if answer else 0x100, 1, 0, 0, 0) + b"\1a\7example\0\0\x1c\0\1"
        return len(body).to_bytes(2, "big") + body

    found = dns_stream.decode(runs(message(1, False) + message(2, False)), runs(message(2, True) + message(1, True)))
    assert said(found) == [("AAAA a.example", "NXDOMAIN")] * 2
    assert found.pairs[0].answer > found.pairs[1].answer


@pytest.mark.parametrize("loop", [b"\xc0\x0c", b"\xc0\xff", b"\x3f" + b"a" * 10, b"\x80"])
def test_names_that_point_at_themselves_end(loop):
    assert dns.parse(Struct("!HHHHHH").pack(1, 0x100, 1, 0, 0, 0) + loop + b"\0\1\0\1") is None


def sealed_conversation():
    """Client's and server's bytes of a TLS 1.3 session with one exchange."""
    client = record(22, hello(1, NAME)) + record(20, b"\1") + record(23, bytes(53)) + record(23, bytes(100))
    return client, record(22, hello(2, b"\0\x2b\0\2\3\4")) + record(23, bytes(600)) + record(23, bytes(900))


def test_statements_inside_tls_are_told_by_turns():
    asked, told = sealed_conversation()
    found = postgres.decode([Run(0, Struct("!II").pack(8, 80877103) + asked)], [Run(0, b"S" + told)])
    assert found.sealed == (8, 1)
    assert [(p.request, p.request_end, p.answer, p.answer_end, p.kind) for p in found.pairs] == [
        (0, 8, 0, 1, ENCRYPTION)
    ]


def test_a_refusal_of_one_encryption_and_consent_to_the_next():
    start = Struct("!II").pack(8, 80877104) + Struct("!II").pack(8, 80877103)
    found = postgres.decode([Run(0, start + sealed_conversation()[0])], [Run(0, b"NS" + sealed_conversation()[1])])
    assert found.sealed == (16, 2)
    assert [(p.request, p.request_end, p.answer, p.answer_end) for p in found.pairs] == [(8, 16, 1, 2)]


def test_a_tunnel_through_a_proxy_ends_its_own_protocol_there():
    ask = b"CONNECT tickets.example:443 HTTP/1.1\r\nHost: tickets.example:443\r\n\r\n"
    found = http1.decode(
        [Run(0, ask + sealed_conversation()[0])], [Run(0, b"HTTP/1.1 200 OK\r\n\r\n" + sealed_conversation()[1])]
    )
    assert [(p.label, p.outcome) for p in found.pairs] == [("CONNECT tickets.example:443", "200")]
    assert found.sealed == (len(ask), 19)
    assert "tunnel to tickets.example:443" in found.note
