"""Flow records made of packets: what a point saw, a minute a record at most, so that captures answer the questions
asked of exporters.

Bytes are those on the wire. Both directions of a conversation are records of their own, as exporters tell them.
"""

import numpy as np

from yaffle.capture.captured import Capture
from yaffle.records.flow_table import PACKETS, Exporter, FlowRecords, empty_flows

_LONGEST_NS = 60 * 10**9


def flows_of_packets(capture: Capture) -> FlowRecords:
    """A record for each direction of each conversation and minute of it; exporters are the points."""
    packets, flows = capture.packets, capture.conversations
    kept = np.flatnonzero(packets.flow >= 0)
    if not kept.size:
        return FlowRecords()
    own = packets.flow[kept].astype(np.int64) * 2 + packets.direction[kept]
    order = kept[np.argsort(own, kind="stable")]
    own = packets.flow[order].astype(np.int64) * 2 + packets.direction[order]
    time_ns = packets.time_ns[order]
    minute = (time_ns - flows.first_ns[packets.flow[order]]) // _LONGEST_NS
    starts = np.flatnonzero(np.concatenate([[True], (np.diff(own) != 0) | (np.diff(minute) != 0)]))
    rows = empty_flows(starts.size)
    flow, back = own[starts] // 2, own[starts] % 2 == 1
    for side, forward, reverse in (("src", "a", "b"), ("dst", "b", "a")):
        for part in ("hi", "lo", "port"):
            one, two = getattr(flows, f"{forward}_{part}")[flow], getattr(flows, f"{reverse}_{part}")[flow]
            rows[f"{side}_{part}"] = np.where(back, two, one)
    rows["exporter"], rows["protocol"], rows["ipv6"] = flows.point[flow], PACKETS, flows.ipv6[flow]
    rows["transport"] = np.where(flows.protocol[flow] < 256, flows.protocol[flow], 0)
    rows["dscp"] = packets.tos[order][starts] >> 2
    rows["flags"] = np.bitwise_or.reduceat(packets.flags[order], starts)
    rows["packets"], rows["octets"] = (
        np.diff(np.append(starts, order.size)),
        np.add.reduceat(packets.wire_bytes[order].astype(np.int64), starts),
    )
    rows["first_ns"], rows["last_ns"] = np.minimum.reduceat(time_ns, starts), np.maximum.reduceat(time_ns, starts)
    rows["arrived_ns"] = rows["last_ns"]
    exporters = [Exporter(point, 0, PACKETS) for point in capture.points]
    for number, exporter in enumerate(exporters):
        exporter.flow_records = exporter.records = int((rows["exporter"] == number).sum())
    return FlowRecords(rows, exporters)
