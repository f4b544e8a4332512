"""Look-ups, leases, sign-ons and the like: questions of single packets with their answers, repeats and silence told.

A question asked again while the first is open (the same identifier; for names also the same client, name and type under
another identifier within the patience of a resolver) is one more try of the same look-up. Latency runs from the first
try to the first answer, at the point; an answer that says it is cut short is followed to TCP (RFC 7766).
"""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from yaffle.arrays import Array, Int32s, Int64s
from yaffle.capture.addresses import address_text
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.exchanges.echoes import find_echoes
from yaffle.exchanges.lookup import Lookup
from yaffle.exchanges.messages import Messages
from yaffle.exchanges.name_scan import NONE
from yaffle.exchanges.names import find_names, seen_names
from yaffle.exchanges.questions import MAKERS, DatagramEnds, Maker
from yaffle.exchanges.quic_flows import quic_lookup
from yaffle.garbage_collection import collector_resting
from yaffle.protocols import dhcp, dhcp6, ntp, quic, radius, snmp
from yaffle.transport.segments import FACTS, empty_segments, gather

_FALLBACK_NS = 5_000_000_000
_NAME_PORT, _MULTICAST_PORT = 53, 5353
_LEASE_PORTS, _LEASE6_PORTS, _TIME_PORTS = frozenset({67, 68}), frozenset({546, 547}), frozenset({123})
_SIGN_ON_PORTS = frozenset({1812, 1813, 1645, 1646})
_LEAST_BYTES = 8  # Shorter payloads are none of these.
_SEEN_TWICE_NS = 2_000_000_000


@dataclass
class Lookups:
    """All of a case, in order of time."""

    rows: list[Lookup] = field(default_factory=list)

    @cached_property
    def resolved(self) -> dict[str, str]:
        """The name under which each address was looked up; addresses that several names led to are left out."""
        names: dict[str, set[str]] = {}
        for lookup in self.rows:
            if lookup.protocol == "dns":
                for address in lookup.addresses:
                    names.setdefault(address, set()).add(lookup.name)
        return {address: next(iter(found)) for address, found in names.items() if len(found) == 1}


def _candidates(capture: Capture, payload: Payload) -> dict[int, str]:
    """Conversations over UDP whose first packet is one of ours: what they carry."""
    packets, flows = capture.packets, capture.conversations
    rows = packets.datagrams(_LEAST_BYTES)
    first_flows, first = np.unique(packets.flow[rows], return_index=True)
    first = rows[first]
    one, two = flows.a_port[first_flows].astype(np.int64), flows.b_port[first_flows].astype(np.int64)
    multicast = (one == _MULTICAST_PORT) | (two == _MULTICAST_PORT)
    named = multicast | (one == _NAME_PORT) | (two == _NAME_PORT)
    leases = np.isin(one, list(_LEASE_PORTS)) | np.isin(two, list(_LEASE_PORTS))
    possible = named | ((np.minimum(one, two) < 1024) & ~leases)
    seen = seen_names(first[possible], payload)
    good = (seen["how"] != NONE) & (named[possible] | (seen["key"] != 0))
    found = dict(
        zip(
            first_flows[possible][good].tolist(),
            np.where(multicast[possible][good], "mdns", "dns").tolist(),
            strict=True,
        )
    )
    for flow, row, a, b in zip(first_flows.tolist(), first.tolist(), one.tolist(), two.tolist(), strict=True):
        if flow not in found and (told := _told(payload.of_packet(row), (a, b), int(packets.payload_bytes[row]))):
            found[flow] = told
    return found


def _told(data: bytes, ports: tuple[int, int], wire: int) -> str:
    """What a conversation over UDP carries that begins like this, names apart; empty where nothing is known."""
    used = set(ports)
    if used & _LEASE_PORTS:
        return "dhcp" if dhcp.parse(data) is not None else ""
    if used & _LEASE6_PORTS and dhcp6.parse(data) is not None:
        return "dhcpv6"
    if used & _TIME_PORTS and ntp.parse(data) is not None:
        return "ntp"
    if quic.looks_like(data):
        return "quic"
    if snmp.parse(data) is not None:
        return "snmp"
    message = radius.parse(data)
    by_content = int.from_bytes(data[2:4], "big") == wire == len(data) and message is not None and bool(message.user)
    return "radius" if message is not None and (used & _SIGN_ON_PORTS or by_content) else ""


class _Ends:
    """Addresses of packets."""

    def __init__(self, capture: Capture) -> None:
        self._packets, self._flows = capture.packets, capture.conversations

    def of(self, row: int) -> DatagramEnds:
        """Sender and receiver with their ports."""
        flows, flow = self._flows, int(self._packets.flow[row])
        ipv6 = bool(flows.ipv6[flow])
        one = (address_text(flows.a_hi[flow], flows.a_lo[flow], ipv6), int(flows.a_port[flow]))
        two = (address_text(flows.b_hi[flow], flows.b_lo[flow], ipv6), int(flows.b_port[flow]))
        return (*one, *two) if self._packets.direction[row] == 0 else (*two, *one)


def find_lookups(
    capture: Capture, payload: Payload, starts: Int64s, order: Int32s, connections: Int64s, messages: Messages
) -> Lookups:
    """All look-ups of a capture. starts, order, connections: as arranged; messages: for those that went on over TCP."""
    with collector_resting():
        return _find(capture, payload, starts, order, connections, messages)


def _find(
    capture: Capture, payload: Payload, starts: Int64s, order: Int32s, connections: Int64s, messages: Messages
) -> Lookups:
    carried = _candidates(capture, payload)
    packets, flows, ends = capture.packets, capture.conversations, _Ends(capture)
    names = {flow: protocol for flow, protocol in carried.items() if protocol in ("dns", "mdns")}
    found = find_names(capture, payload, _rows_of(capture, list(names)), names) if names else []
    found += find_echoes(capture)
    quick = [flow for flow, protocol in carried.items() if protocol == "quic"]
    found += [quic_lookup(capture, payload, flow, rows) for flow, rows in _by_flow(capture, quick)]
    made: dict[tuple[str, int], Maker] = {}
    for row in _rows_of(capture, [flow for flow, p in carried.items() if p in MAKERS]).tolist():
        flow = int(packets.flow[row])
        key = (carried[flow], int(flows.point[flow]))
        if key not in made:
            made[key] = MAKERS[key[0]](key[1])
        made[key].take(int(packets.time_ns[row]), payload.of_packet(row), ends.of(row))
    found += [lookup for maker in made.values() for lookup in maker.rows]
    found += _over_tcp(capture, payload, starts, order, connections, messages, found)
    return Lookups(_once(sorted(found, key=lambda lookup: lookup.asked_ns)))


def _by_flow(capture: Capture, flows: list[int]) -> list[tuple[int, Array]]:
    """Each of some conversations with its packets, in order of time."""
    rows = _rows_of(capture, flows)
    own = capture.packets.flow[rows]
    order = np.argsort(own, kind="stable")
    parts = np.split(rows[order], np.flatnonzero(np.diff(own[order])) + 1) if rows.size else []
    return [(int(capture.packets.flow[part[0]]), part) for part in parts]


def _rows_of(capture: Capture, flows: list[int]) -> Int64s:
    """Packets of some conversations, in order of time."""
    packets = capture.packets
    mark = np.zeros(capture.conversations.point.size + 1, bool)
    mark[flows] = True
    rows = np.flatnonzero(mark[packets.flow] & (packets.payload_bytes > 0)) if flows else np.empty(0, np.int64)
    return rows[np.argsort(packets.time_ns[rows], kind="stable")]


def _over_tcp(
    capture: Capture,
    payload: Payload,
    starts: Int64s,
    order: Int32s,
    connections: Int64s,
    messages: Messages,
    over_udp: list[Lookup],
) -> list[Lookup]:
    """Look-ups over TCP: those that continue one that was cut short are added to it, the rest is returned."""
    flows, found = capture.conversations, []
    for c, protocol in messages.protocol.items():
        if protocol != "dns":
            continue
        flow = int(connections[c])
        g = empty_segments(int(starts[c + 1] - starts[c]))
        gather(order[starts[c] : starts[c + 1]], payload.packets, g, np.zeros(FACTS, np.int64))
        ipv6, point = bool(flows.ipv6[flow]), int(flows.point[flow])
        client = address_text(flows.a_hi[flow], flows.a_lo[flow], ipv6)
        server = address_text(flows.b_hi[flow], flows.b_lo[flow], ipv6)
        for turn in messages.turns[messages.starts[c] : messages.starts[c + 1]]:
            kind, _, name = messages.label[int(turn["message"])].partition(" ")
            asked = int(g["t"][turn["first"]])
            answered = int(g["t"][min(g.size, int(turn["stop"])) - 1]) if turn["answer"] >= 0 else -1
            outcome = messages.outcome[int(turn["message"])]
            short = [
                u
                for u in over_udp
                if u.truncated
                and (u.client, u.name, u.kind, u.point) == (client, name, kind, point)
                and 0 <= asked - u.answered_ns <= _FALLBACK_NS
            ]
            if short:
                short[-1].answered_ns, short[-1].outcome, short[-1].truncated = answered, outcome, False
            else:
                found.append(
                    Lookup("dns", client, server, name, kind, outcome, asked, answered, point=point, latest_ns=asked)
                )
    return found


def _once(found: list[Lookup]) -> list[Lookup]:
    """Each look-up once, as seen nearest to its client, where several points saw it."""
    if len({lookup.point for lookup in found}) < 2:
        return found
    kept: list[Lookup] = []
    latest: dict[tuple[str, ...], Lookup] = {}
    for lookup in found:
        key = (lookup.protocol, lookup.client, lookup.name, lookup.kind)
        former = latest.get(key)
        if former is not None and former.point != lookup.point and lookup.asked_ns - former.latest_ns <= _SEEN_TWICE_NS:
            if lookup.tries > former.tries or (lookup.tries == former.tries and lookup.latency_ns > former.latency_ns):
                kept[kept.index(former)] = latest[key] = lookup
            continue
        latest[key] = lookup
        kept.append(lookup)
    return kept
