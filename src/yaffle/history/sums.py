"""Sums of flow records over equal intervals: the same table, coarser.

A record's bytes and packets are taken to be spread evenly over its span, to the byte: what an interval gets is the
difference of two roundings, so that nothing is lost or made. Of each exporter and interval the largest sums keep their
addresses; the rest is put together by interface, protocol, marking and application, with addresses of zero.
"""

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array
from yaffle.history.database import cursor
from yaffle.history.layout import Level
from yaffle.history.parts import rows_of, table_of
from yaffle.records.flow_table import FLOW, empty_flows

_KEY = ("exporter", "protocol", "transport", "ipv6", "dscp", "direction", "ingress", "egress", "application")
_ENDS = ("src_hi", "src_lo", "dst_hi", "dst_lo", "src_port", "dst_port")


def service_ends(rows: Array) -> tuple[Array, Array]:
    """Both ports with the client's left out: of TCP and UDP the lower one is the server's, mostly."""
    one, two = rows["src_port"].astype(np.int64), rows["dst_port"].astype(np.int64)
    ported = (rows["transport"] != 1) & (rows["transport"] != 58)
    both = ported & (one > 0) & (two > 0)
    return np.where(both & (one > two), 0, one), np.where(both & (one <= two), 0, two)


def spread(rows: Array, width_ns: int) -> Array:
    """Rows cut at the borders of intervals: first_ns is the interval's start, last_ns its end."""
    first = rows["first_ns"] // width_ns
    last = np.maximum(first, (np.maximum(rows["last_ns"], rows["first_ns"] + 1) - 1) // width_ns)
    pieces = last - first + 1
    owner = np.repeat(np.arange(rows.size), pieces)
    number = np.arange(owner.size) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    found = rows[owner]
    begin = (first[owner] + number) * width_ns
    span = np.maximum(1, rows["last_ns"] - rows["first_ns"])[owner].astype(np.float64)
    low = np.clip((begin - rows["first_ns"][owner]) / span, 0.0, 1.0)
    high = np.where(
        number == pieces[owner] - 1, 1.0, np.clip((begin + width_ns - rows["first_ns"][owner]) / span, 0.0, 1.0)
    )
    low[number == 0] = 0.0
    for name in ("octets", "packets"):
        whole = rows[name][owner]
        found[name] = _part(whole, high) - _part(whole, low)
    found["records"] = np.where(number == 0, rows["records"][owner], 0)
    found["first_ns"], found["last_ns"] = begin, begin + width_ns
    return found


def _part(whole: Array, share: Array) -> Array:
    return np.where(share >= 1.0, whole, np.floor(whole * share).astype(np.int64))


def summed(rows: Array, level: Level) -> Array:
    """Rows of FLOW at a coarser level, by time."""
    if not rows.size:
        return empty_flows(0)
    cut = spread(rows, level.width_ns)
    cut["src_port"], cut["dst_port"] = service_ends(cut)
    table = table_of(cut)
    keys = ", ".join(_KEY)
    ends = ", ".join(_ENDS)
    sums = ", ".join(
        [f"sum({name})::BIGINT AS {name}" for name in ("octets", "packets", "records")]
        + [f"max({name}) AS {name}" for name in ("sampling", "sampled", "arrived_ns", "last_ns")]
    )
    kept = ", ".join(f"CASE WHEN place <= {level.most} THEN {name} ELSE 0 END AS {name}" for name in _ENDS)
    with cursor() as db:
        db.register("cut", table)
        found: pa.Table = db.sql(
            f"WITH grouped AS (SELECT first_ns, {keys}, {ends}, {sums} FROM cut GROUP BY first_ns, {keys}, {ends}),"
            " ranked AS (SELECT *, row_number() OVER (PARTITION BY first_ns, exporter ORDER BY octets DESC) AS place"
            f" FROM grouped), named AS (SELECT * EXCLUDE ({ends}, place), {kept} FROM ranked) SELECT first_ns, {keys},"
            f" {ends}, {sums} FROM named GROUP BY first_ns, {keys}, {ends} ORDER BY first_ns, octets DESC"
        ).to_arrow_table()
    made, _ = rows_of(found, FLOW, tuple(found.column_names))
    for name in ("post_dscp", "next_hop", "highest_ttl"):
        made[name] = -1
    return made
