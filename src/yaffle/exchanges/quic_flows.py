"""QUIC conversations: the name asked for, how long the set-up took, and round trips by the spin bit where it is used.

The spin bit (RFC 9000 section 17.4) turns over once a round trip: the time from one turn to the next of one side is a
round trip (RFC 9312 section 3.8.2). It is believed where both sides turn it over, and nearly equally often.
"""

import numpy as np

from yaffle.arrays import Int64s
from yaffle.capture.addresses import address_text, end_text
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.exchanges.lookup import UNANSWERED, Lookup
from yaffle.protocols import quic

_FIRST = 64  # Datagrams of a conversation in which its set-up is looked for.
_LEAST_TURNS = 4


def quic_lookup(capture: Capture, payload: Payload, flow: int, rows: Int64s) -> Lookup:
    """One conversation. rows: its packets with payload, in order of time."""
    packets, flows = capture.packets, capture.conversations
    ipv6, point = bool(flows.ipv6[flow]), int(flows.point[flow])
    client = end_text(address_text(flows.a_hi[flow], flows.a_lo[flow], ipv6), int(flows.a_port[flow]))
    server = end_text(address_text(flows.b_hi[flow], flows.b_lo[flow], ipv6), int(flows.b_port[flow]))
    asked = int(packets.time_ns[rows[0]])
    found = Lookup("quic", client, server, "", "set-up", UNANSWERED, asked, point=point, latest_ns=asked, flow=flow)
    figures: dict[str, float] = {}
    hello, first, ready = quic.Hello(), b"", -1
    for row in rows[:_FIRST].tolist():
        t, data, from_client = int(packets.time_ns[row]), payload.of_packet(row), packets.direction[row] == 0
        for packet in quic.packets(data):
            if from_client:
                first = first or packet.destination
                if packet.kind == quic.INITIAL and not found.name:
                    frames = quic.opened(data, packet, first) or quic.opened(
                        data, packet, packet.destination
                    )  # After a retry the keys are new.
                    hello.take(frames or b"")
                    found.name = hello.name
                    if found.answered_ns < 0 and t > asked:
                        found.latest_ns = t
                elif packet.kind == quic.SHORT and ready < 0 and found.answered_ns >= 0:
                    ready = t  # What the client sends with the last keys: it has finished the set-up.
            elif found.answered_ns < 0:
                found.answered_ns, found.outcome = t, "retry" if packet.kind == quic.RETRY else "answered"
    if ready >= 0:
        figures["set_up_ms"] = (ready - asked) / 1e6
    if (trips := spin_round_trips_ns(capture, payload, rows)).size:
        figures["round_trip_ms"], figures["round_trips"] = float(np.median(trips)) / 1e6, float(trips.size)
    found.figures = figures or None
    return found


def spin_round_trips_ns(capture: Capture, payload: Payload, rows: Int64s) -> Int64s:
    """Times between turns of the client's spin bit, ns; empty where the bit is not used."""
    packets = capture.packets
    head = payload.octets_of(rows, 0)
    short = (head >= 0x40) & (head < 0x80)
    turns = []
    for side in (0, 1):
        own = np.flatnonzero(short & (packets.direction[rows] == side))
        turned = own[1:][np.diff(head[own] >> 5 & 1) != 0]
        turns.append(packets.time_ns[rows[turned]])
    counts = [t.size for t in turns]
    if min(counts) < _LEAST_TURNS or max(counts) > 2 * min(counts):
        return np.empty(0, np.int64)
    return np.asarray(np.diff(turns[0]))
