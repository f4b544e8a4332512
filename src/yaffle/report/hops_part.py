"""The part of the analysis document on per-hop telemetry."""

import math
from typing import Any

from yaffle.analysis import Analysis
from yaffle.hops.edges import EdgeFlow
from yaffle.hops.on_path import path_delays
from yaffle.hops.paths import PathChange
from yaffle.hops.queues import Congestion
from yaffle.hops.telemetry import FlowHop, TracedFlow
from yaffle.hops.visits import FlowKey

_US, _MS = 1e3, 1e6


def hops(analysis: Analysis) -> dict[str, Any]:
    """All of it; empty lists where nobody told anything."""
    told = analysis.telemetry
    return {
        "nodes": [{"node": node, "packets": packets} for node, packets in told.nodes],
        "flows": [_flow(one) for one in told.flows],
        "congestion": [_congestion(one) for one in told.congestion],
        "drops": [
            {"node": one.node, "egress": _known(one.egress), **_ends(one.flow), "packets": one.packets}
            for one in told.drops
        ],
        "path_changes": [_change(one) for one in told.path_changes],
        "edges": [_edge(one) for one in told.edges],
        "path_delays": [
            {
                "exporter": one.exporter,
                "transport": one.flow.transport,
                **_ends(one.flow),
                "packets": one.packets,
                "first_ns": one.first_ns,
                "last_ns": one.last_ns,
                "delay_us": {"min": _told(one.least_us), "mean": _told(one.mean_us), "max": _told(one.most_us)},
            }
            for one in path_delays(analysis.flows)
        ],
        "notes": told.visits.notes,
    }


def _known(value: int) -> int | None:
    return value if value >= 0 else None


def _told(value: float) -> float | None:
    return None if math.isnan(value) else value


def _ends(key: FlowKey) -> dict[str, Any]:
    return {"src": key.src, "src_port": key.src_port, "dst": key.dst, "dst_port": key.dst_port}


def _edge(one: EdgeFlow) -> dict[str, Any]:
    over = one.over_ns
    return {
        "kind": one.kind,
        "namespace": one.namespace,
        "transport": one.key.transport,
        **_ends(one.key),
        "packets": one.packets,
        "lost": _known(one.lost),
        "reordered": _known(one.reordered),
        "doubled": _known(one.doubled),
        "sequence_of": "flow" if one.alone else "namespace",
        "delay_above_least_us": None
        if math.isnan(over[0])
        else {"median": over[0] / _US, "p95": over[1] / _US, "max": over[2] / _US},
        "flow_id": _known(one.flow_id),
        "trace_type": f"0x{one.asked:06x}" if one.asked >= 0 else None,
    }


def _flow(one: TracedFlow) -> dict[str, Any]:
    return {
        "transport": one.key.transport,
        **_ends(one.key),
        "packets": one.packets,
        "paths": [
            {"nodes": list(path.nodes), "first_ns": path.first_ns, "last_ns": path.last_ns, "packets": path.packets}
            for path in one.paths
        ],
        "hops": [_hop(hop) for hop in one.hops],
    }


def _hop(hop: FlowHop) -> dict[str, Any]:
    return {
        "node": hop.node,
        "ingress": _known(hop.ingress),
        "egress": _known(hop.egress),
        "delay_us": {
            "min": hop.least_ns / _US, "median": hop.median_ns / _US, "p95": hop.p95_ns / _US,
            "max": hop.most_ns / _US,
        },
        "queue_max": _known(hop.queue_max),
        "samples": hop.samples,
    }  # fmt: skip


def _congestion(one: Congestion) -> dict[str, Any]:
    return {
        "node": one.node,
        "egress": _known(one.egress),
        "first_ns": one.first_ns,
        "last_ns": one.last_ns,
        "peak_queue": _known(one.peak_queue),
        "peak_delay_ms": one.peak_delay_ns / _MS,
        "packets": one.packets,
        "culprits": [{**_ends(own.flow), "share": own.share} for own in one.culprits],
        "victims": [
            {**_ends(own.flow), "packets": own.packets, "added_ms_max": own.added_ns / _MS} for own in one.victims
        ],
        "dropped": one.dropped,
    }


def _change(one: PathChange) -> dict[str, Any]:
    return {"time_ns": one.time_ns, **_ends(one.flow), "from": list(one.before), "to": list(one.after)}
