"""Rows of the table `waits`: how long users of an application waited in a minute, and on whom.

A row is a minute of one client at one server: exchanges that ended in it, failed ones, the sums of the ledger by party
and cause, retransmissions and timeouts sent in it, and a histogram of the waits. Rows are sums: several of one minute
and client add up, and what was told wrong is set right by a row that takes away.

The histogram is logarithmic (Masson, Rim, Lee 2019, "DDSketch"): bin k counts the waits in (g^(k-1), g^k] ns, with
g = (1 + a) / (1 - a). A quantile is told as 2 g^k / (1 + g), which is within a of the wait that has that rank.
"""

import numpy as np
import pyarrow as pa

from yaffle.arrays import Int64s
from yaffle.ledger import causes
from yaffle.ledger.bounds import FIELDS

ACCURACY = 0.019  # relative error of any quantile, at most
_RATIO = (1 + ACCURACY) / (1 - ACCURACY)
LOG_RATIO = float(np.log(_RATIO))
MINUTE_NS = 60 * 10**9

CHARGES = tuple(f"{party}_{cause.replace('-', '_')}_ns" for party, cause in causes.CHARGES)
BOUNDS = FIELDS
COUNTS = ("exchanges", "failures", "connections", "retransmissions", "timeouts")
OF_CAPTURE = ("captured_packets", "dropped_packets", "covered_ns")  # in rows of the minute itself, without a server
SUMS = (*COUNTS, *CHARGES, *BOUNDS, *OF_CAPTURE)
KEYS = ("capture", "application", "server", "port", "site", "client")
BINS, BIN_COUNTS = "wait_bins", "wait_counts"
SCHEMA = pa.schema(
    [
        ("time_ns", pa.int64()),
        *((name, pa.int32() if name == "port" else pa.string()) for name in KEYS),
        ("clients", pa.int64()),
        *((name, pa.int64()) for name in SUMS),
        (BINS, pa.list_(pa.int16())),
        (BIN_COUNTS, pa.list_(pa.int32())),
        ("run", pa.int64()),
    ]
)


def bins_of(wait_ns: Int64s) -> Int64s:
    """The bin of each wait; waits of 1 ns and less are in bin 0."""
    return np.ceil(np.log(np.maximum(1, wait_ns)) / LOG_RATIO - 1e-9).astype(np.int64)


def values_of(bins: Int64s) -> Int64s:
    """What stands for the waits of each bin, ns."""
    return np.rint(2 * _RATIO ** bins.astype(np.float64) / (1 + _RATIO)).astype(np.int64)


def quantile(bins: Int64s, counts: Int64s, share: float) -> int:
    """The wait of a share by nearest rank, ns, from a histogram in order of its bins; -1 of an empty one."""
    total = int(counts.sum())
    if total <= 0:
        return -1
    rank = max(1, int(np.ceil(share * total - 1e-9)))
    return int(values_of(bins[np.searchsorted(np.cumsum(counts), rank)]))


def rows_of(columns: dict[str, object]) -> pa.Table:
    """A table of such rows; columns that are not given are zero or empty. Columns are of one length."""
    rows = len(columns["time_ns"])  # type: ignore[arg-type]
    found = []
    for field in SCHEMA:
        if field.name in columns:
            found.append(pa.array(columns[field.name], field.type))
        elif pa.types.is_list(field.type):
            found.append(pa.array([[]] * rows, field.type))
        else:
            found.append(pa.array(["" if pa.types.is_string(field.type) else 0] * rows, field.type))
    return pa.table(found, schema=SCHEMA)
