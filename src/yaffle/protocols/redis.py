"""The Redis serialization protocol, versions 2 and 3: commands and replies in order, also pipelined.

Source: the protocol's published specification (RESP2, RESP3). Pushed messages (>) answer nothing.
"""

from yaffle.protocols.message import Decoded, Pair, Run

_LONGEST_LABEL = 120
_DEEPEST = 16
_MOST_PARTS = 1 << 20


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    if client[:1] == b"*" and client[1:2].isdigit():
        line = client.find(b"\r\n")
        return 0 < line < 12 and client[line + 2 : line + 3] == b"$"
    return client[:6].upper() in (b"PING\r\n", b"INFO\r\n") and server[:1] in (b"+", b"$", b"-")


def _value(data: bytes, at: int, depth: int = 0) -> int:
    """Where the value that begins at `at` ends; -1 if it is not all there, -2 if it makes no sense."""
    line = data.find(b"\r\n", at)
    if line < 0:
        return -1
    kind, rest = data[at : at + 1], data[at + 1 : line]
    if kind in b"+-:_#,(":
        return line + 2
    try:
        size = int(rest)
    except ValueError:
        return -2
    if kind in b"$=!":
        if size < 0:
            return line + 2
        end = line + 2 + size + 2
        return end if end <= len(data) else -1
    if kind in b"*~>%|":
        if depth >= _DEEPEST or size > _MOST_PARTS:
            return -2
        end = line + 2
        for _ in range(max(0, size) * (2 if kind in b"%|" else 1)):
            end = _value(data, end, depth + 1)
            if end < 0:
                return end
        return end
    return -2


def _words(data: bytes, at: int, end: int) -> str:
    """A command for people: its name and its first argument."""
    parts: list[bytes] = []
    line = data.find(b"\r\n", at)
    if data[at : at + 1] != b"*":
        parts = data[at:end].split()[:2]
    else:
        place = line + 2
        while place < end and len(parts) < 2:
            stop = data.find(b"\r\n", place)
            size = int(data[place + 1 : stop]) if data[place + 1 : stop].isdigit() else 0
            parts.append(data[stop + 2 : stop + 2 + min(size, _LONGEST_LABEL)])
            place = stop + 2 + size + 2
    if not parts:
        return ""
    name = parts[0].decode("latin-1").upper()
    argument = parts[1].decode("utf-8", "replace") if len(parts) > 1 else ""
    return f"{name} {argument}".strip()[:_LONGEST_LABEL]


def command(data: bytes) -> str:
    """A command for people, from the bytes it begins with."""
    return _words(data, 0, len(data))


def outcome(data: bytes) -> str:
    """The word of an error that a reply begins with; OK for all others."""
    line = data.split(b"\r\n")[0]
    return line[1:].split(b" ")[0].decode("latin-1") if line[:1] in (b"-", b"!") else "OK"


def _values(runs: list[Run]) -> list[tuple[int, int, Run]]:
    found = []
    for run in runs:
        at = 0
        while at < len(run.data):
            end = _value(run.data, at)
            if end == -2:  # In mid-stream, or after a hole: the next line may begin a value.
                line = run.data.find(b"\r\n*", at)
                if line < 0:
                    break
                at = line + 2
                continue
            stop = len(run.data) if end == -1 else end
            found.append((run.at + at, run.at + stop, run))
            at = stop
    return found


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """Commands with their replies, in order."""
    found = Decoded("redis")
    replies = [(at, end, run) for at, end, run in _values(server) if run.data[at - run.at : at - run.at + 1] != b">"]
    for k, (at, end, run) in enumerate(_values(client)):
        label = _words(run.data, at - run.at, end - run.at)
        if k >= len(replies):
            found.pairs.append(Pair(at, end, label=label, outcome="unanswered"))
            continue
        answer, answer_end, other = replies[k]
        found.pairs.append(
            Pair(at, end, answer, answer_end, label, outcome(other.data[answer - other.at : answer - other.at + 64]))
        )
    return found
