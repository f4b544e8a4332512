"""A pool of database connections in a capture that grows: `python -m benchmarks.read_on [FOLDER] [STATEMENTS]`.

Prints what a look costs when a fortieth of the capture came since the last one, against decoding all that is there.
"""

import random
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from statistics import median
from struct import Struct

POOL, STATEMENTS, LOOKS = 8, 200_000, 12
_CLIENT, _SERVER, _PORT = bytes([192, 0, 2, 10]), bytes([192, 0, 2, 20]), 5432
_FILE_HEAD = Struct("<IHHIIII").pack(0xA1B23C4D, 2, 4, 0, 0, 65535, 101)
_ASK = b"P%sB%sD\0\0\0\6P\0E\0\0\0\x09\0\0\0\0\0S\0\0\0\4"


def _sized(body: bytes) -> bytes:
    return (4 + len(body)).to_bytes(4, "big") + body


def _statement(number: int) -> bytes:
    day = b"\0\0\0\0\0\2\0\0\0\4%04d\0\0\0\5today\0\0" % (number % 9999)
    return _ASK % (_sized(b"\0select name, berth from boats where id = $1 and day = $2\0\0\0"), _sized(day))


_ROWS = (
    b"1\0\0\0\4" b"2\0\0\0\4" b"T" + _sized(bytes(60)) + (b"D" + _sized(bytes(80))) * 5
    + b"C" + _sized(b"SELECT 5\0") + b"Z\0\0\0\5I"
)  # fmt: skip
_READY = b"R\0\0\0\x08\0\0\0\0Z\0\0\0\5I"
_START = b"\0\0\0\x12\0\3\0\0user\0me\0\0\0"


def _steps(statements: int) -> Iterator[tuple[int, int, int, bytes]]:
    """(connection, side, flags, payload) of each packet."""
    for c in range(POOL):
        for side, flags, data in ((0, 2, b""), (1, 18, b""), (0, 16, b""), (0, 24, _START), (1, 24, _READY)):
            yield c, side, flags, data
    for number in range(statements):
        c = number % POOL
        yield c, 0, 24, _statement(number)
        yield c, 1, 24, _ROWS
        yield c, 0, 16, b""


def write_pool(path: Path, statements: int) -> None:
    """Writes such a capture."""
    rnd, now_ns = random.Random(1), 1_700_000_000 * 10**9
    next_seq = [[1000, 2000] for _ in range(POOL)]
    with path.open("wb") as file:
        file.write(_FILE_HEAD)
        for number, (c, side, flags, data) in enumerate(_steps(statements)):
            now_ns += rnd.randrange(2_000, 60_000)
            ports, hosts = ((40_000 + c, _PORT), (_CLIENT, _SERVER)) if side == 0 else (
                (_PORT, 40_000 + c), (_SERVER, _CLIENT)
            )  # fmt: skip
            own, other = next_seq[c][side], next_seq[c][1 - side]
            segment = Struct("!HHIIBBHHH").pack(*ports, own & 0xFFFFFFFF, other & 0xFFFFFFFF, 0x50, flags, 65000, 0, 0)
            next_seq[c][side] += len(data) + (flags >> 1 & 1)
            size = 40 + len(data)
            packet = Struct("!BBHHHBBH").pack(0x45, 0, size, number & 0xFFFF, 0x4000, 64, 6, 0) + b"".join(hosts)
            file.write(Struct("<IIII").pack(now_ns // 10**9, now_ns % 10**9, size, size) + packet + segment + data)


def main(folder: Path, statements: int = STATEMENTS) -> None:
    """Follows one such capture."""
    import yaffle.workforce as workforce
    from yaffle.exchanges import decoding
    from yaffle.following import Followed

    source, target = folder / f"pool-{statements}.pcap", folder / "pool-growing.pcap"
    if not source.exists():
        write_pool(source, statements)
    octets = source.read_bytes()
    spent: list[float] = []

    def timed(*arguments: object, **more: object) -> object:
        began = time.perf_counter()
        found = decoding.decode_messages(*arguments, **more)  # type: ignore[arg-type]
        spent.append(time.perf_counter() - began)
        return found

    workforce.decode_messages = timed  # type: ignore[assignment]
    followed = Followed([target])
    looks = []
    shares = [0.5, *(1 - (LOOKS - k) / 40 for k in range(LOOKS + 1))]
    for share in shares:
        target.write_bytes(octets[: int(len(octets) * share)])
        began = time.perf_counter()
        followed.look(provisional=True)
        looks.append(time.perf_counter() - began)
    followed.close()
    read_on = spent[2:]
    Followed([target]).look(provisional=True)
    whole = spent[-1]
    target.unlink()
    print(f"{statements:,} statements over {POOL} connections, a fortieth of them since the last look")
    print(f"    decoding what came: {median(read_on) / whole:.2f} of decoding all; a look {median(looks[2:]):.2f} s")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"), *map(int, sys.argv[2:3]))
