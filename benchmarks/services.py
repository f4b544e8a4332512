"""What decoding costs: a million packets with 100,000 web exchanges and 100,000 look-ups, `python -m
benchmarks.services [FOLDER]`.

Prints the time of decoding (messages and look-ups) as a ratio to the time of the transport analysis of the same file.
"""

import statistics
import sys
import time
from pathlib import Path
from struct import Struct

CONNECTIONS, EACH, LOOKUPS = 10_000, 10, 100_000
_MSS = 1448
_RECORD = Struct("<IIII")


def _ip(protocol: int, source: bytes, target: bytes, body: bytes, number: int) -> bytes:
    return (
        bytes(12)
        + b"\x08\0"
        + Struct("!BBHHHBBH").pack(0x45, 0, 20 + len(body), number & 0xFFFF, 0x4000, 64, protocol, 0)
        + source
        + target
        + body
    )


def _tcp(ports: tuple[int, int], seq: int, ack: int, flags: int, payload: bytes) -> bytes:
    return Struct("!HHIIHHHH").pack(*ports, seq, ack, 0x5000 | flags, 60_000, 0, 0) + payload


def _connection(k: int) -> list[bytes]:
    """The packets of one connection with its exchanges."""
    client, server = bytes([198, 51, 100, 1 + k % 250]), bytes([203, 0, 113, 1 + k % 40])
    port, out = 20_000 + k // 250, []
    up, down = 1, 1

    def send(side: int, flags: int, payload: bytes = b"") -> None:
        nonlocal up, down
        pair, ports = ((client, server), (port, 80)) if side == 0 else ((server, client), (80, port))
        seq, ack = (up, down) if side == 0 else (down, up)
        out.append(_ip(6, *pair, _tcp(ports, seq & 0xFFFFFFFF, ack, flags, payload), len(out)))
        if side == 0:
            up += len(payload) + (flags >> 1 & 1)
        else:
            down += len(payload) + (flags >> 1 & 1)

    send(0, 2)
    send(1, 18)
    send(0, 16)
    body = bytes(4 * _MSS - 60)
    for n in range(EACH):
        send(
            0,
            24,
            b"GET /catalog/item/%d/page?k=%d HTTP/1.1\r\nHost: shop.example\r\nAccept: text/html\r\nUser-Agent:"
            b" bench\r\n\r\n" % (k, n),
        )
        answer = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: %d\r\n\r\n" % len(body) + body
        send(1, 16)
        for at in range(0, len(answer), _MSS):
            send(1, 16, answer[at : at + _MSS])
        send(0, 16)
    return out


def _lookup(k: int) -> list[bytes]:
    client, server = bytes([198, 51, 100, 1 + k % 250]), bytes([203, 0, 113, 53])
    question = b"\4host\6n%05d\7example\0\0\1\0\1" % (k % 100_000)
    port = 20_000 + k % 40_000
    head = Struct("!HHHHHH")
    ask, answer = (
        head.pack(k & 0xFFFF, 0x100, 1, 0, 0, 0) + question,
        head.pack(k & 0xFFFF, 0x8180, 1, 1, 0, 0) + question,
    )
    answer += b"\xc0\x0c\0\1\0\1\0\0\0\x3c\0\4" + bytes([203, 0, 113, k % 250])
    udp = Struct("!HHHH")
    return [
        _ip(17, client, server, udp.pack(port, 53, 8 + len(ask), 0) + ask, k),
        _ip(17, server, client, udp.pack(53, port, 8 + len(answer), 0) + answer, k),
    ]


def write_services(path: Path, later_ns: int = 0) -> Path:
    """Writes the capture, so much later; found again if it is there already.

    Connections run in groups of a hundred, side by side.
    """
    if path.exists():
        return path
    path.parent.mkdir(parents=True, exist_ok=True)
    part, now = path.with_suffix(".part"), 1_790_000_000 * 10**9 + later_ns
    with part.open("wb") as file:
        file.write(Struct("<IHHiIII").pack(0xA1B23C4D, 2, 4, 0, 0, 65_535, 1))
        asked = 0
        for group in range(0, CONNECTIONS, 100):
            lanes = [_connection(k) for k in range(group, group + 100)]
            lanes += [
                [packet for n in range(20) for packet in _lookup(asked + lane * 20 + n)]
                for lane in range(LOOKUPS * 100 // CONNECTIONS // 20)
            ]
            asked += LOOKUPS * 100 // CONNECTIONS
            for step in range(max(len(lane) for lane in lanes)):
                for lane in lanes:
                    if step < len(lane):
                        now += 4_000
                        file.write(
                            _RECORD.pack(now // 10**9, now % 10**9, len(lane[step]), len(lane[step])) + lane[step]
                        )
    part.replace(path)
    return path


def main(folder: Path) -> None:
    """Three rounds; the median counts."""
    from yaffle.capture.payload import Payload
    from yaffle.capture.reader import read_captures
    from yaffle.exchanges.decoding import decode_messages
    from yaffle.exchanges.lookups import find_lookups
    from yaffle.exchanges.messages import no_messages
    from yaffle.kernel_cache import compiled
    from yaffle.ledger.arrangement import arrange
    from yaffle.ledger.finished import account_all
    from yaffle.warm_up import warm_up

    path = write_services(folder / "services-1m.pcap")
    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    ratios, spent = [], []
    for _ in range(3):
        began = time.perf_counter()
        capture = read_captures([path])
        capture, arranged = arrange(capture)
        account_all(capture, arranged, no_messages(arranged.flow.size))
        transport = time.perf_counter() - began
        began = time.perf_counter()
        payload = Payload(capture)
        messages = decode_messages(
            arranged.starts, arranged.order, capture.conversations.b_port[arranged.flow], payload
        )
        streams = time.perf_counter() - began
        lookups = find_lookups(capture, payload, arranged.starts, arranged.order, arranged.flow, messages)
        decoding = time.perf_counter() - began
        assert (len(messages.label), len(lookups.rows)) == (CONNECTIONS * EACH, LOOKUPS)
        ratios.append(decoding / transport)
        spent.append((streams, decoding - streams, transport))
    streams, names, transport = (statistics.median(column) for column in zip(*spent, strict=True))
    print(
        f"decoding {CONNECTIONS * EACH:,} web exchanges and {LOOKUPS:,} look-ups: {statistics.median(ratios):.1f} times"
        " the transport analysis"
    )
    print(f"    exchanges {streams:.2f} s, look-ups {names:.2f} s, transport {transport:.2f} s")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
