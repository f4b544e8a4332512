"""What captures begin with: their first packets, for the eye, while the rest is still being read."""

from dataclasses import dataclass
from pathlib import Path

from yaffle.capture.addresses import address_text, end_text
from yaffle.capture.reader import read_captures
from yaffle.capture.registry import ETHERTYPES, PROTOCOLS

MOST = 500


@dataclass(frozen=True)
class FirstPacket:
    """One packet in words."""

    time_ns: int
    source: str
    sender: str
    receiver: str
    what: str
    wire_bytes: int


def first_packets(paths: list[Path]) -> list[FirstPacket]:
    """The first packets of the files, in the order of the files. Raises YaffleError where one cannot be read."""
    capture = read_captures(paths, beginning=True)
    packets, flows = capture.packets, capture.conversations
    found = []
    for i in range(min(MOST, packets.time_ns.size)):
        flow, protocol = int(packets.flow[i]), int(packets.protocol[i])
        one = two = "–"
        if flow >= 0:
            ipv6 = bool(flows.ipv6[flow])
            one = end_text(address_text(flows.a_hi[flow], flows.a_lo[flow], ipv6), int(flows.a_port[flow]))
            two = end_text(address_text(flows.b_hi[flow], flows.b_lo[flow], ipv6), int(flows.b_port[flow]))
        sender, receiver = (one, two) if packets.direction[i] == 0 else (two, one)
        known = PROTOCOLS if protocol < 0x600 else ETHERTYPES
        what = known.get(
            protocol,
            f"{'IP protocol' if protocol < 0x600 else 'EtherType'} {protocol:#x}" if protocol else "not decoded",
        )
        found.append(
            FirstPacket(
                int(packets.time_ns[i]),
                capture.sources[int(packets.source[i])].name,
                sender,
                receiver,
                what,
                int(packets.wire_bytes[i]),
            )
        )
    return found
