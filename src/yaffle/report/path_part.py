"""The path's part of the analysis document: segments, clocks, and on request every packet that was lost on a
segment.
"""

from typing import Any

import numpy as np

from yaffle.analysis import Analysis
from yaffle.capture.addresses import address_text
from yaffle.capture.registry import ECN_NAMES
from yaffle.findings.flow_changes import way_changes
from yaffle.findings.flow_path import flow_ways
from yaffle.findings.flow_source import held_flows
from yaffle.path.segments import PathSegment, Way, clamped, ecn_changes, hops, marking_changes, resets_born
from yaffle.path.split import split_connections
from yaffle.path.translations import translations
from yaffle.quantiles import median, p95
from yaffle.units import transport_name

_MS = 1e6


def segments(analysis: Analysis) -> list[dict[str, Any]]:
    """Each segment in each direction; from and to as the packets go."""
    found = []
    for segment in analysis.path.segments:
        for way, start, end in _ways(segment):
            if way.sent.size or way.born.size:
                found.append(_way(analysis, way, analysis.capture.points[start], analysis.capture.points[end]))
    return found


def _ways(segment: PathSegment) -> tuple[tuple[Way, int, int], tuple[Way, int, int]]:
    return (segment.up, segment.near, segment.far), (segment.down, segment.far, segment.near)


def _way(analysis: Analysis, way: Way, start: str, end: str) -> dict[str, Any]:
    capture, delays = analysis.capture, way.delay_ns / _MS
    return {
        "from": start,
        "to": end,
        "direction": "from_client" if way.from_client else "from_server",
        "packets": int(way.sent.size),
        "lost": int(way.lost.size),
        "duplicated": int(way.copies.size),
        "reordered": int(way.reordered.size),
        "born": int(way.born.size),
        "resets_born": resets_born(capture, way),
        "delay_ms": (
            {
                "min": float(delays.min()),
                "median": median(delays),
                "p95": p95(delays),
                "max": float(delays.max()),
            }
            if delays.size
            else None
        ),
        "jitter_ms": None if np.isnan(way.variation_ns) else way.variation_ns / _MS,
        "dscp_changes": [
            {"from": before, "to": after, "packets": count} for before, after, count in marking_changes(capture, way)
        ],
        "ecn_changes": [
            {"from": ECN_NAMES[before], "to": ECN_NAMES[after], "packets": count}
            for before, after, count in ecn_changes(capture, way)
        ],
        "hops": hops(capture, way),
        "clamped_openings": clamped(capture, way),
    }


def translated(analysis: Analysis) -> list[dict[str, Any]]:
    """Addresses that change on the way: [at the nearer point, at the farther]."""
    return [
        {
            "from": one.ends.near, "to": one.ends.far, "client": [one.ends.client_near, one.ends.client_far],
            "server": [one.ends.server_near, one.ends.server_far],
            "conversations": one.conversations, "ports_change": one.ports_change, "packets": one.packets,
        }
        for one in translations(analysis.capture, analysis.path)
    ]  # fmt: skip


def flow_changes(analysis: Analysis) -> list[dict[str, Any]]:
    """When the traffic between two hosts took another way, by flow records."""
    if not analysis.flows.rows.size:
        return []
    return [
        {
            "from": one.source, "to": one.target, "at_ns": one.at_ns, "within_ms": one.within_ns / _MS,
            "gone": list(one.gone), "come": list(one.come),
            "before": one.before.packets, "after": one.after.packets,
        }
        for one in way_changes(held_flows(analysis, 0, 1 << 62, packets=False))
    ]  # fmt: skip


def answered_between(analysis: Analysis) -> list[dict[str, Any]]:
    """Connections that something between two points answers itself."""
    return [
        {
            "from": one.near,
            "to": one.far,
            "server": one.server,
            "connections": one.connections,
            "packets": list(one.packets),
        }
        for one in split_connections(analysis.capture)
    ]


def clocks(analysis: Analysis) -> list[dict[str, Any]]:
    """Each source against the first point; null where no packets tie it to that."""
    if len(analysis.capture.points) < 2:
        return []
    packets, flows = analysis.capture.packets, analysis.capture.conversations
    found = []
    for number, source in enumerate(analysis.capture.sources):
        own = np.flatnonzero((packets.source == number) & (packets.flow >= 0))
        if not own.size:
            continue
        point = int(flows.point[packets.flow[own[0]]])
        clock = analysis.path.clocks.get(point)
        if point == 0:
            told: dict[str, Any] = {"offset_ms": 0.0, "drift_ppm": 0.0, "uncertainty_ms": 0.0, "set_right": False}
        elif clock is None:
            told = {"offset_ms": None, "drift_ppm": None, "uncertainty_ms": None, "set_right": False}
        else:
            sure = clock.uncertainty_ns / _MS if clock.both_ways else None  # One direction alone bounds nothing.
            told = {
                "offset_ms": clock.offset_ns / _MS,
                "drift_ppm": clock.drift * 1e6,
                "uncertainty_ms": sure,
                "set_right": point in analysis.path.corrected,
            }
        steps = clock.steps if clock is not None else ()
        found.append(
            {"source": source.name, **told, "steps": [{"at_ns": at_ns, "ms": step / _MS} for at_ns, step in steps]}
        )
    return found


def lost_packets(analysis: Analysis) -> list[dict[str, Any]]:
    """Every packet that was lost on a segment, in order of time, as it was where it passed first."""
    capture = analysis.capture
    packets, flows = capture.packets, capture.conversations
    found = []
    for segment in analysis.path.segments:
        for way, start, end in _ways(segment):
            for row in way.lost.tolist():
                flow, back = int(packets.flow[row]), bool(packets.direction[row])
                ipv6 = bool(flows.ipv6[flow])
                ends = [
                    (
                        address_text(getattr(flows, f"{e}_hi")[flow], getattr(flows, f"{e}_lo")[flow], ipv6),
                        int(getattr(flows, f"{e}_port")[flow]),
                    )
                    for e in "ab"
                ]
                (src, src_port), (dst, dst_port) = reversed(ends) if back else ends
                found.append(
                    {
                        "from": capture.points[start], "to": capture.points[end],
                        "transport": transport_name(int(flows.protocol[flow])), "src": src, "src_port": src_port,
                        "dst": dst,
                        "dst_port": dst_port,
                        "seq": int(packets.head["seq"][row]) if packets.protocol[row] == 6 else None,
                        "time_ns": int(packets.time_ns[row]),
                        "ip_id": int(packets.head["ip_id"][row]), "payload_bytes": int(packets.payload_bytes[row]),
                    }
                )  # fmt: skip
    return sorted(found, key=lambda one: int(one["time_ns"]))


def flow_paths(analysis: Analysis) -> list[dict[str, Any]]:
    """Ways of flows over the exporters that told them, in the order they were passed; `order_known` says whether
    anything told it.
    """
    return (
        [
            {
                "flows": way.flows,
                "bytes": way.octets,
                "order_known": way.ordered,
                "hops": [
                    {
                        "exporter": hop.exporter,
                        "ingress": hop.ingress,
                        "egress": hop.egress,
                        "packets": hop.packets,
                        "lost": None if np.isnan(hop.lost) else hop.lost,
                        "lost_of": hop.compared,
                        "uncertainty": hop.uncertainty,
                        "dscp_changes": [
                            {"from": old, "to": new, "flows": flows} for (old, new), flows in hop.remarked.items()
                        ],
                    }
                    for hop in way.hops
                ],
            }
            for way in flow_ways(held_flows(analysis, 0, 1 << 62, packets=False))
        ]
        if analysis.flows.rows.size
        else []
    )
