"""Mutated captures without end: `NUMBA_BOUNDSCHECK=1 python -m tests.fuzz SECONDS [SEED]`. Prints how many and the
first that broke.

With bounds checks compiled in, an index beyond an array is an error instead of a wrong figure. A file must give an
analysis or one YaffleError, in bounded time.
"""

import random
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from struct import Struct

from tests.cyclic.feeds import Feed, real_time, sensor
from tests.exchanges.test_voice_and_video import cell
from tests.frames import ACK, FIN, PSH, RST, SYN, C, S, Talk, ether, ip, pcap, tcp, udp
from tests.hops.test_edges import edge_option, export_option, packet
from tests.protocols.test_calls import INVITE, RINGING, sender_report
from tests.radio.air import radiotap
from tests.radio.test_air import life
from tests.records.messages import a_set, ipfix, netflow5, netflow9, option_template, template
from tests.transport.test_taking_turns import Host, play
from yaffle.analysis import analyse
from yaffle.capture import by_part
from yaffle.capture.pcapng_writer import write_pcapng
from yaffle.errors import YaffleError
from yaffle.findings.flow_labels import DIMENSIONS
from yaffle.findings.location import network_by_segment
from yaffle.memory_plan import Plan
from yaffle.report import media_part, path_part
from yaffle.room import SpilledRoom
from yaffle.session.classes_view import ClassSettings, class_picture
from yaffle.session.evidence import Evidence
from yaffle.session.flow_parts import FlowSettings, flow_picture
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.map_view import map_picture
from yaffle.session.path_view import path_picture

_SLOW_S = 8.0
_SPOKEN = 3  # The seed with most decoders in it.
_INTERESTING = (0, 1, 2, 3, 4, 5, 8, 15, 16, 20, 40, 60, 63, 64, 65, 127, 128, 129, 254, 255)


def talk_of(sport: int) -> list[bytes]:
    """A whole connection with repeats, SACK, timestamps and windows, as IP packets."""
    syn = b"\x02\x04\x05\xb4\x04\x02\x08\x0a\0\0\0\1\0\0\0\0\x01\x03\x03\x07"
    sack = b"\x01\x01\x05\x12" + Struct("!IIII").pack(4000, 4500, 5000, 5500)
    return [
        tcp(C, sport, S, 80, 1, 0, SYN, options=syn), tcp(S, 80, C, sport, 1000, 2, SYN | ACK, options=syn),
        tcp(C, sport, S, 80, 2, 1001, ACK, ts=(2, 1)), tcp(C, sport, S, 80, 2, 1001, ACK | PSH, b"ask", ts=(3, 1)),
        tcp(S, 80, C, sport, 1001, 5, ACK, b"x" * 500, ts=(3, 3)),
        tcp(S, 80, C, sport, 2001, 5, ACK, b"y" * 500, ts=(4, 3)),
        tcp(C, sport, S, 80, 5, 1501, ACK, options=sack), tcp(S, 80, C, sport, 1501, 5, ACK, b"z" * 500, ts=(9, 3)),
        tcp(C, sport, S, 80, 5, 2501, ACK, window=0, ts=(9, 9)), tcp(S, 80, C, sport, 2501, 5, ACK, b"p", ts=(10, 3)),
        tcp(C, sport, S, 80, 5, 2502, FIN | ACK, ts=(11, 9)), tcp(S, 80, C, sport, 2502, 6, RST | ACK),
    ]  # fmt: skip


def seeds(folder: Path) -> Iterator[bytes]:
    """Small captures that touch every decoder."""
    talk = talk_of(40000)
    other = [
        ether(udp(C, 53, S, 53, b"abc"), tags=b"\x81\x00\x00\x05"),
        ether(ip(C, S, 1, b"\x03\x01\0\0\0\0\0\0" + talk[3])),
        ether(ip(C, S, 1, b"\x08\x00\0\0\0\1\0\2ping")),
        ether(ip(C, S, 17, Struct("!HHHH").pack(5000, 4789, 0, 0) + b"\x08" + bytes(7) + ether(talk[3]))),
        ether(ip(C, S, 17, Struct("!HHHH").pack(5000, 2152, 0, 0) + b"\x30\xff\0\x2d\0\0\0\1" + talk[3])),
        ether(ip(C, S, 47, b"\x20\0\x08\0\0\0\0\1" + talk[3])),
        ether(b"\0\1\x01\x40" + talk[3], 0x8847),
        ether(tcp("2001:db8::1", 4, "2001:db8::2", 5, 6, 7, ACK, b"data", ts=(5, 6))),
        ether(ip("2001:db8::1", "2001:db8::2", 0, b"\x2b\0" + bytes(6) + b"\x06\0" + bytes(6) + talk[3][20:])),
    ]
    frames = [ether(t) for t in talk]
    yield pcap(folder / "a", [(i * 50_000_000, f) for i, f in enumerate(frames)]).read_bytes()
    yield pcap(folder / "b", [(i * 50_000_000, f) for i, f in enumerate(frames[3:] + other)]).read_bytes()
    write_pcapng(
        folder / "c",
        [(i * 50_000_000, len(f), f) for i, f in enumerate(other + frames)],
        names={C: "a.b.c.example"},
        interface="eth0",
    )
    yield (folder / "c").read_bytes()
    yield pcap(folder / "e", [(i * 5_000_000, f) for i, f in enumerate(spoken())]).read_bytes()
    yield pcap(folder / "d", [(i, t) for i, t in enumerate(talk)], link=101).read_bytes()
    feed = Feed(cycles=60)
    yield pcap(folder / "f", sorted(real_time(feed) + sensor(feed, counter=True))).read_bytes()
    heard = [(int(at * 1_000_000), radiotap(-60, -95, rate=108) + frame) for at, frame in life(fast=True)]
    yield pcap(folder / "g", heard, link=127).read_bytes()
    marked = [packet(5000, edge_option(k, at_us=1000 * k)) for k in range(30)] + [
        packet(5001, export_option(k, 7)) for k in range(30)
    ]
    yield pcap(folder / "h", list(enumerate(marked))).read_bytes()
    yield play(Host(takes_turns=True), 15.0, 1, exchanges=16).talk.write(folder / "i").read_bytes()
    yield pcap(folder / "j", sorted(queued(), key=lambda sent: sent[0])).read_bytes()


def queued() -> list[tuple[int, bytes]]:
    """Two transfers, seen beside their clients: a queue builds up by the first, and the second lives in it."""
    out = []
    for sport, begin_ms, late_ms, segments in ((40_001, 0, 0, 110), (40_002, 600, 40, 30)):
        talk = Talk(sport).open(begin_ms, 20 + late_ms)
        talk.send(0, begin_ms + 100, 50, ACK | PSH)
        for k in range(segments):
            sent_ms = begin_ms + 110 + 10 * k
            late_ms = min(40, max(late_ms, sent_ms // 10))
            if k == segments // 2:
                talk.send(0, sent_ms, 1)
            talk.send(1, sent_ms + 10 + late_ms, 20, ACK | PSH, sent_ms=sent_ms)
        talk.close(begin_ms + 110 + 10 * segments, 90)
        out += talk.out
    return out


def spoken() -> list[bytes]:
    """Connections and datagrams in protocols that are decoded, as Ethernet frames."""
    pairs = (
        (
            80,
            b"GET /a?b=1 HTTP/1.1\r\nHost: c.example\r\n\r\n",
            b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
        ),
        (6379, b"*2\r\n$3\r\nGET\r\n$1\r\nk\r\n", b"$2\r\nab\r\n"),
        (
            5432,
            b"\0\0\0\x12\0\3\0\0user\0me\0\0\0Q\0\0\0\rselect 1\0",
            b"R\0\0\0\x08\0\0\0\0Z\0\0\0\5IC\0\0\0\x08abc\0Z\0\0\0\5I",
        ),
        (
            3306,
            b"\x24\0\0\1" + bytes(36) + b"\2\0\0\0\3x",
            b"\x4a\0\0\0\x0a8.0\0" + bytes(69) + b"\1\0\0\2\0\1\0\0\1\0",
        ),
        (
            443,
            b"\x16\3\1\0\x30\1\0\0\x2c\3\3" + bytes(42) + b"\x17\3\3\0\4abcd",
            b"\x16\3\3\0\x2a\2\0\0\x26\3\3" + bytes(36) + b"\x17\3\3\0\4abcd",
        ),
        (
            8080,
            b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\0\0\0\4\0\0\0\0\0\0\0\3\1\5\0\0\0\1\x82\x84\x86",
            b"\0\0\0\4\0\0\0\0\0\0\0\1\1\4\0\0\0\1\x88\0\0\2\0\1\0\0\0\1ab",
        ),
        (
            389,
            bytes.fromhex("301102010160 0c0201030402636e8003616263".replace(" ", "")),
            bytes.fromhex("300c02010161070a010004000400" + "00" * 8),
        ),
        (
            445,
            b"\0\0\0\x48\xfeSMB\x40\0" + bytes(6) + b"\5" + bytes(59),
            b"\0\0\0\x48\xfeSMB\x40\0" + bytes(6) + b"\5\0\0\0\1" + bytes(55),
        ),
        (
            53,
            b"\0\x1d\0\1\1\0\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1",
            b"\0\x1d\0\1\x81\x80\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1",
        ),
    )
    out = []
    for k, (port, asked, told) in enumerate(pairs):
        ends = (C, 50_000 + k, S, port), (S, port, C, 50_000 + k)
        out += [ether(tcp(*ends[0], 1, 0, SYN)), ether(tcp(*ends[1], 1, 2, SYN | ACK)), ether(tcp(*ends[0], 2, 2, ACK))]
        out += [
            ether(tcp(*ends[0], 2, 2, ACK | PSH, asked)),
            ether(tcp(*ends[1], 2, 2 + len(asked), ACK | PSH, told[:20])),
        ]
        out += [
            ether(tcp(*ends[1], 22, 2 + len(asked), ACK | PSH, told[20:])),
            ether(tcp(*ends[0], 2 + len(asked), 2 + len(told), ACK)),
        ]
    name = b"\0\1\1\0\0\1\0\0\0\0\0\0\1a\7example\0\0\1\0\1"
    out += [
        ether(udp(C, 4000, S, 53, name)),
        ether(udp(S, 53, C, 4000, name[:2] + b"\x81\x80\0\1\0\1" + name[8:] + b"\xc0\x0c\0\1\0\1\0\0\0\5\0\4abcd")),
    ]
    lease = b"\1\1\6\0abcd" + bytes(228) + b"\x63\x82\x53\x63\x35\1\1\xff"
    out += [
        ether(udp("192.0.2.1", 68, "192.0.2.255", 67, lease)),
        ether(udp(C, 5000, S, 1812, b"\1\7\0\x1a" + bytes(16) + b"\1\6user")),
    ]
    out += [ether(udp(C, 123, S, 123, b"\x23" + bytes(47))), ether(udp(S, 123, C, 123, b"\x24\3" + bytes(46)))]
    out += [
        ether(
            udp(
                C,
                9000,
                S,
                161,
                bytes.fromhex("302602010104067075626c6963a01902040badcafe020100020100300b300906052b060102010500"),
            )
        )
    ]
    out += [ether(udp(C, 9001, S, 443, b"\xc3\0\0\0\1\x08abcdefgh\0\0\x40\x40" + bytes(64)))]
    out += exported()
    out += [
        ether(udp(C, 7000, S, 7002, b"\x80\x08" + bytes([0, n, 0, 0, 0, n * 20, 0, 0, 0, 9]) + bytes(30)))
        for n in range(12)
    ]
    out += [ether(udp(C, 5060, S, 5060, INVITE)), ether(udp(S, 5060, C, 5060, RINGING))]
    out += [ether(udp(C, 7001, S, 7003, sender_report(9, (500, 0), 12, [(9, 1, 1, 1, 500 << 16, 1)])))]
    out += [ether(udp(S, 6000, C, 6002, cell(256, n, n * 270_000) + cell(257, n))) for n in range(10)]
    return out


def exported() -> list[bytes]:
    """Export datagrams of all four protocols, as Ethernet frames."""
    fields = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (2, 4), (1, 8), (133, 4), (9001, 0xFFFF, 32473)]
    one = bytes([198, 51, 100, 1, 203, 0, 113, 2]) + Struct("!HHBIQI").pack(1234, 443, 6, 3, 1000, 1) + b"\3abc"
    options = option_template(301, [(10, 4), (82, 8)], 1), a_set(301, b"\0\0\0\7uplink\0\0")
    narrow = [(8, 4), (12, 4), (21, 4), (22, 4), (2, 4)]
    messages = [
        ipfix([template(300, fields), *options, a_set(300, one * 3)]),
        ipfix([a_set(300, one * 2)], sequence=4),
        ipfix([a_set(2, Struct("!HH").pack(300, 0))], sequence=6),
        netflow9([template(260, narrow, kind=0), a_set(260, bytes(20) * 2)]),
        netflow5([(1, 100, 50_000, 60_000)] * 2),
        b"\0\0\0\5\0\0\0\1\xcb\0\x71\1\0\0\0\0\0\0\0\1\0\0\0\1\0\0\0\2"
        + b"\0\0\0\1\0\0\0\x40"
        + Struct("!8I").pack(1, 1, 64, 64, 0, 1, 2, 1)
        + Struct("!6I").pack(1, 24, 1, 60, 4, 8)
        + bytes(8)
        + b"\0\0\0\2\0\0\0\x6c"
        + Struct("!5I").pack(1, 1, 1, 1, 88)
        + bytes(88),
    ]
    return [ether(udp("192.0.2.7", 9_995, S, 4739, message)) for message in messages]


def packed(rnd: random.Random, path: Path, talks: int) -> int:
    """Many connections in one capture, each with a few packets changed, dropped, doubled or moved."""
    out = []
    for k in range(talks):
        frames = [ether(packet) for packet in talk_of(1024 + k)]
        for _ in range(rnd.choice((1, 1, 2, 4))):
            at = rnd.randrange(len(frames))
            how = rnd.randrange(5)
            if how == 0 and len(frames) > 1:
                del frames[at]
            elif how == 1:
                frames.insert(rnd.randrange(len(frames)), frames[at])
            else:
                frames[at] = mutated(frames[at], rnd)
        time_ns = 0
        for frame in frames:
            time_ns += rnd.choice((0, 1, 1000, 10**6, 4 * 10**7, 10**9, -(10**6), 10**11))
            out.append((max(0, time_ns), frame))
    rnd.shuffle(out) if rnd.random() < 0.2 else out.sort(key=lambda entry: entry[0])
    pcap(path, out)
    return talks


def mutated(data: bytes, rnd: random.Random) -> bytes:
    """The data with a few changes of the kinds that break readers."""
    out = bytearray(data)
    for _ in range(rnd.choice((1, 1, 2, 3, 8))):
        at = rnd.randrange(len(out))
        how = rnd.randrange(7)
        if how == 0:
            out[at] ^= 1 << rnd.randrange(8)
        elif how == 1:
            out[at] = rnd.choice(_INTERESTING)
        elif how == 2:
            out[at : at + 4] = rnd.choice(
                (b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f", b"\0\0\0\1")
            )
        elif how == 3:
            del out[at : at + rnd.randrange(1, 64)]
        elif how == 4:
            piece = out[at : at + rnd.randrange(1, 200)]
            out[at:at] = piece
        elif how == 5:
            other = rnd.randrange(len(out))
            size = rnd.randrange(1, 64)
            out[at : at + size] = out[other : other + size]
        else:
            del out[at:]
        if not out:
            out = bytearray(data[:30])
    return bytes(out)


def main(seconds: float, seed: int) -> int:
    """Runs for so long; 1 where something broke."""
    rnd, count, began = random.Random(seed), 0, time.monotonic()
    by_part.PART_PACKETS = 7
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        corpus, path, other = list(seeds(folder)), folder / "mutated", folder / "other"
        corpus += [corpus[_SPOKEN]] * 3
        while time.monotonic() - began < seconds:
            made = 1
            if rnd.random() < 0.1:
                made = packed(rnd, path, 400)
            else:
                path.write_bytes(mutated(rnd.choice(corpus), rnd))
            started = time.monotonic()
            try:
                paths = [path, other] if rnd.random() < 0.4 else [path]
                if len(paths) > 1:
                    other.write_bytes(mutated(path.read_bytes(), rnd) if rnd.random() < 0.5 else rnd.choice(corpus))
                plan = Plan(SpilledRoom(folder)) if rnd.random() < 0.3 else Plan()
                opened = Opened(analyse(paths, plan=plan))
                analysis = opened.analysis
                for part in (
                    path_part.segments,
                    path_part.translated,
                    path_part.answered_between,
                    path_part.flow_changes,
                    media_part.media,
                    media_part.programs,
                    media_part.calls,
                ):
                    part(analysis)
                network_by_segment(analysis)
                model = Investigation()
                model.open(opened)
                for picture in (path_picture, map_picture, lambda scene: class_picture(scene, ClassSettings())):
                    picture(model.scene)
                evidence = Evidence(analysis)
                flow_picture(evidence, evidence.first_ns, evidence.last_ns, FlowSettings(rnd.choice(DIMENSIONS)))
                assert (analysis.account.connection_charges.sum(axis=1) == analysis.account.fact("wait_ns")).all()
                assert (analysis.account.exchange_charges >= 0).all(), "a charge is negative"
            except YaffleError:
                pass
            except Exception as error:  # noqa: BLE001  Whatever it is, it is what is looked for.
                shutil.copy(path, Path(tempfile.gettempdir()) / "fuzz-found.bin")
                print(f"broke after {count}: {type(error).__name__}: {error}")
                return 1
            if time.monotonic() - started > _SLOW_S and count > 10:
                shutil.copy(path, Path(tempfile.gettempdir()) / "fuzz-found.bin")
                print(f"slow after {count}: {time.monotonic() - started:.1f} s")
                return 1
            count += made
    print(f"{count} mutated captures and connections, nothing broke")
    return 0


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1))
