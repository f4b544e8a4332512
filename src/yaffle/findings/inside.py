"""Where inside the network waits were spent, in words, as nodes told of packets and as a radio heard them."""

from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Int64s
from yaffle.units import duration

_WORTH = 0.05  # of the network's part; below it, it is not worth a word
_MOST = 2  # nodes that are named


def inside_words(analysis: Analysis, rows: Int64s) -> str:
    """A sentence or two on some exchanges; empty where nobody told anything that counts."""
    return _of_nodes(analysis, rows) + _on_air(analysis, rows)


def inside_grounds(analysis: Analysis, rows: Int64s) -> dict[str, Any]:
    """The same as figures, ms."""
    found: dict[str, Any] = {}
    if analysis.at_nodes is not None and (told := analysis.at_nodes.of_rows(rows)):
        found["by_node"] = [{"node": node, "ms": ns / 1e6} for node, ns in told]
    if analysis.on_air is not None and (air := analysis.on_air.of_rows(rows)) is not None:
        found["on_air"] = {"moves_ms": air[0] / 1e6, "retries_ms": air[1] / 1e6}
    return found


def inside_of_connection(analysis: Analysis, connection: int) -> str:
    """The same of all exchanges of a connection."""
    owner = analysis.account.of_exchange("connection")
    return inside_words(analysis, np.arange(*np.searchsorted(owner, [connection, connection + 1])))


def _of_nodes(analysis: Analysis, rows: Int64s) -> str:
    told = analysis.at_nodes.of_rows(rows) if analysis.at_nodes is not None else []
    whole = sum(ns for _, ns in told)
    known = [(node, ns) for node, ns in told if node is not None and ns >= _WORTH * whole]
    if not known:
        return ""
    parts = [f"{duration(ns)} in {analysis.node_name(node)}" for node, ns in known[:_MOST]]
    return f" Inside the network, as nodes told: {', '.join(parts)}, of {duration(whole)}."


def _on_air(analysis: Analysis, rows: Int64s) -> str:
    air = analysis.on_air.of_rows(rows) if analysis.on_air is not None else None
    if air is None or not sum(air):
        return ""
    parts = [
        f"{duration(ns)} for {what}"
        for ns, what in zip(air, ("moves between access points", "frames sent again"), strict=True)
        if ns
    ]
    return f" On the air at least: {', '.join(parts)}."
