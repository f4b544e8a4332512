"""What several points cost: a million packets seen at two of them, matched, `python -m benchmarks.path [FOLDER]`.

Prints the time of matching (identities, clocks, segments) as a ratio to the time of reading and accounting for both files.
"""

import statistics
import sys
import time
from pathlib import Path

from benchmarks.services import write_services


def main(folder: Path) -> None:
    """Three rounds; the median counts."""
    from yaffle.capture.reader import read_captures
    from yaffle.exchanges.messages import no_messages
    from yaffle.exchanges.payload import Payload
    from yaffle.ledger.engine import account_all, arrange
    from yaffle.path.whole import find_path
    from yaffle.warm_up import compiled, warm_up

    paths = [write_services(folder / "services-1m.pcap"), write_services(folder / "services-1m-later.pcap", 5_000_000)]
    if not compiled():
        print("compiling the engine", flush=True)
        warm_up()
    ratios = []
    for _ in range(3):
        began = time.perf_counter()
        capture = read_captures(paths)
        arranged = arrange(capture)
        account_all(capture, arranged, no_messages(arranged.flow.size))
        whole = time.perf_counter() - began
        payload = Payload(capture)
        began = time.perf_counter()
        path = find_path(capture, payload)
        spent = time.perf_counter() - began
        assert len(path.segments) == 1
        assert not path.segments[0].up.lost.size
        ratios.append(spent / whole)
    print(f"the same packets at two points, {capture.packets.time_ns.size:,} in all: matched in {statistics.median(ratios):.2f} times their analysis")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("bench-data"))
