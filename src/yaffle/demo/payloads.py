"""What the programs of the morning say to each other: the first bytes of web pages, statements and sealed records."""

from struct import Struct

_READY = b"Z\0\0\0\5I"


def web_ask(target: str, host: str) -> bytes:
    """The head of a request (RFC 9112)."""
    return f"GET {target} HTTP/1.1\r\nHost: {host}\r\nAccept: */*\r\n\r\n".encode()


def web_tell(octets: int) -> bytes:
    """The head of an answer, made so that head and body are so many bytes."""
    head = f"HTTP/1.1 200 OK\r\nContent-Length: {octets:07d}\r\n\r\n"
    return head.replace(f"{octets:07d}", f"{max(0, octets - len(head)):07d}").encode()


def sign_on(user: str) -> bytes:
    """A database's first message: version 3 of its protocol and a user."""
    body = Struct("!I").pack(196608) + b"user\0" + user.encode() + b"\0\0"
    return Struct("!I").pack(4 + len(body)) + body


def signed_on() -> bytes:
    """Its answer: welcome, ready."""
    return b"R\0\0\0\x08\0\0\0\0" + _READY


def statement(text: str) -> bytes:
    """A simple query."""
    return b"Q" + Struct("!I").pack(5 + len(text)) + text.encode() + b"\0"


def rows(octets: int) -> bytes:
    """The begin of a result of so many bytes: its columns, then one long row."""
    columns = b"T" + Struct("!IH").pack(4 + 2 + 7 + 18, 1) + b"result\0" + bytes(18)
    tag = len(b"C\0\0\0\x0dSELECT 1\0") + len(_READY)
    return columns + b"D" + Struct("!I").pack(max(4, octets - len(columns) - 1 - tag))


def done() -> bytes:
    """The whole answer to a change."""
    return b"C\0\0\0\x0dUPDATE 1\0" + _READY


def sealed(octets: int) -> bytes:
    """The header of a TLS record of so many bytes in all (RFC 8446 section 5.1)."""
    return b"\x17\3\3" + Struct("!H").pack(min(octets, 16_000) - 5)


def hello(client: bool) -> bytes:
    """The begin of a hello of TLS 1.3, whichever side's."""
    return (b"\x16\3\1\2\0\1\0\1\xfc\3\3" if client else b"\x16\3\3\0\x7a\2\0\0\x76\3\3") + bytes(32)
