"""Every transition of every table of states: bytes that lead to it, and where they end."""

import pytest

from tests.protocols.test_mutated import _ASK_PAGE, frame, shared
from tests.protocols.test_streams_of_text import NAME, front, hello, packet, record
from yaffle.protocols import dns_stream, ldap_messages, redis_values, seeking, smb_frames, tls, tls_records
from yaffle.protocols import http1_messages as web
from yaffle.protocols import http2_frames as web2
from yaffle.protocols import mysql_packets as mysql
from yaffle.protocols import postgres_messages as postgres
from yaffle.protocols.message import Run

HOLE, END = "a hole", "the end"


class Logged(dict):
    """A table that tells which of its transitions were taken."""

    def __init__(self, table):
        super().__init__(table)
        self.taken = []

    def __getitem__(self, key):
        self.taken.append(key)
        return super().__getitem__(key)


def fed(reader, steps):
    """The transitions of a reader to which bytes, holes and the end come one after another."""
    reader.TRANSITIONS = Logged(reader.TRANSITIONS)
    place = 1
    for step in steps:
        if step == HOLE:
            place += 100
        elif step == END:
            reader.end()
        else:
            reader.feed(Run(place, step))
            place += len(step)
    return reader.TRANSITIONS.taken


def after(reader, *steps):
    """A reader that the other side's reader looks at, with what it was told."""
    fed(reader, steps)
    return reader


def asked(*methods):
    """Requests by these methods, read."""
    return after(web.Requests(), *(method + b" / HTTP/1.1\r\n\r\n" for method in methods))


R, RE = seeking.State, seeking.Event
DATA = record(23, b"abc")
RECORDS = {
    (R.READING, RE.SENSELESS): ([b"no record at all"], R.LOST, 0),
    (R.LOST, RE.FOUND): ([b"no record at all", DATA, DATA[:3], DATA[3:]], R.READING, 2),
    (R.READING, RE.HOLE): ([DATA[:6], HOLE, DATA], R.READING, 2),
    (R.LOST, RE.HOLE): ([b"no record at all", HOLE, DATA], R.READING, 1),
}

W, WE = web.State, web.Event
GET, POST = b"GET /a HTTP/1.1\r\nHost: x\r\n\r\n", b"POST /b HTTP/1.1\r\nContent-Length: 3\r\n\r\n"
CHUNKED = b"PUT /c HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n"
REQUESTS = {
    (W.HEAD, WE.SENSELESS): ([b"what is this?\r\n"], W.LOST, 0),
    (W.LOST, WE.FOUND): ([b"what is this?\r\n\nG", GET[1:]], W.HEAD, 1),
    (W.HEAD, WE.DONE): ([GET[:9], GET[9:]], W.HEAD, 1),
    (W.HEAD, WE.BODY_SIZED): ([POST, b"ab"], W.SIZED, 0),
    (W.HEAD, WE.BODY_CHUNKED): ([CHUNKED, b"5"], W.CHUNK_LINE, 0),
    (W.HEAD, WE.BODY_TO_THE_END): ([b"GET /a HTTP/1.1\r\nHost: " + b"x" * 70_000], W.TO_THE_END, 0),
    (W.SIZED, WE.DONE): ([POST, b"ab", b"c"], W.HEAD, 1),
    (W.CHUNK_LINE, WE.CHUNK_BEGINS): ([CHUNKED, b"5\r\nab"], W.CHUNK, 0),
    (W.CHUNK_LINE, WE.LAST_CHUNK): ([CHUNKED, b"0\r\nT"], W.TRAILERS, 0),
    (W.CHUNK_LINE, WE.BODY_TO_THE_END): ([CHUNKED, b"five\r\n", b"more", END], W.TO_THE_END, 1),
    (W.CHUNK, WE.DONE): ([CHUNKED, b"5\r\nab", b"cde\r\n"], W.CHUNK_LINE, 0),
    (W.TRAILERS, WE.DONE): ([CHUNKED, b"0\r\nT: v\r\n\r", b"\n"], W.HEAD, 1),
    (W.TRAILERS, WE.BODY_TO_THE_END): ([CHUNKED, b"0\r\n", b"t" * 70_000], W.TO_THE_END, 0),
    (W.HEAD, WE.HOLE): ([GET, HOLE, GET], W.HEAD, 2),
    (W.SIZED, WE.HOLE): ([POST, b"a", HOLE, GET], W.HEAD, 2),
    (W.CHUNK, WE.HOLE): ([CHUNKED, b"5\r\n", HOLE, GET], W.HEAD, 2),
    (W.TO_THE_END, WE.HOLE): ([CHUNKED, b"five\r\n", HOLE, GET], W.HEAD, 2),
    (W.LOST, WE.HOLE): ([b"what is this?\r\n", HOLE, GET], W.HEAD, 1),
}
ANSWERS = {
    (W.HEAD, WE.SWITCHED): ([b"HTTP/1.1 101 On\r\n\r\n", b"\x81\x02"], W.OTHER, 1),
    (W.OTHER, WE.HOLE): ([b"HTTP/1.1 101 On\r\n\r\n", HOLE, b"\x81\x02"], W.OTHER, 1),
}

F, FE = web2.State, web2.Event
OPENED = frame(1, 5, 1, _ASK_PAGE)
FRAMES = {
    (F.BEGINNING, FE.BEGUN): ([web2.PREFACE[:9], web2.PREFACE[9:] + OPENED[:20], OPENED[20:]], F.FRAMES, 1),
    (F.BEGINNING, FE.SENSELESS): ([b"x" * 30], F.UNREADABLE, 0),
    (F.FRAMES, FE.HOLE): ([web2.PREFACE + OPENED[:20], HOLE, OPENED], F.UNREADABLE, 1),
    (F.UNREADABLE, FE.HOLE): ([b"x" * 30, HOLE, OPENED], F.UNREADABLE, 0),
}

PF, PFE, PB, PBE = postgres.FrontState, postgres.FrontEvent, postgres.BackState, postgres.BackEvent
START = b"\0\0\0\x12\0\3\0\0user\0me\0\0\0"
QUERY, READY = front(b"Q", b"select 1\0"), front(b"Z", b"I")
ASK_SEAL = b"\0\0\0\x08" + postgres.SSL.to_bytes(4, "big")
FRONT = {
    (PF.STARTING, PFE.STARTED): ([START[:9], START[9:], QUERY[:4], QUERY[4:]], PF.TYPED, 1),
    (PF.TYPED, PFE.SENSELESS): ([START + b"\x01\x02\x03\x04\x05\x06\x07\x08"], PF.LOST, 0),
    (PF.TYPED, PFE.TERMINATED): ([START + front(b"X", b"") + QUERY], PF.OVER, 0),
    (PF.LOST, PFE.FOUND): ([START + b"\x01\x02\x03\x04\x05\x06\x07\x08" + QUERY[:2], QUERY[2:]], PF.TYPED, 1),
    (PF.TYPED, PFE.HOLE): ([START + QUERY, HOLE, b"\x01" + QUERY], PF.TYPED, 2),
    (PF.LOST, PFE.HOLE): ([START + b"\x01\x02\x03\x04\x05\x06", HOLE, b"\x01\x02"], PF.LOST, 0),
    (PF.OVER, PFE.HOLE): ([START + front(b"X", b""), HOLE, QUERY], PF.OVER, 0),
}
BACK = {
    (PB.REFUSING, PBE.STARTED): ([b"N", READY[:3], READY[3:]], PB.TYPED, 1),
    (PB.REFUSING, PBE.AGREED): ([b"S", b"\x16\3\3"], PB.SEALED, 0),
    (PB.TYPED, PBE.SENSELESS): ([b"N\x01\x02\x03\x04\x05"], PB.LOST, 0),
    (PB.LOST, PBE.FOUND): ([b"N\x01\x02\x03\x04\x05" + READY[:5], READY[5:]], PB.TYPED, 1),
    (PB.TYPED, PBE.HOLE): ([b"N" + READY, HOLE, b"abc" + READY], PB.TYPED, 2),
    (PB.LOST, PBE.HOLE): ([b"N\x01\x02\x03\x04\x05", HOLE, b"Z\0\0\0\5x" + READY], PB.TYPED, 1),
    (PB.SEALED, PBE.HOLE): ([b"S", HOLE, READY], PB.SEALED, 0),
}
BACK_ALONE = {(PB.REFUSING, PBE.HOLE): ([b"N", HOLE, b"abc"], PB.LOST, 0)}

MF, MFE, MB, MBE = mysql.FrontState, mysql.FrontEvent, mysql.BackState, mysql.BackEvent
LOGIN, COMMAND = packet(1, b"\x85\xa6\xff\1" + bytes(60)), packet(0, b"\x03select 1")
GREETING, DONE = packet(0, b"\x0a8.0\0" + bytes(60)), packet(2, b"\0\0\0\2")
MYSQL_FRONT = {
    (MF.BEGINNING, MFE.SIGNS_ON): ([LOGIN[:20], LOGIN[20:]], MF.SIGNING_ON, 0),
    (MF.BEGINNING, MFE.ASKS): ([COMMAND[:5], COMMAND[5:], COMMAND], MF.ASKING, 1),
    (MF.BEGINNING, MFE.SEALS): ([packet(1, b"\x85\xae\xff\1" + bytes(28)), b"\x16\3\1"], MF.SEALED, 0),
    (MF.SIGNING_ON, MFE.ASKS): ([LOGIN, packet(3, b"more"), COMMAND, COMMAND], MF.ASKING, 1),
    (MF.BEGINNING, MFE.HOLE): ([LOGIN[:2], HOLE, LOGIN], MF.SIGNING_ON, 0),
    (MF.SIGNING_ON, MFE.HOLE): ([LOGIN, HOLE, COMMAND], MF.ASKING, 0),
    (MF.ASKING, MFE.HOLE): ([COMMAND, HOLE, COMMAND], MF.ASKING, 1),
    (MF.SEALED, MFE.HOLE): ([packet(1, b"\x85\xae\xff\1" + bytes(28)), HOLE, COMMAND], MF.SEALED, 0),
}
ROW = packet(1, b"\1")
MYSQL_BACK = {
    (MB.GREETING, MBE.GREETED): ([GREETING[:30], GREETING[30:]], MB.SIGNING_ON, 0),
    (MB.SIGNING_ON, MBE.SIGNED): ([GREETING, packet(2, b"\xfe"), packet(4, b"\0\0")], MB.SIGNED_ON, 0),
    (MB.SIGNING_ON, MBE.ANSWERS): ([GREETING, ROW, ROW], MB.ANSWERING, 1),
    (MB.SIGNED_ON, MBE.ANSWERS): ([GREETING, DONE, packet(3, b"x"), ROW, packet(2, b"row"), ROW], MB.ANSWERING, 1),
    (MB.GREETING, MBE.HOLE): ([GREETING[:2], HOLE, GREETING], MB.SIGNING_ON, 0),
    (MB.SIGNING_ON, MBE.HOLE): ([GREETING, HOLE, DONE], MB.SIGNED_ON, 0),
    (MB.SIGNED_ON, MBE.HOLE): ([GREETING, DONE, HOLE, ROW], MB.ANSWERING, 0),
    (MB.ANSWERING, MBE.HOLE): ([GREETING, DONE, ROW, HOLE, ROW], MB.ANSWERING, 1),
}
MYSQL_BACK_IN_MID_STREAM = {(MB.GREETING, MBE.ANSWERS): ([ROW, ROW], MB.ANSWERING, 1)}

D, DE = dns_stream.State, dns_stream.Event
QUESTION = b"\0\x1b\0\1\1\0\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1"
NONSENSE = b"\0\x1d" + QUESTION[2:14] + b"\xff" * 17
DNS = {
    (D.MESSAGES, DE.SENSELESS): ([QUESTION[:9], QUESTION[9:], NONSENSE, QUESTION], D.UNREADABLE, 1),
    (D.MESSAGES, DE.HOLE): ([QUESTION + QUESTION[:9], HOLE, QUESTION], D.MESSAGES, 2),
    (D.UNREADABLE, DE.HOLE): ([NONSENSE, HOLE, QUESTION], D.MESSAGES, 1),
}

VALUE = b"*2\r\n$3\r\nGET\r\n$1\r\nk\r\n"
VALUES = {
    (R.READING, RE.SENSELESS): ([VALUE[:9], VALUE[9:], b"what?\r\n"], R.LOST, 1),
    (R.LOST, RE.FOUND): ([b"what?\r", b"\n", VALUE[:3], VALUE[3:]], R.READING, 1),
    (R.READING, RE.HOLE): ([VALUE[:9], HOLE, VALUE], R.READING, 2),
    (R.LOST, RE.HOLE): ([b"what?\r\n", HOLE, b"+OK\r\n"], R.READING, 1),
}

L, LE = ldap_messages.State, ldap_messages.Event
UNBIND, EXTEND = bytes.fromhex("30050201014200"), bytes.fromhex("300a0201017705800331 2e32".replace(" ", ""))
LDAP = {
    (L.MESSAGES, LE.SENSELESS): ([UNBIND[:3], UNBIND[3:], b"\x01" * 40], L.LOST, 1),
    (L.LOST, LE.FOUND): ([b"\x01" * 40, b"\x30", UNBIND[1:]], L.MESSAGES, 1),
    (L.MESSAGES, LE.SEALS): ([EXTEND, b"\x16\3\3", UNBIND], L.SEALED, 1),
    (L.MESSAGES, LE.HOLE): ([EXTEND[:9], HOLE, UNBIND], L.MESSAGES, 2),
    (L.LOST, LE.HOLE): ([b"\x01" * 40, HOLE, UNBIND], L.MESSAGES, 1),
    (L.SEALED, LE.HOLE): ([EXTEND, b"\x16\3\3", HOLE, UNBIND], L.SEALED, 1),
}

READ = shared(8, 5, bytes(20))
SMB = {
    (R.READING, RE.SENSELESS): ([READ[:50], READ[50:], b"\x01" * 40], R.LOST, 1),
    (R.LOST, RE.FOUND): ([b"\x01" * 40, READ[:5], READ[5:]], R.READING, 1),
    (R.READING, RE.HOLE): ([READ[:90], HOLE, READ], R.READING, 2),
    (R.LOST, RE.HOLE): ([b"\x01" * 40, HOLE, READ], R.READING, 1),
}

READERS = [
    ("names", dns_stream.Messages, DNS),
    ("values", redis_values.Values, VALUES),
    ("directory", ldap_messages.Messages, LDAP),
    ("files", smb_frames.Frames, SMB),
    ("records", tls_records.Records, RECORDS),
    ("requests", web.Requests, REQUESTS),
    ("answers", lambda: web.Answers(asked(b"GET")), ANSWERS),
    ("frames", lambda: web2.Frames(of_client=True), FRAMES),
    ("postgres front", postgres.Front, FRONT),
    ("postgres back", lambda: postgres.Back(after(postgres.Front(), ASK_SEAL, START, QUERY)), BACK),
    ("postgres back alone", lambda: postgres.Back(postgres.Front()), BACK_ALONE),
    ("mysql front", mysql.Front, MYSQL_FRONT),
    ("mysql back", lambda: mysql.Back(after(mysql.Front(), LOGIN)), MYSQL_BACK),
    ("mysql back in mid-stream", lambda: mysql.Back(after(mysql.Front(), COMMAND)), MYSQL_BACK_IN_MID_STREAM),
]


def named(key):
    """A transition for people: its state and its event."""
    return " ".join(one.name for one in key)


EACH = [
    pytest.param(made, key, *example, id=f"{name}: {named(key)}")
    for name, made, examples in READERS
    for key, example in examples.items()
]


@pytest.mark.parametrize(("made", "key", "steps", "state", "found"), EACH)
def test_a_transition_of_one_side(made, key, steps, state, found):
    reader = made()
    assert key in fed(reader, steps)
    assert reader.state == state
    assert len(reader.found) == found


C1, S1 = record(22, hello(1, NAME)), record(22, hello(2, b"\0\x2b\0\2\3\4"))
C2, ASK, TICKET, ANSWER = (
    record(20, b"\1") + record(23, bytes(53)),
    record(23, bytes(120)),
    record(23, bytes(250)),
    4000,
)
OLD_S1 = record(22, hello(2, b"\0\0")) + record(22, b"\x0e\0\0\0")
OLD_C2, OLD_S2 = (
    record(22, bytes(60)) + record(20, b"\1") + record(22, bytes(40)),
    record(20, b"\1") + record(22, bytes(40)),
)
SERVED = record(23, bytes(ANSWER))
T, TE = tls.State, tls.Event
NEWER = [(0, C1), (1, S1)]
CONVERSATIONS = {  # (side, bytes) in order of time; the state in the end; exchanges that nothing changes any more
    (T.HELLOS, TE.NO_HELLOS): ([(0, ASK), (1, SERVED), (0, ASK)], T.DATA, 1),
    (T.HELLOS, TE.OLDER): ([(0, C1), (1, OLD_S1)], T.OLDER_HANDSHAKE, 0),
    (T.HELLOS, TE.NEWER): (NEWER, T.NEWER_HANDSHAKE, 0),
    (T.OLDER_HANDSHAKE, TE.DATA_BEGINS): ([(0, C1), (1, OLD_S1), (0, OLD_C2), (1, OLD_S2), (0, ASK)], T.DATA, 2),
    (T.NEWER_HANDSHAKE, TE.DATA_BEGINS): ([*NEWER, (1, TICKET), (0, C2)], T.TICKETS, 1),
    (T.TICKETS, TE.TICKETS_OF_ONE_SIZE): ([*NEWER, (0, C2), (1, TICKET * 2), (0, ASK)], T.MORE_TICKETS, 1),
    (T.TICKETS, TE.SETTLED): ([*NEWER, (0, C2), (0, ASK), (1, SERVED + TICKET), (0, ASK)], T.CLOSING_DATA, 2),
    (T.MORE_TICKETS, TE.SETTLED): (
        [*NEWER, (0, C2), (1, TICKET * 3), (0, ASK), (1, SERVED), (0, ASK)], T.CLOSING_DATA, 2,
    ),
}  # fmt: skip


@pytest.mark.parametrize("key", CONVERSATIONS, ids=named)
def test_a_transition_of_a_conversation(key):
    steps, state, found = CONVERSATIONS[key]
    conversation, places = tls.Tls(), [1, 1]
    conversation.TRANSITIONS = Logged(conversation.TRANSITIONS)
    for side, data in steps:
        for cut in (data[:7], data[7:]):
            runs = [[], []]
            runs[side] = [Run(places[side], cut)]
            places[side] += len(cut)
            conversation.feed(*runs, [(side, places[side])])
    assert key in conversation.TRANSITIONS.taken
    assert conversation.state == state
    assert len(conversation.pairs) == found


@pytest.mark.parametrize(
    ("table", "examples"),
    [
        (dns_stream.Messages.TRANSITIONS, [DNS]),
        (redis_values.Values.TRANSITIONS, [VALUES]),
        (ldap_messages.Messages.TRANSITIONS, [LDAP]),
        (smb_frames.Frames.TRANSITIONS, [SMB]),
        (tls_records.Records.TRANSITIONS, [RECORDS]),
        (web.Messages.TRANSITIONS, [REQUESTS, ANSWERS]),
        (web2.Frames.TRANSITIONS, [FRAMES]),
        (postgres.Front.TRANSITIONS, [FRONT]),
        (postgres.Back.TRANSITIONS, [BACK, BACK_ALONE]),
        (mysql.Front.TRANSITIONS, [MYSQL_FRONT]),
        (mysql.Back.TRANSITIONS, [MYSQL_BACK, MYSQL_BACK_IN_MID_STREAM]),
        (tls.Tls.TRANSITIONS, [CONVERSATIONS]),
    ],
    ids=(
        "names",
        "values",
        "directory",
        "files",
        "records",
        "web",
        "frames",
        "postgres front",
        "postgres back",
        "mysql front",
        "mysql back",
        "tls",
    ),
)
def test_no_transition_is_left_out(table, examples):
    assert {key for some in examples for key in some} == set(table)
