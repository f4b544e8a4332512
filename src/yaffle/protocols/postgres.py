"""The PostgreSQL frontend/backend protocol, version 3: sign-on, simple queries, extended queries up to each Sync.

Source: the protocol's published description (message formats and flow).
"""

from struct import Struct

from yaffle.protocols.message import ENCRYPTION, LONGEST_VALUE, MOST_VALUES, SIGN_ON, Decoded, Pair, Run

_LENGTH = Struct("!I")
_START, _SSL, _GSS, _CANCEL = 196608, 80877103, 80877104, 80877102
_LARGEST = 1 << 30
_LONGEST_LABEL = 300
_FRONT = b"BCcdDEFfHPpQSX"
_BACK = b"123ACcdDEGHIKNnRStTVWvZs"


def looks_like(client: bytes, server: bytes) -> bool:
    """Whether a connection that begins like this speaks it."""
    if len(client) >= 8:
        length, code = _LENGTH.unpack_from(client, 0)[0], _LENGTH.unpack_from(client, 4)[0]
        if 8 <= length <= 10_000 and (code in (_SSL, _GSS, _CANCEL) or code >> 16 == 3):
            return code not in (_SSL, _GSS) or length == 8
    if len(client) >= 6 and client[:1] in (b"Q", b"P"):  # In mid-stream.
        length = _LENGTH.unpack_from(client, 1)[0]
        return (
            5 < length < 1 << 20
            and all(9 <= b < 127 for b in client[5:13] if b)
            and server[:1] in (b"T", b"1", b"C", b"E", b"Z", b"D", b"")
        )
    if len(client) >= 8 and client[:1] == b"B":  # In mid-stream, statements being prepared already.
        length = _LENGTH.unpack_from(client, 1)[0]
        portal = client.find(b"\0", 5)
        name = client.find(b"\0", portal + 1)
        texts = client[5:portal] + client[portal + 1 : name]
        return (
            10 < length < 1 << 20
            and 0 < portal < name < 5 + length
            and all(32 <= b < 127 for b in texts)
            and (server[:5] in (b"2\0\0\0\4", b"") or server[:1] == b"E")
        )
    return False


def _messages(runs: list[Run], kinds: bytes, at_start: int) -> list[tuple[bytes, int, int, Run]]:
    """(type, place, end, run) of each message; a run that makes no sense is left at that place."""
    found = []
    for k, run in enumerate(runs):
        at = at_start if k == 0 else _again(run.data, kinds)
        while at >= 0 and at + 5 <= len(run.data):
            kind, length = run.data[at : at + 1], _LENGTH.unpack_from(run.data, at + 1)[0]
            if kind not in kinds or not 4 <= length <= _LARGEST:
                more = _again(run.data[at + 1 :], kinds)
                if more < 0:
                    break
                at += 1 + more
                continue
            end = min(len(run.data), at + 1 + length)
            found.append((kind, run.at + at, run.at + end, run))
            at = end
    return found


def _again(data: bytes, kinds: bytes) -> int:
    """Where messages begin again: a ready-for-query, or a query of printable text; -1 nowhere."""
    if b"Z" in kinds:
        k = data.find(b"Z\0\0\0\5")
        return k if k >= 0 and data[k + 5 : k + 6] in (b"I", b"T", b"E") else -1
    places = [data.find(kind + b"\0\0") for kind in (b"Q", b"P", b"B")]
    return next((place for place in places if place >= 0), -1)


def _startup(run: Run) -> tuple[int, list[int]]:
    """Where typed messages of the client begin, and where its untyped ones ended."""
    at, ends = 0, []
    while at + 8 <= len(run.data):
        length, code = _LENGTH.unpack_from(run.data, at)[0], _LENGTH.unpack_from(run.data, at + 4)[0]
        if not (code in (_SSL, _GSS, _CANCEL) or code >> 16 == 3) or not 8 <= length <= 10_000:
            break
        at += length
        ends.append(min(at, len(run.data)))
    return min(at, len(run.data)), ends


def _text(data: bytes, at: int, end: int) -> str:
    """A zero-ended text."""
    stop = data.find(b"\0", at, end)
    return " ".join(data[at : stop if stop >= 0 else end].decode("utf-8", "replace").split())[:_LONGEST_LABEL]


def _code(data: bytes, at: int, end: int) -> str:
    """SQLSTATE of an error: the field C."""
    place = at
    while place < end and data[place : place + 1] not in (b"\0", b""):
        stop = data.find(b"\0", place, end)
        if stop < 0:
            break
        if data[place : place + 1] == b"C":
            return data[place + 1 : stop].decode("latin-1")
        place = stop + 1
    return "error"


def first_statement(asked: bytes) -> str:
    """The statement that bytes begin with, as far as it is there; empty without one."""
    if asked[:1] == b"Q":
        return _text(asked, 5, len(asked))
    return _text(asked, asked.find(b"\0", 5) + 1, len(asked)) if asked[:1] == b"P" and b"\0" in asked[5:] else ""


def first_outcome(told: bytes) -> str:
    """The SQLSTATE of an error that bytes begin with; success where all of a short answer is there; else that it was
    answered.
    """
    if told[:1] == b"E":
        return _code(told, 5, len(told))
    return "00000" if told[-6:-1] == b"Z\0\0\0\5" else "answered"


def decode(client: list[Run], server: list[Run]) -> Decoded:
    """Statements with their answers, each up to the next ready-for-query."""
    found = Decoded("postgresql")
    if not client:
        return found
    begins, untyped = _startup(client[0])
    refusals = 0
    if server and untyped:  # A refusal of encryption is one byte of its own.
        refusals = len(server[0].data[:2]) - len(server[0].data[:2].lstrip(b"N"))
        encrypted = (
            refusals if refusals < len(untyped) and server[0].data[refusals : refusals + 1] in (b"S", b"G") else -1
        )
        if encrypted >= 0:
            asked, at = client[0].at + untyped[encrypted], server[0].at + encrypted
            begin = client[0].at + (untyped[encrypted - 1] if encrypted else 0)
            found.pairs.append(Pair(begin, asked, at, at + 1, "encryption asked for", kind=ENCRYPTION))
            found.note = "encrypted; the sign-on inside counts as exchanges"
            if server[0].data[encrypted : encrypted + 1] == b"S":
                found.sealed = asked, at + 1
            return found
    front, back = _messages(client, _FRONT, begins), _messages(server, _BACK, refusals)
    ready = [k for k, message in enumerate(back) if message[0] == b"Z"]
    answers = [back[(ready[n - 1] + 1 if n else 0) : ready[n] + 1] for n in range(len(ready))]
    rest = back[(ready[-1] + 1 if ready else 0) :]
    if rest:
        answers.append(rest)
    if untyped and answers:  # The first ready-for-query ends the sign-on.
        first = answers.pop(0)
        passwords = [m for m in front if m[0] == b"p"]
        front = [m for m in front if m[0] != b"p"]
        end = max([client[0].at + untyped[-1], *(m[2] for m in passwords)])
        found.pairs.append(Pair(client[0].at, end, server[0].at, first[-1][2], "sign-on", _outcome(first), SIGN_ON))
    found.pairs += _statements(front, answers)
    return found


def _outcome(answer: list[tuple[bytes, int, int, Run]]) -> str:
    for kind, at, end, run in answer:
        if kind == b"E":
            return _code(run.data, at - run.at + 5, end - run.at)
    return "00000"


def _bound(data: bytes, at: int, end: int) -> tuple[str, ...]:
    """The first short values of a Bind message, from its parameters' formats on: texts, and whole numbers in binary."""
    count = int.from_bytes(data[at : at + 2], "big")
    formats = [int.from_bytes(data[at + 2 + 2 * k : at + 4 + 2 * k], "big") for k in range(min(count, MOST_VALUES))]
    at += 2 + 2 * count
    found, at = [], at + 2
    for k in range(min(MOST_VALUES, int.from_bytes(data[at - 2 : at], "big"))):
        size = int.from_bytes(data[at : at + 4], "big", signed=True)
        at += 4
        if size < 0:
            continue
        if at + size > end:
            break
        binary = formats[min(k, len(formats) - 1)] if formats else 0
        held = data[at : at + size]
        if size <= LONGEST_VALUE:
            found.append(str(int.from_bytes(held, "big", signed=True)) if binary else held.decode("utf-8", "replace"))
        at += size
    return tuple(found)


def _statements(
    front: list[tuple[bytes, int, int, Run]], answers: list[list[tuple[bytes, int, int, Run]]]
) -> list[Pair]:
    pairs: list[Pair] = []
    prepared: dict[str, str] = {}
    label, begun = "", -1
    values: tuple[str, ...] = ()
    number = 0
    for kind, at, end, run in front:
        data, place, stop = run.data, at - run.at + 5, end - run.at
        if kind == b"X":
            break
        if begun < 0:
            begun = at
        if kind == b"Q":
            label = _text(data, place, stop)
        elif kind == b"P":
            name = _text(data, place, stop)
            label = _text(data, data.find(b"\0", place, stop) + 1, stop)
            prepared[name] = label
        elif kind == b"B":
            name = _text(data, data.find(b"\0", place, stop) + 1, stop)
            label = label or prepared.get(name, f"prepared {name}" if name else "")
            values = values or _bound(data, data.find(b"\0", data.find(b"\0", place, stop) + 1, stop) + 1, stop)
        if kind not in (b"Q", b"S", b"F"):
            continue
        if kind == b"S" and pairs and begun == at and not label:
            begun = -1
            number += 1
            continue  # A lone Sync asks nothing.
        answer = answers[number] if number < len(answers) else None
        number += 1
        if answer:
            pairs.append(Pair(begun, end, answer[0][1], answer[-1][2], label, _outcome(answer), values=values))
        else:
            pairs.append(Pair(begun, end, label=label, outcome="unanswered", values=values))
        label, begun, values = "", -1, ()
    return pairs
