"""Routers of the simulation that count what passes them and export it as IPFIX (RFC 7011) to a collector."""

from struct import pack
from typing import Any

from yaffle.demo.network import MS, Packet, S, World
from yaffle.demo.tcp_model import Segment

EVERY_NS = 5 * S  # So often flows that are over are exported,
_ACTIVE_NS, _IDLE_NS = 60 * S, 15 * S  # and these are over after so long.
_TEMPLATE, _NAMES = 256, 257
_NAME_BYTES = 24
_EACH = 20  # Records of a datagram.
# (element, octets): addresses, ports, protocol, class, interfaces, times in ms, bytes, packets, hop limit.
_FIELDS = (
    (8, 4),
    (12, 4),
    (7, 2),
    (11, 2),
    (4, 1),
    (195, 1),
    (10, 4),
    (14, 4),
    (152, 8),
    (153, 8),
    (1, 8),
    (2, 8),
    (53, 1),
)


class Meter:
    """One router. `doors` names its interfaces from 1 on."""

    def __init__(self, world: World, address: str, domain: int, doors: tuple[str, ...], start_ns: int) -> None:
        self._world, self.address, self._domain, self._doors, self._start_ns = world, address, domain, doors, start_ns
        self._flows: dict[tuple[Any, ...], list[int]] = {}  # first, last, octets, packets, hop limit
        self._sequence = 0

    def count(self, packet: Packet, ingress: int, egress: int) -> None:
        """Takes a packet into account."""
        fields = packet.fields
        if isinstance(fields, Segment):
            end, peer = fields.end, fields.end.peer
            ends, protocol = (end.host.address, peer.host.address, end.port, peer.port), 6
        else:
            ends, protocol = (fields.src, fields.dst, fields.src_port, fields.dst_port), 17
        now, size = self._world.now, packet.size - 14
        own = self._flows.setdefault((*ends, protocol, packet.tos >> 2, ingress, egress), [now, now, 0, 0, 0])
        own[1], own[2], own[3], own[4] = now, own[2] + size, own[3] + 1, max(own[4], packet.ttl)

    def export(self, *, rest: bool = False) -> list[bytes]:
        """Datagrams with the flows that are over; with `rest` all of them."""
        now = self._world.now
        over = [
            key
            for key, (first, last, *_) in self._flows.items()
            if rest or now - last >= _IDLE_NS or now - first >= _ACTIVE_NS
        ]
        return [
            self._message([(key, self._flows.pop(key)) for key in over[at : at + _EACH]])
            for at in range(0, len(over), _EACH)
        ]

    def _message(self, flows: list[tuple[tuple[Any, ...], list[int]]]) -> bytes:
        fields = b"".join(pack("!HH", *field) for field in _FIELDS)
        template = pack("!HH", _TEMPLATE, len(_FIELDS)) + fields
        names = pack("!HHH", _NAMES, 2, 1) + pack("!HHHH", 10, 4, 82, _NAME_BYTES)
        doors = b"".join(
            pack("!I", number) + name.encode().ljust(_NAME_BYTES, b"\0") for number, name in enumerate(self._doors, 1)
        )
        rows = b""
        for (src, dst, src_port, dst_port, protocol, dscp, ingress, egress), (
            first,
            last,
            octets,
            packets,
            ttl,
        ) in flows:
            ends = bytes(int(part) for part in (*src.split("."), *dst.split(".")))
            times = [(self._start_ns + at) // MS for at in (first, last)]
            rows += ends + pack(
                "!HHBBIIQQQQB", src_port, dst_port, protocol, dscp, ingress, egress, *times, octets, packets, ttl
            )
        body = b""
        for number, content in ((2, template), (3, names), (_NAMES, doors), (_TEMPLATE, rows)):
            body += pack("!HH", number, 4 + len(content)) + content
        head = pack("!HHIII", 10, 16 + len(body), (self._start_ns + self._world.now) // S, self._sequence, self._domain)
        self._sequence += len(flows) + len(self._doors)
        return head + body


class Door:
    """Where packets of one way pass a router."""

    def __init__(self, world: World, meter: Meter, ingress: int, egress: int) -> None:
        self._world, self._meter, self._ingress, self._egress = world, meter, ingress, egress

    def enter(self, packet: Packet) -> None:
        """Counts the packet and lets it pass."""
        self._meter.count(packet, self._ingress, self._egress)
        self._world.forward(packet)
