"""SMB 2 and 3 over TCP (the published specification of the protocol, MS-SMB2): each command with its answer by its
message number.

What is encrypted (from version 3.0) shows only its sizes: turns of sealed messages. A watch for changes waits for the
world, not for the server, and is no exchange; nor is what the server sends unasked.
"""

from dataclasses import dataclass

from yaffle.protocols.conversation import Conversation, whole
from yaffle.protocols.message import Decoded, Pair, Run
from yaffle.protocols.numbered import Numbered
from yaffle.protocols.records import InTime, Order, Turns
from yaffle.protocols.smb_frames import CREATE, KINDS, TREE_CONNECT, Frames, Message

_MOST_FILES = 1 << 16
_LONGEST_NAME = 160
_UNASKED = 0xFFFFFFFFFFFFFFFF
COMMANDS = (
    "NEGOTIATE", "SESSION SETUP", "LOGOFF", "TREE CONNECT", "TREE DISCONNECT", "CREATE", "CLOSE", "FLUSH", "READ",
    "WRITE", "LOCK", "IOCTL", "CANCEL", "ECHO",
    "QUERY DIRECTORY", "CHANGE NOTIFY", "QUERY INFO", "SET INFO", "OPLOCK BREAK",
)  # fmt: skip
_CANCEL, _NOTIFY, _BREAK = 12, 15, 18
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
_NO_EXCHANGE = (_CANCEL, _NOTIFY, _BREAK)
_ENCRYPTED, _MISSING = "encrypted: exchanges by turns", "bytes are missing: commands in the gap are not seen"

BEGINS = b"\0"  # octets that what is said first may begin with


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    start = client or server
    return start[:1] == b"\0" and start[4:8] in KINDS


def _wide(data: bytes, at: int, size_at: int) -> str:
    """A name that a message refers to: where it is and how long stand at these places."""
    start, size = int.from_bytes(data[at : at + 2], "little"), int.from_bytes(data[size_at : size_at + 2], "little")
    return data[start : start + min(size, 2 * _LONGEST_NAME)].decode("utf-16-le", "replace")


@dataclass(slots=True)
class _Asked:
    """A command with its answer, where that is here."""

    message: Message
    final: Message | None = None
    label: str = ""  # told as soon as all that was opened before has a name


class Smb(Conversation):
    """Commands with their answers; where messages are sealed, turns of them."""

    def __init__(self) -> None:
        self._front, self._back = Frames(), Frames()
        super().__init__("smb", self._front, self._back)
        self._numbered: Numbered[_Asked, Message] = Numbered()
        self._waiting: list[_Asked] = []  # in their order
        self._files: dict[bytes, str] = {}
        self._in_time, self._turns, self._sealed = InTime(), Turns(), False

    def _went_on(self, order: Order, *, over: bool) -> None:
        for message in self._front.found:
            if not message.answer and message.command not in _NO_EXCHANGE and message.command < len(COMMANDS):
                asked = _Asked(message)
                asked.final = self._numbered.ask((message.number, message.command), asked)
                self._waiting.append(asked)
        for message in self._back.found:
            if message.answer and message.number != _UNASKED and message.status != _PENDING:
                answered = self._numbered.tell((message.number, message.command), message)
                if answered is not None:
                    answered.final = message
        self._front.found, self._back.found = [], []
        self._settle(over=over)
        self._turn(order, over=over)
        if over:
            self.pairs.sort(key=lambda pair: pair.request)
        notes = (_ENCRYPTED if self._sealed else "", _MISSING if self._holes else "")
        self.note = "; ".join(words for words in notes if words)

    def _settle(self, *, over: bool) -> None:
        """Exchanges that are whole. What a file is called the answer to its opening tells, to all that follow it."""
        left: list[_Asked] = []
        named = True
        for asked in self._waiting:
            named = named and (over or asked.final is not None or asked.message.command != CREATE)
            if named and not asked.label:
                name = _name(asked.message, asked.final, self._files)
                asked.label = f"{COMMANDS[asked.message.command]} {name}".strip()
            if over or (named and asked.final is not None):
                self.pairs.append(_pair(asked))
            else:
                left.append(asked)
        self._waiting = left

    def _turn(self, order: Order, *, over: bool) -> None:
        """Turns of what is sealed."""
        for side, reader in enumerate((self._front, self._back)):
            self._sealed = self._sealed or bool(reader.sealed)
            self._in_time.take(side, reader.sealed)
            reader.sealed = []
        for side, record in self._in_time.passed(order, None if over else (self._front.place, self._back.place)):
            if (turn := self._turns.take(side, record, "encrypted")) is not None:
                self.pairs.append(turn)
        if over and self._turns.open is not None:
            self.pairs.append(self._turns.open)


def _pair(asked: _Asked) -> Pair:
    request, final = asked.message, asked.final
    pair = Pair(request.at, request.end, label=asked.label, outcome="unanswered", asked_bytes=request.size)
    if final is not None:
        pair.answer, pair.answer_end, pair.told_bytes = final.at, final.end, final.size
        pair.outcome = STATUSES.get(final.status, f"{final.status:#010x}")
    return pair


def decode(client: list[Run], server: list[Run], order: Order) -> Decoded:
    """A connection of which all is there."""
    return whole(Smb(), client, server, order)


def _name(request: Message, final: Message | None, files: dict[bytes, str]) -> str:
    """What a command is about: a share, or a file by the name under which it was opened."""
    data = request.data
    if request.command == TREE_CONNECT:
        return _wide(data, 68, 70)
    if request.command == CREATE:
        name = _wide(data, 108, 110)
        if final is not None and final.status == 0 and len(final.data) >= 144 and len(files) < _MOST_FILES:
            files[final.data[128:144]] = name
        return name
    place = _FILE_AT.get(request.command)
    return files.get(data[place : place + 16], "") if place is not None else ""
