"""SIP, session descriptions and RTCP: what is told, and that nothing cut or changed breaks them."""

import random
from struct import Struct

from yaffle.protocols import rtcp, sip

BODY = (
    b"v=0\r\no=- 1 1 IN IP4 198.51.100.7\r\ns=-\r\nc=IN IP4 198.51.100.7\r\nt=0 0\r\nm=audio 40000 RTP/AVP 0"
    b" 97\r\na=rtpmap:97 opus/48000/2\r\nm=video 40002 RTP/AVP 99\r\nc=IN IP4 198.51.100.8\r\na=rtpmap:99"
    b" H264/90000\r\n"
)
INVITE = (
    b"INVITE sip:quay@harbourline.example SIP/2.0\r\nVia: SIP/2.0/UDP 198.51.100.7\r\ni: abc-1\r\nCSeq: 7"
    b" INVITE\r\nContent-Type: application/sdp\r\nContent-Length: %d\r\n\r\n" % len(BODY) + BODY
)
RINGING = b"SIP/2.0 180 Ringing\r\nCall-ID: abc-1\r\nCSeq: 7 INVITE\r\n\r\n"


def sender_report(ssrc=9, ntp=(100, 0x80000000), packets=50, blocks=()):
    body = Struct("!IIIII").pack(*ntp, 0, packets, packets * 160)
    for about, fraction, lost, jitter, last, delay in blocks:
        body += Struct("!IIIIII").pack(about, fraction << 24 | lost & 0xFFFFFF, 60, jitter, last, delay)
    return Struct("!BBHI").pack(0x80 | len(blocks), 200, 1 + len(body) // 4, ssrc) + body


def test_an_invitation_announces_its_streams():
    said = sip.message(INVITE)
    assert (said.method, said.status, said.call_id, said.number) == ("INVITE", 0, "abc-1", 7)
    assert [(s.kind, s.address, s.port, s.codecs) for s in said.streams] == [
        ("audio", "198.51.100.7", 40000, {0: ("", 0), 97: ("opus", 48000)}),
        ("video", "198.51.100.8", 40002, {99: ("H264", 90000)}),
    ]
    answer = sip.message(RINGING)
    assert (answer.method, answer.status, answer.reason, answer.streams) == ("INVITE", 180, "Ringing", ())


def test_what_is_no_message_is_none():
    for data in (
        b"",
        b"GET / HTTP/1.1\r\n\r\n",
        b"SIP/2.0 xyz\r\n\r\n",
        b"INVITE sip:a SIP/2.0\r\nCSeq: 1 INVITE\r\n\r\n",
        b"SIP/2.0 200 OK\r\nCall-ID: 1\r\nCSeq: many INVITE\r\n\r\n",
    ):
        assert sip.message(data) is None


def test_reports_of_both_ends():
    data = sender_report(blocks=[(77, 64, -3 & 0xFFFFFF, 800, 0x00648000, 1 << 16)])
    sent, received = rtcp.reports(data + Struct("!BBHI").pack(0x81, 202, 1, 9))
    assert (sent[0].ssrc, sent[0].stamp, sent[0].packets, sent[0].octets) == (9, 100 << 16 | 0x8000, 50, 8000)
    (own,) = received
    assert (own.ssrc, own.lost, own.fraction, own.jitter, own.last_report, own.delay_ns) == (
        77,
        -3,
        0.25,
        800,
        0x00648000,
        10**9,
    )
    assert rtcp.reports(b"\x80\x00\x00\x01" + bytes(8)) is None


def test_whatever_is_cut_or_changed_breaks_neither():
    rnd = random.Random(4)
    report = sender_report(blocks=[(1, 1, 1, 1, 1, 1)] * 3)
    for data, read in ((INVITE, sip.message), (RINGING, sip.message), (report, rtcp.reports)):
        for end in range(len(data)):
            read(data[:end])
        for _ in range(3000):
            mutated = bytearray(data)
            for _ in range(rnd.randrange(1, 6)):
                mutated[rnd.randrange(len(mutated))] = rnd.randrange(256)
            read(bytes(mutated))
