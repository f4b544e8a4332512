"""HTTP/1.1 (RFC 9110, 9112): requests and answers in order, chunked, pipelined, without bodies, with interim
answers.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from yaffle.protocols.message import Decoded, Pair, Run

METHODS = (
    b"GET ",
    b"POST ",
    b"PUT ",
    b"HEAD ",
    b"DELETE ",
    b"OPTIONS ",
    b"PATCH ",
    b"CONNECT ",
    b"TRACE ",
    b"PROPFIND ",
    b"REPORT ",
)
_REQUEST = re.compile(rb"(?:\r\n)*([A-Z][A-Z-]{1,19}) ([^ \r\n]{1,8192}) HTTP/1\.[01]\r\n")
_ANSWER = re.compile(rb"(?:\r\n)*HTTP/1\.[01] (\d{3})[^\r\n]*\r\n")
_LENGTH = re.compile(rb"\r\ncontent-length:[ \t]*(\d{1,18})[ \t]*\r\n", re.IGNORECASE)
_CHUNKED = re.compile(rb"\r\ntransfer-encoding:[^\r\n]*chunked[ \t]*\r\n", re.IGNORECASE)
_HOST = re.compile(rb"\r\nhost:[ \t]*([^\r\n]{1,255}?)[ \t]*\r\n", re.IGNORECASE)
_LARGEST_HEAD = 1 << 16
_LONGEST_LABEL = 200


@dataclass(slots=True)
class _Message:
    at: int
    end: int
    text: bytes = b""  # method, or status
    target: bytes = b""
    host: bytes = b""


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    return client.startswith(METHODS) or (not client and server.startswith(b"HTTP/1."))


def _body(data: bytes, at: int, head: bytes, without: bool, until_close: bool) -> tuple[int, bool]:
    """Where the body that begins at `at` ends, and whether that was seen."""
    if without:
        return at, True
    if b"hunked" in head and _CHUNKED.search(head):
        return _chunks(data, at)
    found = _LENGTH.search(head)
    if found:
        end = at + int(found.group(1))
        return min(end, len(data)), end <= len(data)
    return (len(data), False) if until_close else (at, True)


def _chunks(data: bytes, at: int) -> tuple[int, bool]:
    while True:
        line = data.find(b"\r\n", at, at + 64)
        if line < 0:
            return len(data), False
        digits = data[at:line].split(b";")[0].strip()
        try:
            size = int(digits, 16) if 0 < len(digits) <= 15 else -1
        except ValueError:
            size = -1
        if size < 0:
            return len(data), False
        if size == 0:
            end = data.find(b"\r\n\r\n", line)  # Trailers, or nothing, then an empty line.
            return (end + 4, True) if end >= 0 else (len(data), False)
        at = line + 2 + size + 2
        if at > len(data):
            return len(data), False


def _requests(runs: list[Run]) -> Iterator[_Message]:
    for run in runs:
        data, at = run.data, 0
        while at < len(data):
            head = _REQUEST.match(data, at)
            if head is None:  # After a hole, or in mid-stream: go on where a request begins.
                found = [k for k in (data.find(b"\n" + method, at) for method in METHODS) if k >= 0]
                if not found:
                    break
                at = min(found) + 1
                if _REQUEST.match(data, at) is None:
                    at += 1
                continue
            stop = data.find(b"\r\n\r\n", head.end() - 2, head.end() + _LARGEST_HEAD)
            if stop < 0:
                yield _Message(run.at + at, run.end, head.group(1), head.group(2))
                break
            fields = data[head.end() - 2 : stop + 4]
            end, _ = _body(data, stop + 4, fields, False, False)
            host = _HOST.search(fields)
            yield _Message(run.at + at, run.at + end, head.group(1), head.group(2), host.group(1) if host else b"")
            at = end


def _answers(runs: list[Run], methods: list[bytes]) -> Iterator[_Message]:
    number = 0
    for run in runs:
        data, at = run.data, 0
        while at < len(data):
            head = _ANSWER.match(data, at)
            if head is None:
                at = data.find(b"HTTP/1.", at + 1)
                if at < 0:
                    break
                continue
            stop = data.find(b"\r\n\r\n", head.end() - 2, head.end() + _LARGEST_HEAD)
            status = head.group(1)
            if stop < 0:
                yield _Message(run.at + at, run.end, status)
                break
            if status[:1] == b"1" and status != b"101":  # Interim: the answer proper is still to come.
                at = stop + 4
                continue
            method = methods[number] if number < len(methods) else b"GET"
            without = (
                method == b"HEAD"
                or status in (b"204", b"304")
                or (method == b"CONNECT" and status[:1] == b"2")
                or status == b"101"
            )
            end, _ = _body(data, stop + 4, data[head.end() - 2 : stop + 4], without, True)
            yield _Message(run.at + at, run.at + end, status)
            number += 1
            at = end
            if status == b"101" or (method == b"CONNECT" and status[:1] == b"2"):
                return  # From here on it is another protocol.


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """Requests with their answers, in the order that pipelining keeps (RFC 9112 section 9.3.2)."""
    found = Decoded("http")
    asked = list(_requests(client))
    answered = list(_answers(server, [m.text for m in asked]))
    if len(client) > 1 or len(server) > 1:
        answered = _aligned(asked, answered, found)
    for k, request in enumerate(asked):
        answer = answered[k] if k < len(answered) else None
        label = f"{request.text.decode('latin-1')} {request.target.decode('latin-1')}"[:_LONGEST_LABEL]
        if answer is None:
            found.pairs.append(Pair(request.at, request.end, label=label, outcome="unanswered"))
        else:
            found.pairs.append(Pair(request.at, request.end, answer.at, answer.end, label, answer.text.decode()))
            if request.text == b"CONNECT" and answer.text[:1] == b"2":
                found.note, found.sealed = f"a tunnel to {request.target.decode('latin-1')}", (request.end, answer.end)
                break
            if answer.text == b"101":
                found.note = "went on in another protocol: what follows is not told apart"
                break
        if request.host and not found.host:
            found.host = (
                request.host.decode("latin-1").rsplit(":", 1)[0]
                if request.host.count(b":") == 1
                else request.host.decode("latin-1")
            )
    return found


def _aligned(asked: list[_Message], answered: list[_Message], found: Decoded) -> list[_Message]:
    """Answers beside requests where bytes are missing: only as many as can be told, from the start."""
    if len(asked) != len(answered):
        found.note = (
            "bytes are missing: requests and answers are paired from the start, what follows the gap may be paired"
            " wrongly"
        )
    return answered
