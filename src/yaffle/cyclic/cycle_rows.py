"""Rows of the table `cyclic`: how steady each cyclic stream was, minute by minute."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import pyarrow as pa

if TYPE_CHECKING:
    from yaffle.cyclic.streams import Cyclic

MINUTE_NS = 60 * 10**9
SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        ("to_ns", pa.int64()),
        ("run", pa.int64()),
        *((name, pa.string()) for name in ("capture", "source", "destination", "kind")),
        ("period_us", pa.float64()),
        *((name, pa.int64()) for name in ("packets", "missed", "doubled")),
        ("jitter_us", pa.float64()),
        ("longest_gap_ms", pa.float64()),
    ]
)
_US, _MS = 1e3, 1e6


def minutes_of(streams: "list[Cyclic]", from_ns: int) -> Iterator[dict[str, Any]]:
    """A row for each stream in each minute that ends after a moment; of a minute that is cut what there is."""
    for one in streams:
        for part in one.minutes:
            if part.start_ns + MINUTE_NS > from_ns and (part.packets or part.missed):
                yield {
                    "time_ns": part.start_ns, "to_ns": part.start_ns + MINUTE_NS, "source": one.source,
                    "destination": one.destination, "kind": one.kind, "period_us": one.period_ns / _US,
                    "packets": part.packets, "missed": part.missed, "doubled": part.doubled,
                    "jitter_us": part.jitter_ns / _US if part.packets else None,
                    "longest_gap_ms": part.longest_gap_ns / _MS,
                }  # fmt: skip
