"""Sums of flow records over equal intervals: the same table, coarser.

A record's bytes and packets are taken to be spread evenly over its span, to the byte: what an interval gets is the
difference of two roundings, so that nothing is lost or made. Of each exporter and interval the largest sums keep their
addresses; the rest is put together by interface, protocol, marking and application, with addresses of zero.
"""

import numpy as np

from yaffle.arrays import Array
from yaffle.history.layout import Level
from yaffle.records.flow_table import empty_flows

_KEY = ("exporter", "protocol", "transport", "ipv6", "dscp", "direction", "ingress", "egress", "application")
_MIX = np.uint64(0x9E3779B97F4A7C15)
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
    """Rows of FLOW at a coarser level, by time, the largest of an interval first."""
    if not rows.size:
        return empty_flows(0)
    cut = spread(rows, level.width_ns)
    cut["src_port"], cut["dst_port"] = service_ends(cut)
    found = _grouped(cut)
    order = np.lexsort((-found["octets"], found["exporter"], found["first_ns"]))
    beyond = np.zeros(found.size, bool)
    beyond[order] = _places(found["first_ns"][order], found["exporter"][order]) >= level.most
    if beyond.any():
        for name in _ENDS:
            found[name][beyond] = 0
        found = _grouped(found)
    return found[np.lexsort((-found["octets"], found["first_ns"]))]


def _places(*keys: Array) -> Array:
    """How many rows of the same keys stand before each, of rows in order of the keys."""
    new = np.ones(keys[0].size, bool)
    new[1:] = np.any([key[1:] != key[:-1] for key in keys], axis=0)
    starts = np.flatnonzero(new)
    return np.arange(new.size) - np.repeat(starts, np.diff(np.append(starts, new.size)))


def _grouped(rows: Array) -> Array:
    """One row for all that agree in interval, ends and keys: sums, and of some figures the greatest."""
    names = ("first_ns", *_KEY, *_ENDS)
    order, starts = _groups(rows, names)
    found = empty_flows(starts.size)
    for name in names:
        found[name] = rows[name][order[starts]]
    for name in ("octets", "packets", "records"):
        found[name] = np.add.reduceat(rows[name][order], starts)
    for name in ("sampling", "sampled", "arrived_ns", "last_ns"):
        found[name] = np.maximum.reduceat(rows[name][order], starts)
    for name in ("post_dscp", "next_hop", "highest_ttl"):
        found[name] = -1
    return found


def _groups(rows: Array, names: tuple[str, ...]) -> tuple[Array, Array]:
    """(an order in which equal keys stand together, where each group begins in it).

    Sorted by one number made of all keys; where that number is the same for other keys, by the keys themselves.
    """
    mixed = np.zeros(rows.size, np.uint64)
    for name in names:
        mixed = (mixed ^ rows[name].astype(np.uint64)) * _MIX
        mixed ^= mixed >> np.uint64(29)
    order = np.argsort(mixed, kind="stable")
    new = _changes(rows, names, order)
    if new[1:].sum() != (np.diff(mixed[order]) != 0).sum():
        order = np.lexsort([rows[name] for name in names])
        new = _changes(rows, names, order)
    return order, np.flatnonzero(new)


def _changes(rows: Array, names: tuple[str, ...], order: Array) -> Array:
    """Whether each row, in an order, differs from the one before it."""
    new = np.ones(rows.size, bool)
    columns = [rows[name][order] for name in names]
    new[1:] = np.any([column[1:] != column[:-1] for column in columns], axis=0)
    return new
