"""What several points cost: a million packets seen at two of them, matched, `python -m benchmarks.path [FOLDER]
[MILLIONS]`.

Prints the time of matching (identities, clocks, segments) as a ratio to the time of reading and accounting for both
files. With a number: so many million packets of interleaved connections in each of two files.
"""

import statistics
import sys
import time
from pathlib import Path

from benchmarks.captures import write_interleaved
from benchmarks.services import write_services


def _files(folder: Path, millions: int) -> list[Path]:
    if millions:
        shape = millions * 1_000_000, 2_000 * millions, 130
        return [
            write_interleaved(folder / f"chatty-{millions}m-{name}.pcap", *shape, later_ns=later)
            for name, later in (("near", 0), ("far", 5_000_000))
        ]
    return [write_services(folder / "services-1m.pcap"), write_services(folder / "services-1m-later.pcap", 5_000_000)]


def main(folder: Path, millions: int) -> None:
    """Three rounds; the median counts."""
    from yaffle.capture.payload import Payload
    from yaffle.capture.reader import read_captures
    from yaffle.exchanges.messages import no_messages
    from yaffle.kernel_cache import compiled
    from yaffle.ledger.arrangement import arrange
    from yaffle.ledger.finished import account_all
    from yaffle.path.points_path import find_path
    from yaffle.warm_up import warm_up

    paths = _files(folder, millions)
    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    ratios = []
    for _ in range(3):
        began = time.perf_counter()
        capture = read_captures(paths)
        capture, arranged = arrange(capture)
        account_all(capture, arranged, no_messages(arranged.flow.size))
        whole = time.perf_counter() - began
        payload = Payload(capture)
        began = time.perf_counter()
        path = find_path(capture, payload)
        spent = time.perf_counter() - began
        assert len(path.segments) == 1
        assert not path.segments[0].up.lost.size
        ratios.append(spent / whole)
    print(
        f"the same packets at two points, {capture.packets.time_ns.size:,} in all: matched in"
        f" {statistics.median(ratios):.2f} times their analysis"
    )


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"), int(sys.argv[2]) if len(sys.argv) > 2 else 0)
