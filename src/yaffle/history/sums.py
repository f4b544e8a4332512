"""Sums of flow records over equal intervals: the same table, coarser.

A record's bytes and packets are taken to be spread evenly over its span, to the byte: what an interval gets is the
difference of two roundings, so that nothing is lost or made. Of each exporter and interval the largest sums keep their
addresses; the rest is put together by interface, protocol, marking and application, with addresses of zero.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Bools, Float64s, Int64s, Structs
from yaffle.history.layout import Level
from yaffle.records.flow_table import ADDITIVE, FLOOR, FLOW, ROUND_TRIP, Columns, empty_flows

_KEY = ("exporter", "protocol", "transport", "ipv6", "dscp", "direction", "ingress", "egress", "application")
_MIX = np.uint64(0x9E3779B97F4A7C15)
_CARRIED = ("octets", "packets")
_OTHERS = ("first_ns", "last_ns", "octets", "packets", "records", "sampling", "sampled", "arrived_ns")
_MEASURED = (*ADDITIVE, ROUND_TRIP, FLOOR)
_ENDS = ("src_hi", "src_lo", "dst_hi", "dst_lo", "src_port", "dst_port")

SUMMED = (*_KEY, *_ENDS, *_OTHERS, *_MEASURED)  # what sums are made of


def service_ends(rows: Array | Columns) -> tuple[Int64s, Int64s]:
    """Both ports with the client's left out: of TCP and UDP the lower one is the server's, mostly."""
    one, two = rows["src_port"].astype(np.int64), rows["dst_port"].astype(np.int64)
    ported = (rows["transport"] != 1) & (rows["transport"] != 58)
    both = ported & (one > 0) & (two > 0)
    return np.where(both & (one > two), 0, one), np.where(both & (one <= two), 0, two)


@dataclass(frozen=True)
class Pieces:
    """Rows cut at the borders of intervals, a value a piece."""

    owner: Int64s  # the row it is of
    begin_ns: Int64s  # where its interval begins
    octets: Int64s
    packets: Int64s
    records: Int64s  # those of the row, with its first piece
    low: Float64s  # the share of its row that lies before the piece, and before its end
    high: Float64s


def spread(rows: Array | Columns, width_ns: int) -> Pieces:
    """The pieces of rows, each row's in order of time."""
    first = rows["first_ns"] // width_ns
    last = np.maximum(first, (np.maximum(rows["last_ns"], rows["first_ns"] + 1) - 1) // width_ns)
    count = last - first + 1
    owner = np.repeat(np.arange(count.size), count)
    number = np.arange(owner.size) - np.repeat(np.cumsum(count) - count, count)
    begin = (first[owner] + number) * width_ns
    since = begin - rows["first_ns"][owner]
    span = np.maximum(1, rows["last_ns"] - rows["first_ns"])[owner].astype(np.float64)
    low = np.where(number == 0, 0.0, np.clip(since / span, 0.0, 1.0))
    high = np.where(number == count[owner] - 1, 1.0, np.clip((since + width_ns) / span, 0.0, 1.0))
    octets, packets = (_part(whole, high) - _part(whole, low) for whole in (rows[n][owner] for n in _CARRIED))
    return Pieces(owner, begin, octets, packets, np.where(number == 0, rows["records"][owner], 0), low, high)


def _part(whole: Int64s, share: Float64s) -> Int64s:
    return np.where(share >= 1.0, whole, np.floor(whole * share).astype(np.int64))


def summed(rows: Structs, level: Level) -> Structs:
    """Rows of FLOW at a coarser level, by time, the largest of an interval first."""
    found = summed_columns({name: np.ascontiguousarray(rows[name]) for name in SUMMED}, level)
    given = empty_flows(found["octets"].size)
    for name, values in found.items():
        given[name] = values
    return given


def summed_columns(rows: Columns, level: Level) -> Columns:
    """The same of columns that hold all of SUMMED."""
    if not rows["octets"].size:
        return rows
    served = dict(rows)
    served["src_port"], served["dst_port"] = service_ends(served)
    found = _grouped(served, spread(served, level.width_ns), level.width_ns)
    order = np.lexsort((-found["octets"], found["exporter"], found["first_ns"]))
    beyond = np.zeros(order.size, bool)
    beyond[order] = _places(found["first_ns"][order], found["exporter"][order]) >= level.most
    if beyond.any():
        for name in _ENDS:
            found[name][beyond] = 0
        counts = found["octets"], found["packets"], found["records"]
        uncut = Pieces(np.arange(order.size), found["first_ns"], *counts, np.zeros(order.size), np.ones(order.size))
        found = _grouped(found, uncut, level.width_ns)
    order = np.lexsort((-found["octets"], found["first_ns"]))
    return {name: values[order].astype(FLOW[name], copy=False) for name, values in found.items()}


def joined(parts: Sequence[Columns]) -> Columns:
    """Rows one after the other."""
    return parts[0] if len(parts) == 1 else {name: np.concatenate([part[name] for part in parts]) for name in SUMMED}


def _places(*keys: Array) -> Int64s:
    """How many rows of the same keys stand before each, of rows in order of the keys."""
    new = np.ones(keys[0].size, bool)
    new[1:] = np.any([key[1:] != key[:-1] for key in keys], axis=0)
    starts = np.flatnonzero(new)
    return np.arange(new.size) - np.repeat(starts, np.diff(np.append(starts, new.size)))


def _grouped(rows: Columns, cut: Pieces, width_ns: int) -> Columns:
    """One row for all pieces that agree in interval, ends and keys: sums, and of some figures the greatest."""
    group, kept = _groups(rows, (*_KEY, *_ENDS))
    interval = (cut.begin_ns - cut.begin_ns.min()) // width_ns
    slot = interval * kept.size + group[cut.owner]
    order = np.argsort(slot, kind="stable")
    starts = np.flatnonzero(np.diff(slot[order], prepend=-1))
    first, owner = order[starts], cut.owner[order]
    found = {name: rows[name][cut.owner[first]] for name in (*_KEY, *_ENDS)}
    found["first_ns"], found["last_ns"] = cut.begin_ns[first], cut.begin_ns[first] + width_ns
    for name, values in (("octets", cut.octets), ("packets", cut.packets), ("records", cut.records)):
        found[name] = np.add.reduceat(values[order], starts)
    for name in ("sampling", "sampled", "arrived_ns"):
        found[name] = np.maximum.reduceat(rows[name][owner], starts)
    return found | _measured(rows, cut, order, starts)


def _measured(rows: Columns, cut: Pieces, order: Int64s, starts: Int64s) -> Columns:
    """What kernels measured, put together: sums, the mean round trip by packets, the least floor; -1 where nobody
    measured.
    """
    found = {name: np.full(starts.size, -1, np.int64) for name in _MEASURED}
    if not any((rows[name] >= 0).any() for name in _MEASURED):
        return found
    owner, low, high = cut.owner[order], cut.low[order], cut.high[order]
    for name in ADDITIVE:
        told = rows[name][owner] >= 0
        whole = np.maximum(0, rows[name][owner])
        sums = np.add.reduceat(_part(whole, high) - _part(whole, low), starts)
        found[name] = np.where(np.logical_or.reduceat(told, starts), sums, -1)
    trip, floor = rows[ROUND_TRIP][owner], rows[FLOOR][owner]
    weight = np.where(trip >= 0, np.maximum(1, cut.packets[order]), 0).astype(np.float64)
    total = np.add.reduceat(weight, starts)
    mean = np.add.reduceat(weight * np.maximum(0, trip), starts) / np.maximum(1.0, total)
    found[ROUND_TRIP] = np.where(total > 0, np.rint(mean), -1).astype(np.int64)
    least = np.minimum.reduceat(np.where(floor >= 0, floor, np.iinfo(np.int64).max), starts)
    found[FLOOR] = np.where(least < np.iinfo(np.int64).max, least, -1)
    return found


def _groups(rows: Columns, names: tuple[str, ...]) -> tuple[Int64s, Int64s]:
    """(the group of each row, a row of each group): rows that agree in all keys are one.

    Sorted by one number made of all keys; where that number is the same for other keys, by the keys themselves.
    """
    mixed = np.zeros(rows[names[0]].size, np.uint64)
    for name in names:
        mixed = (mixed ^ rows[name].astype(np.uint64)) * _MIX
        mixed ^= mixed >> np.uint64(29)
    order = np.argsort(mixed, kind="stable")
    new = _changes(rows, names, order)
    if new[1:].sum() != (np.diff(mixed[order]) != 0).sum():
        order = np.lexsort([rows[name] for name in names])
        new = _changes(rows, names, order)
    group = np.empty(order.size, np.int64)
    group[order] = np.cumsum(new) - 1
    return group, order[new]


def _changes(rows: Columns, names: tuple[str, ...], order: Int64s) -> Bools:
    """Whether each row, in an order, differs from the one before it."""
    new = np.ones(order.size, bool)
    columns = [rows[name][order] for name in names]
    new[1:] = np.any([column[1:] != column[:-1] for column in columns], axis=0)
    return new
