"""What lies behind servers: a million exchanges in three tiers, four requests at once, `python -m benchmarks.tiers
[FOLDER]`.

A page asks the application once, and that one the database twice, all over pooled connections; nothing on the wire
tells what belongs together but a number in the address of the page and of the application's request. Prints the time of
linking and splitting as a ratio to the time of decoding the same exchanges.
"""

import random
import statistics
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from struct import Struct
from typing import NamedTuple

from benchmarks.services import _ip, _tcp

FRONTS, AT_ONCE = 250_000, 4
_RECORD = Struct("<IIII")
_POOL = 24
_MS = 1_000_000
ROUNDS = 3


class _Lane(NamedTuple):
    """A connection: its ends, and how many bytes each has sent."""

    client: bytes
    server: bytes
    ports: tuple[int, int]
    sent: list[int]

    def packet(self, side: int, flags: int, payload: bytes) -> bytes:
        """A packet of one of its sides."""
        pair = (self.client, self.server) if side == 0 else (self.server, self.client)
        ports = self.ports if side == 0 else (self.ports[1], self.ports[0])
        seq, ack = self.sent[side], self.sent[1 - side]
        self.sent[side] += len(payload)
        return _ip(6, *pair, _tcp(ports, seq & 0xFFFFFFFF, ack & 0xFFFFFFFF, flags, payload), seq)


class _Tier(NamedTuple):
    lanes: list[_Lane]
    free_at: list[int]

    def lane(self, now: int) -> int:
        """The connection that was free first."""
        return min(range(len(self.lanes)), key=self.free_at.__getitem__)


def _tier(client: bytes, server: bytes, port: int, size: int) -> _Tier:
    return _Tier([_Lane(client, server, (30_000 + k, port), [1, 1]) for k in range(size)], [0] * size)


_HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 40\r\n\r\n" + bytes(40)


def _statement(text: bytes) -> bytes:
    return b"Q" + Struct("!I").pack(5 + len(text)) + text + b"\0"


_ROWS = (
    b"T" + Struct("!IH").pack(4 + 2 + 7 + 18, 1) + b"result\0" + bytes(18)
    + b"C\0\0\0\x0dSELECT 1\0" + b"Z\0\0\0\5I"
)  # fmt: skip


def _events(fronts: int) -> Iterator[tuple[int, bytes]]:
    """(time, packet) of each packet, in no order."""
    rnd = random.Random(5)
    user, web, app, base = (bytes([203, 0, 113, k]) for k in (9, 1, 2, 3))
    tiers = [_tier(user, web, 80, 400), _tier(web, app, 8080, _POOL), _tier(app, base, 5432, _POOL)]
    for tier in tiers:
        for lane in tier.lanes:
            for number, (side, flags) in enumerate(((0, 2), (1, 18), (0, 16))):
                seq = lane.sent[side] - (1 if flags & 2 else 0)
                pair = (lane.client, lane.server) if side == 0 else (lane.server, lane.client)
                ports = lane.ports if side == 0 else lane.ports[::-1]
                yield number * 50_000, _ip(6, *pair, _tcp(ports, seq, 1 if number else 0, flags, b""), number)

    def exchange(
        tier: _Tier, begin: int, asks: bytes, tells: bytes, inside: int
    ) -> tuple[list[tuple[int, bytes]], int]:
        """The packets of an exchange that takes so long, and when its answer is there."""
        k = tier.lane(begin)
        lane, end = tier.lanes[k], begin + inside
        tier.free_at[k] = end + 100_000
        return [
            (begin, lane.packet(0, 24, asks)), (end, lane.packet(1, 24, tells)),
            (end + 40_000, lane.packet(0, 16, b"")),
        ], end  # fmt: skip

    now = 10 * _MS
    for n in range(fronts):
        now += int(rnd.expovariate(1.0) * 30 * _MS / AT_ONCE)
        first = now + int(rnd.lognormvariate(0, 0.4) * 400_000)
        packets, at = [], first + int(rnd.lognormvariate(0, 0.4) * 2 * _MS)
        for text in (
            b"select * from item where kind = %d" % (n % 40),
            b"select * from stock where shop = %d" % (n % 7),
        ):
            took = int(rnd.lognormvariate(0, 0.5) * 8 * _MS)
            more, end = exchange(tiers[2], at, _statement(text), _ROWS, took)
            packets += more
            at = end + int(rnd.lognormvariate(0, 0.4) * 1 * _MS)
        asks = b"GET /item/%d/data HTTP/1.1\r\nHost: app.example\r\n\r\n" % n
        more, end = exchange(tiers[1], first, asks, _HEAD, at - first)
        packets += more
        asks = b"GET /page/%d?k=1 HTTP/1.1\r\nHost: shop.example\r\nAccept: text/html\r\n\r\n" % n
        more, _ = exchange(tiers[0], now, asks, _HEAD, end - now + int(rnd.lognormvariate(0, 0.4) * 300_000))
        yield from packets
        yield from more


def write_tiers(path: Path, fronts: int = FRONTS) -> Path:
    """Writes the capture; found again if it is there already."""
    if path.exists():
        return path
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_suffix(".part")
    begin = 1_790_000_000 * 10**9
    with part.open("wb") as file:
        file.write(Struct("<IHHiIII").pack(0xA1B23C4D, 2, 4, 0, 0, 65_535, 1))
        for now, packet in sorted(_events(fronts), key=lambda event: event[0]):
            at = begin + now
            file.write(_RECORD.pack(at // 10**9, at % 10**9, len(packet), len(packet)) + packet)
    part.replace(path)
    return path


def main(folder: Path, fronts: int = FRONTS) -> None:
    """Three rounds; the median counts."""
    from yaffle.capture.payload import Payload
    from yaffle.capture.reader import read_captures
    from yaffle.exchanges.decoding import decode_messages
    from yaffle.kernel_cache import compiled
    from yaffle.ledger.arrangement import arrange
    from yaffle.ledger.finished import account_all
    from yaffle.tiers.behind import find_behind
    from yaffle.warm_up import warm_up

    path = write_tiers(folder / f"tiers-{4 * fronts // 1000}k.pcap", fronts)
    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    import numpy as np

    ratios, spent = [], []
    for _ in range(ROUNDS):
        capture, arranged = arrange(read_captures([path]))
        payload = Payload(capture)
        began = time.perf_counter()
        port = capture.conversations.b_port[arranged.flow]
        messages = decode_messages(arranged.starts, arranged.order, port, payload)
        decoding = time.perf_counter() - began
        account = account_all(capture, arranged, messages)
        began = time.perf_counter()
        behind = find_behind(account, capture.conversations, np.arange(account.flow.size), messages, payload)
        linking = time.perf_counter() - began
        assert abs(int(behind.named.sum()) - 3 * fronts) < 0.1 * fronts
        ratios.append(linking / decoding)
        spent.append((decoding, linking))
    decoding, linking = (statistics.median(column) for column in zip(*spent, strict=True))
    print(f"linking {4 * fronts:,} exchanges in three tiers: {statistics.median(ratios):.2f} times their decoding")
    print(f"    decoding {decoding:.2f} s, links and splits {linking:.2f} s")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
