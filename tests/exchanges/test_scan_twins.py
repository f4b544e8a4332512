"""The quick ways over web exchanges and names against the plain ones, on conversations made up at random."""

import random

import numpy as np
import pytest

from tests.frames import ACK, FIN, SYN, C, S, ether, pcap, tcp, udp
from yaffle.capture.payload import Payload
from yaffle.capture.reader import read_captures
from yaffle.exchanges.decoding import decode_messages
from yaffle.exchanges.name_pairs import PATIENCE_NS, SAME_ID_NS, pair_names
from yaffle.exchanges.name_scan import ODD, READ
from yaffle.exchanges.names import find_names, seen_names
from yaffle.ledger.arrangement import arrange
from yaffle.protocols import dns, http1
from yaffle.protocols.message import Run


def page(rnd):
    """(request, answer) of one exchange."""
    method = rnd.choice(("GET", "GET", "POST", "HEAD"))
    host = f"Host: h{rnd.randrange(3)}.example\r\n" if rnd.random() < 0.8 else ""
    body = rnd.randbytes(rnd.randrange(40)) if method == "POST" else b""
    lengths = f"Content-Length: {len(body)}\r\n" if method == "POST" else ""
    request = (
        f"{method} /{'x' * rnd.randrange(60)}?k={rnd.randrange(99)} HTTP/1.1\r\n{host}X-Other:"
        f" {rnd.randrange(10**6)}\r\n{lengths}\r\n".encode()
        + body
    )
    status = rnd.choice((200, 200, 204, 304, 404, 503))
    head = f"HTTP/1.1 {status} word\r\nServer: s\r\n"
    if rnd.random() < 0.1:
        head = "HTTP/1.1 100 Continue\r\n\r\n" + head
    content = rnd.randbytes(rnd.randrange(3000))
    if status in (204, 304):
        return request, (head + "\r\n").encode()
    if rnd.random() < 0.3 and method != "HEAD":
        parts = [content[k : k + 700] for k in range(0, len(content), 700)]
        chunks = (
            b"".join(b"%x\r\n%s\r\n" % (len(p), p) for p in parts if p)
            + b"0\r\n"
            + (b"T: v\r\n" if rnd.random() < 0.3 else b"")
            + b"\r\n"
        )
        return request, (head + "Transfer-Encoding: Chunked\r\n\r\n").encode() + chunks
    return request, (head + f"content-LENGTH: {len(content)}\r\n\r\n").encode() + (b"" if method == "HEAD" else content)


def talk(rnd, port):
    """Frames of one connection, and the two streams."""
    frames, streams = [], [b"", b""]
    ends = ((C, port, S, 80), (S, 80, C, port))

    def send(side, flags, data=b"", seq=None):
        number = len(streams[side]) + 1 if seq is None else seq
        frames.append(
            ether(tcp(*ends[side], number if not flags & SYN else 0, len(streams[1 - side]) + 1, flags, data))
        )
        if seq is None:
            streams[side] += data

    send(0, SYN)
    send(1, SYN | ACK)
    send(0, ACK)
    for _ in range(rnd.randrange(1, 8)):
        request, answer = page(rnd)
        for side, data in ((0, request), (1, answer)):
            at = 0
            while at < len(data):
                size = rnd.choice((1448, 1448, rnd.randrange(1, 200)))
                send(side, ACK, data[at : at + size])
                if rnd.random() < 0.05:
                    send(side, ACK, data[at : at + size], len(streams[side]) - len(data[at : at + size]) + 1)
                at += size
    send(0, FIN | ACK)
    return frames, streams


@pytest.mark.parametrize("seed", range(40))
def test_web_exchanges_are_those_of_the_plain_way(tmp_path, seed):
    rnd = random.Random(seed)
    talks = [talk(rnd, 2000 + k) for k in range(12)]
    frames = [f for frames, _ in talks for f in frames]
    capture = read_captures([pcap(tmp_path / "a.pcap", [(10**9 + k * 10**6, f) for k, f in enumerate(frames)])])
    capture, arranged = arrange(capture)
    found = decode_messages(
        arranged.starts, arranged.order, capture.conversations.b_port[arranged.flow], Payload(capture)
    )
    for c, (_, streams) in enumerate(talks):
        wanted = http1.decode([Run(1, streams[0])], [Run(1, streams[1])])
        rows = found.turns[found.starts[c] : found.starts[c + 1]]
        assert [found.label[m] for m in rows["message"]] == [p.label for p in wanted.pairs]
        assert [found.outcome[m] for m in rows["message"]] == [p.outcome for p in wanted.pairs]
        assert rows["request_end"].tolist() == [p.request_end for p in wanted.pairs]
        assert rows["response_end"].tolist() == [max(0, p.answer_end) for p in wanted.pairs]
        assert found.host.get(c, "") == wanted.host


def name_message(rnd):
    labels = [bytes(rnd.choice(b"abcXYZ-09") for _ in range(rnd.randrange(1, 12))) for _ in range(rnd.randrange(1, 5))]
    question = (
        b"".join(bytes([len(label)]) + label for label in labels)
        + b"\0"
        + rnd.choice((b"\0\1", b"\0\x1c", b"\0\x0f", b"\1\1"))
        + b"\0\1"
    )
    answers, records = rnd.randrange(4), b""
    for _ in range(answers):
        kind, body = rnd.choice(((1, rnd.randbytes(4)), (28, rnd.randbytes(16)), (5, b"\xc0\x0c"), (1, b"xx")))
        records += b"\xc0\x0c" + kind.to_bytes(2, "big") + b"\0\1\0\0\0\x3c" + len(body).to_bytes(2, "big") + body
    flags = rnd.choice((0x0100, 0x8180, 0x8183, 0x8382))
    data = (
        rnd.randbytes(2)
        + flags.to_bytes(2, "big")
        + b"\0\1"
        + answers.to_bytes(2, "big")
        + b"\0\0\0\0"
        + question
        + records
    )
    if rnd.random() < 0.2:
        data = data[: rnd.randrange(1, len(data))]
    if rnd.random() < 0.2:
        at = rnd.randrange(len(data))
        data = data[:at] + bytes([rnd.randrange(256)]) + data[at + 1 :]
    return data


@pytest.mark.parametrize("seed", range(20))
def test_names_are_those_of_the_plain_way(tmp_path, seed):
    rnd = random.Random(seed)
    messages = [name_message(rnd) for _ in range(120)]
    capture = read_captures(
        [pcap(tmp_path / "a.pcap", [(k, ether(udp(C, 5000, S, 53, m))) for k, m in enumerate(messages)])]
    )
    payload = Payload(capture)
    seen = seen_names(np.arange(len(messages)), payload)
    keys = {}
    for row, data in zip(seen, messages, strict=True):
        wanted = dns.parse(data)
        if row["how"] == ODD:
            continue
        assert (row["how"] == READ) == (wanted is not None)
        if wanted is None:
            continue
        assert (row["id"], bool(row["flags"] & 0x8000), bool(row["flags"] & 0x200)) == (
            wanted.id,
            wanted.answer,
            wanted.truncated,
        )
        assert dns.CODES.get(int(row["flags"]) & 15, f"RCODE{row['flags'] & 15}") == wanted.code
        assert (dns.TYPES.get(int(row["kind"])) or f"TYPE{row['kind']}") == wanted.kind
        assert keys.setdefault(int(row["key"]), wanted.name) == wanted.name
        assert int(row["addresses"]) == min(6, len(wanted.addresses))


def plain_pairs(t, read, answers, by_id, by_name):
    """Questions as dictionaries, each with the messages that belong to it."""
    by_number, by_word, found = {}, {}, []
    for k, now in enumerate(t):
        if not read[k]:
            continue
        one = by_number.get(by_id[k])
        if answers[k]:
            if one and one["answer"] < 0:
                one["answer"] = k
            continue
        if one is None or one["answer"] >= 0 or now - one["latest_ns"] > SAME_ID_NS:
            one = by_word.get(by_name[k])
            if one is not None and (one["answer"] >= 0 or now - one["latest_ns"] > PATIENCE_NS):
                one = None
        if one is None:
            one = {"question": k, "answer": -1, "tries": 0}
            found.append(one)
        one["tries"], one["latest_ns"] = one["tries"] + 1, now
        by_number[by_id[k]] = by_word[by_name[k]] = one
    return found


@pytest.mark.parametrize("seed", range(10))
def test_questions_are_paired_as_by_the_plain_way(seed):
    rng = np.random.default_rng(seed)
    count = 400
    t = np.cumsum(rng.choice([10_000_000, 2_000_000_000, 7_000_000_000], count, p=[0.8, 0.15, 0.05]))
    columns = (
        t,
        rng.random(count) < 0.9,
        rng.random(count) < 0.4,
        rng.integers(0, 30, count),
        rng.integers(0, 20, count),
    )
    found = pair_names(*columns)
    wanted = plain_pairs(*(column.tolist() for column in columns))
    assert [dict(zip(found.dtype.names, row, strict=True)) for row in found.tolist()] == [
        {name: one[name] for name in found.dtype.names} for one in wanted
    ]


def test_names_are_spelt_as_by_the_plain_way(tmp_path):
    rnd = random.Random(7)
    messages = [name_message(rnd) for _ in range(300)]
    capture = read_captures(
        [pcap(tmp_path / "a.pcap", [(10**10 * k, ether(udp(C, 5000, S, 53, m))) for k, m in enumerate(messages)])]
    )
    asked = [dns.parse(m) for m in messages]
    found = find_names(capture, Payload(capture), np.arange(len(messages)), {0: "dns"})
    wanted = [m for m in asked if m is not None and not m.answer]
    assert len(wanted) > 50
    assert [(one.name, one.kind) for one in found] == [(m.name, m.kind) for m in wanted]
