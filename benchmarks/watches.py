"""Watches over 10,000 series, minute after minute: `python -m benchmarks.watches [MINUTES]`.

Two hundred devices tell of fifty things a minute each; one watch has a limit for each of them, one asks whether they
are silent. Prints how much of one processor the looks of a minute took, and that each trouble was told once.
"""

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa

from yaffle.history.layout import READINGS
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter
from yaffle.watching.book import Book
from yaffle.watching.engine import Engine
from yaffle.watching.event_rows import CLEARED
from yaffle.watching.states import RAISED
from yaffle.watching.watch import ABOVE, ABSENT, Watch

DEVICES, THINGS, TROUBLED = 200, 50, 25
_S = 10**9
_MINUTE_NS = 60 * _S
START_NS = 1_795_860_000 * _S
_MEASURE = "storage used"


def _minute(at_ns: int, high: bool) -> pa.Table:
    count = DEVICES * THINGS
    values = np.full(count, 1e9)
    if high:
        values[:TROUBLED] = 9e9
    return pa.table(
        {
            "time_ns": pa.array(np.full(count, at_ns)),
            "device": [f"device {k // THINGS}" for k in range(count)],
            "object": [f"volume {k % THINGS}" for k in range(count)],
            "measure": [_MEASURE] * count,
            "value": pa.array(values),
            "unit": ["B"] * count,
        }
    )


def main(minutes: int) -> None:
    """Prints the figures."""
    with tempfile.TemporaryDirectory() as folder:
        HistoryWriter(Path(folder) / "history").close()
        book = Book(Path(folder))
        watches = [
            Watch("storage", _MEASURE, "object", rule=ABOVE, limit=5e9),
            Watch("silence", _MEASURE, "object", rule=ABSENT),
        ]
        engine = Engine(History(Path(folder) / "history"), book, watches, START_NS, lambda _watch, _event: ())
        took, told = [], []
        for minute in range(minutes):
            at = START_NS + minute * _MINUTE_NS
            high = minutes // 3 <= minute < 2 * minutes // 3
            writer = HistoryWriter(Path(folder) / "history")
            writer.append_rows(READINGS, _minute(at + _S, high))
            writer.close()
            began = time.process_time()
            for second in range(0, 60, 5):
                told += engine.look(at + second * _S + 2 * _S)
            took.append(time.process_time() - began)
        raised, cleared = (sum(one.state == state for one in told) for state in (RAISED, CLEARED))
        share = 100 * float(np.median(took[3:])) / 60
        print(f"{len(watches) * DEVICES * THINGS:,} watched series: {share:.1f} % of one processor")
        print(f"{TROUBLED} in trouble: {raised} raised, {cleared} cleared")
        book.close()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 12)
