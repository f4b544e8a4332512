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
        for start_ns, packets, missed, doubled, jitter_ns, gap_ns in one.minutes.tolist():
            if start_ns + MINUTE_NS > from_ns:
                yield {
                    "time_ns": start_ns, "to_ns": start_ns + MINUTE_NS, "source": one.source,
                    "destination": one.destination, "kind": one.kind, "period_us": one.period_ns / _US,
                    "packets": packets, "missed": missed, "doubled": doubled, "jitter_us": jitter_ns / _US,
                    "longest_gap_ms": gap_ns / _MS,
                }  # fmt: skip
