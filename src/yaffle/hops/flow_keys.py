"""The flows of captured packets, each in one direction."""

import numpy as np

from yaffle.arrays import Int32s, Int64s
from yaffle.capture.addresses import address_text
from yaffle.capture.captured import Capture
from yaffle.hops.visits import FlowKey
from yaffle.units import transport_name


def flows_of(capture: Capture, packet: Int64s) -> tuple[Int32s, list[FlowKey]]:
    """(row of each packet's flow in one direction, those flows)."""
    packets, conversations = capture.packets, capture.conversations
    codes = packets.flow[packet].astype(np.int64) * 2 + (packets.direction[packet] != 0)
    kinds, row = np.unique(codes, return_inverse=True)
    first = np.zeros(kinds.size, np.int64)
    first[row[::-1]] = packet[::-1]
    keys: dict[FlowKey, int] = {}
    place = []
    for code, example in zip(kinds.tolist(), first.tolist(), strict=True):
        flow, back = divmod(code, 2)
        v6 = bool(conversations.ipv6[flow])
        c = conversations
        a = address_text(int(c.a_hi[flow]), int(c.a_lo[flow]), v6), int(c.a_port[flow])
        b = address_text(int(c.b_hi[flow]), int(c.b_lo[flow]), v6), int(c.b_port[flow])
        (src, src_port), (dst, dst_port) = (b, a) if back else (a, b)
        key = FlowKey(transport_name(int(packets.protocol[example])).lower(), src, src_port, dst, dst_port)
        place.append(keys.setdefault(key, len(keys)))
    return np.array(place, np.int32)[row], list(keys)
