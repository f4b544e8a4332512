"""SMB 2 and 3 over TCP (the published specification of the protocol, MS-SMB2): each command with its answer by its
message number.

What is encrypted (from version 3.0) shows only its sizes: turns of sealed messages. A watch for changes waits for the
world, not for the server, and is no exchange; nor is what the server sends unasked.
"""

from dataclasses import dataclass, field
from struct import Struct

from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.records import Order, Record, in_time, turns

PLAIN, SEALED, PACKED, OLD = b"\xfeSMB", b"\xfdSMB", b"\xfcSMB", b"\xffSMB"
_KINDS = (PLAIN, SEALED, PACKED, OLD)
_HEADER = Struct(
    "<HHIHHIIQ"
)  # structure size, credit charge, status, command, credits, flags, next command, message number
_ANSWER = 1
_LARGEST = 1 << 24
_MOST_FILES = 1 << 16
_LONGEST_NAME = 160
_UNASKED = 0xFFFFFFFFFFFFFFFF
COMMANDS = (
    "NEGOTIATE", "SESSION SETUP", "LOGOFF", "TREE CONNECT", "TREE DISCONNECT", "CREATE", "CLOSE", "FLUSH", "READ",
    "WRITE", "LOCK", "IOCTL", "CANCEL", "ECHO",
    "QUERY DIRECTORY", "CHANGE NOTIFY", "QUERY INFO", "SET INFO", "OPLOCK BREAK",
)  # fmt: skip
_TREE_CONNECT, _CREATE, _CANCEL, _NOTIFY, _BREAK = 3, 5, 12, 15, 18
_FILE_AT = {6: 72, 7: 72, 8: 80, 9: 80, 10: 72, 11: 72, 14: 72, 16: 88, 17: 80}  # where a request names its file
STATUSES = {
    0: "STATUS_SUCCESS", 0x103: "STATUS_PENDING", 0x80000005: "STATUS_BUFFER_OVERFLOW",
    0x80000006: "STATUS_NO_MORE_FILES", 0xC0000008: "STATUS_INVALID_HANDLE",
    0xC000000D: "STATUS_INVALID_PARAMETER", 0xC000000F: "STATUS_NO_SUCH_FILE", 0xC0000011: "STATUS_END_OF_FILE",
    0xC0000016: "STATUS_MORE_PROCESSING_REQUIRED",
    0xC0000022: "STATUS_ACCESS_DENIED", 0xC0000034: "STATUS_OBJECT_NAME_NOT_FOUND",
    0xC0000035: "STATUS_OBJECT_NAME_COLLISION",
    0xC000003A: "STATUS_OBJECT_PATH_NOT_FOUND", 0xC0000043: "STATUS_SHARING_VIOLATION",
    0xC0000054: "STATUS_FILE_LOCK_CONFLICT", 0xC0000055: "STATUS_LOCK_NOT_GRANTED",
    0xC000006D: "STATUS_LOGON_FAILURE", 0xC000007F: "STATUS_DISK_FULL", 0xC00000B5: "STATUS_IO_TIMEOUT",
    0xC00000BA: "STATUS_FILE_IS_A_DIRECTORY",
    0xC00000BB: "STATUS_NOT_SUPPORTED", 0xC00000CC: "STATUS_BAD_NETWORK_NAME", 0xC0000101: "STATUS_DIRECTORY_NOT_EMPTY",
    0xC0000103: "STATUS_NOT_A_DIRECTORY",
    0xC0000120: "STATUS_CANCELLED", 0xC0000128: "STATUS_FILE_CLOSED", 0xC000019C: "STATUS_FS_DRIVER_REQUIRED",
    0xC0000203: "STATUS_USER_SESSION_DELETED",
    0xC0000225: "STATUS_NOT_FOUND", 0xC0000257: "STATUS_PATH_NOT_COVERED",
}  # fmt: skip
_PENDING = 0x103


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    start = client or server
    return start[:1] == b"\0" and start[4:8] in _KINDS


@dataclass(slots=True)
class _Message:
    """One command or answer; those that travel together share their frame's places."""

    at: int
    end: int
    command: int
    status: int
    answer: bool
    number: int
    data: bytes  # from its header on, as far as the next one


@dataclass
class _Side:
    messages: list[_Message] = field(default_factory=list)
    sealed: list[Record] = field(default_factory=list)


def _side(runs: list[Run]) -> _Side:
    found = _Side()
    for run in runs:
        data, at = run.data, 0
        while at + 8 <= len(data):
            size = int.from_bytes(data[at + 1 : at + 4], "big")
            kind = data[at + 4 : at + 8]
            if data[at] != 0 or kind not in _KINDS:
                at = _again(data, at + 1)
                if at < 0:
                    break
                continue
            end = min(len(data), at + 4 + size)
            if kind == PLAIN:
                _messages(data[at + 4 : end], run.at + at, run.at + end, found.messages)
            elif kind != OLD:
                found.sealed.append(Record(kind[0], run.at + at, run.at + end))
            at += 4 + max(4, size)
    return found


def _again(data: bytes, at: int) -> int:
    """Where a frame begins again after a hole; -1 nowhere."""
    while (place := data.find(b"SMB", at + 5)) >= 0:
        at = place - 5
        if data[at] == 0 and data[at + 4 : at + 8] in _KINDS:
            return at
        at += 1
    return -1


def _messages(data: bytes, at: int, end: int, found: list[_Message]) -> None:
    place = 0
    while place + 64 <= len(data) and data[place : place + 4] == PLAIN:
        size, _, status, command, _, flags, following, number = _HEADER.unpack_from(data, place + 4)
        if size != 64:
            return
        stop = place + following if 64 <= following <= len(data) - place else len(data)
        found.append(_Message(at, end, command, status, bool(flags & _ANSWER), number, data[place:stop]))
        if stop == len(data):
            return
        place = stop


def _wide(data: bytes, at: int, size_at: int) -> str:
    """A name that a message refers to: where it is and how long stand at these places."""
    start, size = int.from_bytes(data[at : at + 2], "little"), int.from_bytes(data[size_at : size_at + 2], "little")
    return data[start : start + min(size, 2 * _LONGEST_NAME)].decode("utf-16-le", "replace")


def decode(client: list[Run], server: list[Run], order: Order) -> Decoded:
    """Commands with their answers; where messages are sealed, turns of them."""
    found = Decoded("smb")
    asked, told = _side(client), _side(server)
    answers: dict[int, list[_Message]] = {}
    for message in told.messages:
        if message.answer and message.number != _UNASKED:
            answers.setdefault(message.number, []).append(message)
    files: dict[bytes, str] = {}
    for request in asked.messages:
        if request.answer or request.command in (_CANCEL, _NOTIFY, _BREAK) or request.command >= len(COMMANDS):
            continue
        own = [a for a in answers.get(request.number, []) if a.command == request.command]
        final = next((a for a in own if a.status != _PENDING), None)
        name = _name(request, final, files)
        pair = Pair(
            request.at,
            request.end,
            label=f"{COMMANDS[request.command]} {name}".strip(),
            outcome="unanswered",
            asked_bytes=len(request.data),
        )
        if final is not None:
            pair.answer, pair.answer_end, pair.told_bytes = final.at, final.end, len(final.data)
            pair.outcome = STATUSES.get(final.status, f"{final.status:#010x}")
        found.pairs.append(pair)
    if asked.sealed or told.sealed:
        found.note = "encrypted: exchanges by turns"
        found.pairs += turns(in_time(asked.sealed, told.sealed, order), "encrypted")
        found.pairs.sort(key=lambda p: p.request)
    if len(client) > 1 or len(server) > 1:
        found.note = "; ".join(
            part for part in (found.note, "bytes are missing: commands in the gap are not seen") if part
        )
    return found


def _name(request: _Message, final: _Message | None, files: dict[bytes, str]) -> str:
    """What a command is about: a share, or a file by the name under which it was opened."""
    data = request.data
    if request.command == _TREE_CONNECT:
        return _wide(data, 68, 70)
    if request.command == _CREATE:
        name = _wide(data, 108, 110)
        if final is not None and final.status == 0 and len(final.data) >= 144 and len(files) < _MOST_FILES:
            files[final.data[128:144]] = name
        return name
    place = _FILE_AT.get(request.command)
    return files.get(data[place : place + 16], "") if place is not None else ""
