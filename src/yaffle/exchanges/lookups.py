"""Look-ups, leases and sign-ons: questions of single packets with their answers, repeats and silence told.

A question asked again while the first is open (the same identifier; for names also the same client, name and type under
another identifier within the patience of a resolver) is one more try of the same look-up. Latency runs from the first
try to the first answer, at the point; an answer that says it is cut short is followed to TCP (RFC 7766).
"""

import ipaddress
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.addresses import Labels, address_text, client_labels, end_text, server_labels
from yaffle.capture.captured import Capture
from yaffle.collector import collector_resting
from yaffle.exchanges.messages import Messages
from yaffle.exchanges.name_scan import NONE, ODD, READ, empty_seen, scan_names
from yaffle.exchanges.payload import Payload
from yaffle.protocols import dhcp, dns, radius
from yaffle.transport.segments import FACTS, empty_segments, gather

UNANSWERED = "unanswered"
_PATIENCE_NS = 6_000_000_000  # Resolvers ask again after one to five seconds.
_SAME_ID_NS = 30_000_000_000
_FALLBACK_NS = 5_000_000_000
_NAME_PORT, _MULTICAST_PORT = 53, 5353
_LEASE_PORTS = (67, 68)
_NUMBERS = {word: number for number, word in dns.TYPES.items()}
_SIGN_ON_PORTS = (1812, 1813, 1645, 1646)
_SEEN_TWICE_NS = 2_000_000_000


@dataclass(slots=True)
class Lookup:
    """One question."""

    protocol: str  # dns, mdns, dhcp, radius
    client: str
    server: str
    name: str
    kind: str
    outcome: str
    asked_ns: int
    answered_ns: int = -1
    tries: int = 1
    addresses: tuple[str, ...] = ()
    point: int = 0
    latest_ns: int = 0  # the last try
    truncated: bool = False

    @property
    def latency_ns(self) -> int:
        """From the first try to the answer; -1 without one."""
        return self.answered_ns - self.asked_ns if self.answered_ns >= 0 else -1


@dataclass
class Lookups:
    """All of a case, in order of time."""

    rows: list[Lookup] = field(default_factory=list)

    @cached_property
    def resolved(self) -> dict[str, str]:
        """The name under which each address was looked up last."""
        return {address: lookup.name for lookup in self.rows for address in lookup.addresses if lookup.protocol == "dns"}


def _candidates(capture: Capture, payload: Payload) -> dict[int, str]:
    """Conversations over UDP whose first packet is one of ours: what they carry."""
    packets, flows = capture.packets, capture.conversations
    rows = np.flatnonzero((packets.protocol == 17) & (packets.payload_bytes >= 12) & (packets.flow >= 0))
    first_flows, first = np.unique(packets.flow[rows], return_index=True)
    first = rows[first]
    one, two = flows.a_port[first_flows].astype(np.int64), flows.b_port[first_flows].astype(np.int64)
    multicast = (one == _MULTICAST_PORT) | (two == _MULTICAST_PORT)
    named = multicast | (one == _NAME_PORT) | (two == _NAME_PORT)
    leases = np.isin(one, _LEASE_PORTS) | np.isin(two, _LEASE_PORTS)
    possible = named | ((np.minimum(one, two) < 1024) & ~leases)
    seen = _seen(first[possible], payload)
    good = (seen["how"] != NONE) & (named[possible] | (seen["key"] != 0))
    found = dict(zip(first_flows[possible][good].tolist(), np.where(multicast[possible][good], "mdns", "dns").tolist(), strict=True))
    for flow, row, a, b, lease in zip(first_flows.tolist(), first.tolist(), one.tolist(), two.tolist(), leases.tolist(), strict=True):
        if flow in found:
            continue
        data = payload.of_packet(row)
        if lease and dhcp.parse(data) is not None:
            found[flow] = "dhcp"
        elif _is_sign_on(data, (a, b), int(packets.payload_bytes[row])):
            found[flow] = "radius"
    return found


def _seen(rows: Array, payload: Payload) -> Array:
    """What the packets say of names, by the quick way."""
    seen = empty_seen(rows.size)
    for number, source in enumerate(payload.sources):
        if source is not None:
            scan_names(rows, payload.packets, number, np.asarray(source), seen)
    return seen


def _is_sign_on(data: bytes, ports: tuple[int, int], wire: int) -> bool:
    message = radius.parse(data)
    return message is not None and (bool(set(_SIGN_ON_PORTS) & set(ports)) or (int.from_bytes(data[2:4], "big") == wire == len(data) and bool(message.user)))


class _Ends:
    """Addresses of packets."""

    def __init__(self, capture: Capture) -> None:
        self._packets, self._flows = capture.packets, capture.conversations

    def of(self, row: int) -> tuple[str, int, str, int]:
        """Sender and receiver with their ports."""
        flows, flow = self._flows, int(self._packets.flow[row])
        ipv6 = bool(flows.ipv6[flow])
        one = (address_text(flows.a_hi[flow], flows.a_lo[flow], ipv6), int(flows.a_port[flow]))
        two = (address_text(flows.b_hi[flow], flows.b_lo[flow], ipv6), int(flows.b_port[flow]))
        return (*one, *two) if self._packets.direction[row] == 0 else (*two, *one)


class _Names:
    """Look-ups of names over UDP, at all points."""

    def __init__(self, capture: Capture, payload: Payload, rows: Array, carried: dict[int, str]) -> None:
        self._capture, self._payload = capture, payload
        self._carried = carried
        self._by_id: dict[tuple[int, ...], Lookup] = {}
        self._by_name: dict[tuple[int, ...], Lookup] = {}
        self._address: dict[bytes, str] = {}
        self.found: list[Lookup] = []
        packets, flows = capture.packets, capture.conversations
        seen = _seen(rows, payload)
        clients, servers = client_labels(flows, np.arange(flows.point.size)), server_labels(flows, np.arange(flows.point.size))
        hosts = Labels(np.concatenate([clients.codes, servers.codes + len(clients.texts)]), [*clients.texts, *servers.texts]).named(str)
        self._texts = hosts.texts
        flow, forward = packets.flow[rows], packets.direction[rows] == 0
        a, b = hosts.codes[: flows.point.size][flow], hosts.codes[flows.point.size :][flow]
        ports = flows.a_port[flow].astype(np.int64), flows.b_port[flow].astype(np.int64)
        self._name_at, self._name_end = seen["name"].tolist(), seen["name_end"].tolist()
        self._places, self._octets, self._count = seen["at"].tolist(), seen["octets"].tolist(), seen["addresses"].tolist()
        self._source = packets.source[rows].tolist()
        self._rows = rows
        columns = (
            packets.time_ns[rows], seen["how"], seen["id"], seen["flags"], seen["kind"], seen["key"], np.where(forward, a, b), np.where(forward, ports[0], ports[1]),
            np.where(forward, b, a), np.where(forward, ports[1], ports[0]), flow, flows.point[flow],
        )  # fmt: skip
        for k, (t, how, number, flags, kind, key, *ends) in enumerate(zip(*(column.tolist() for column in columns), strict=True)):
            if how == READ:
                self._take(k, t, number, flags, kind, key, *ends)
            elif how == ODD:
                self._plain(k, t, number, flags, *ends)

    def _plain(self, k: int, t: int, number: int, flags: int, *ends: int) -> None:
        """What the quick way leaves."""
        message = dns.parse(self._payload.of_packet(int(self._rows[k])))
        if message is not None:
            self._take(k, t, number, flags, _NUMBERS.get(message.kind, 0), hash(message.name), *ends)

    def _take(self, k: int, t: int, number: int, flags: int, kind: int, key: int, *ends: int) -> None:
        sender, port, receiver, other, flow, point = ends
        if flags & 0x8000:
            found = self._by_id.get((point, receiver, key, number, other))
            if found is not None and found.answered_ns < 0:
                found.answered_ns, found.server = t, self._texts[sender]
                found.outcome, found.truncated = dns.CODES.get(flags & 15) or f"RCODE{flags & 15}", bool(flags & 0x200)
                if self._count[k]:
                    found.addresses = self._addresses(k)
            return
        by_id, by_name = (point, sender, key, number, port), (point, sender, key, kind)
        open_one = self._by_id.get(by_id)
        if open_one is None or t - open_one.latest_ns > _SAME_ID_NS or open_one.answered_ns >= 0:
            former = self._by_name.get(by_name)
            again = former is not None and former.answered_ns < 0 and t - former.latest_ns <= _PATIENCE_NS
            open_one = former if again else None
        if open_one is not None:
            open_one.tries, open_one.latest_ns = open_one.tries + 1, t
        else:
            word = dns.TYPES.get(kind) or f"TYPE{kind}"
            open_one = Lookup(self._carried[flow], self._texts[sender], self._texts[receiver], self._name(k), word, UNANSWERED, t, point=point, latest_ns=t)
            self.found.append(open_one)
        self._by_id[by_id] = self._by_name[by_name] = open_one

    def _bytes(self, k: int, at: int, end: int) -> bytes:
        source = self._payload.sources[self._source[k]]
        assert source is not None
        return bytes(source[at:end])

    def _name(self, k: int) -> str:
        """The name of a question."""
        if not self._name_end[k]:
            message = dns.parse(self._payload.of_packet(int(self._rows[k])))
            return message.name if message is not None else ""
        raw, at, labels = self._bytes(k, self._name_at[k], self._name_end[k]), 0, []
        while at < len(raw) and raw[at]:
            labels.append(raw[at + 1 : at + 1 + raw[at]])
            at += 1 + raw[at]
        return b".".join(labels).decode("latin-1").lower() or "."

    def _addresses(self, k: int) -> tuple[str, ...]:
        found = []
        for at, octets in zip(self._places[k][: self._count[k]], self._octets[k], strict=False):
            packed = self._bytes(k, at, at + octets)
            if packed not in self._address:
                self._address[packed] = str(ipaddress.ip_address(packed))
            found.append(self._address[packed])
        return tuple(found)


class _Leases:
    """DHCP at one point: each message of a client with what came back."""

    def __init__(self, point: int) -> None:
        self._point = point
        self._open: dict[tuple[str, int], Lookup] = {}
        self._hops: dict[int, int] = {}
        self.rows: list[Lookup] = []

    def take(self, t: int, data: bytes, ends: tuple[str, int, str, int]) -> None:
        """One packet."""
        message = dhcp.parse(data)
        if message is None:
            return
        key = (message.hardware, message.transaction)
        found = self._open.get(key)
        if message.kind in dhcp.ASKS:
            if found is not None and found.kind == message.kind and found.answered_ns < 0:
                if self._hops.get(id(found), 0) == message.hops:  # A relay's copy is no further try.
                    found.tries, found.latest_ns = found.tries + 1, t
                return
            lookup = Lookup("dhcp", message.hardware, message.server or ends[2], message.address, message.kind, UNANSWERED, t, point=self._point, latest_ns=t)
            self._open[key] = lookup
            self._hops[id(lookup)] = message.hops
            self.rows.append(lookup)
        elif found is not None and found.answered_ns < 0 and message.kind in dhcp.ASKS[found.kind]:
            found.answered_ns, found.outcome, found.server = t, message.kind, message.server or ends[0]
            found.name = message.address or found.name


class _SignOns:
    """RADIUS at one point."""

    def __init__(self, point: int) -> None:
        self._point = point
        self._open: dict[tuple[str, int, str, int], tuple[Lookup, bytes]] = {}
        self.rows: list[Lookup] = []

    def take(self, t: int, data: bytes, ends: tuple[str, int, str, int]) -> None:
        """One packet."""
        message = radius.parse(data)
        if message is None:
            return
        sender, port, receiver, other = ends
        if message.ask:
            key = (sender, port, receiver, message.id)
            former = self._open.get(key)
            if former is not None and former[1] == message.authenticator and former[0].answered_ns < 0:
                former[0].tries, former[0].latest_ns = former[0].tries + 1, t
                return
            lookup = Lookup("radius", end_text(sender, port), end_text(receiver, other), message.user, message.ask, UNANSWERED, t, point=self._point, latest_ns=t)
            self._open[key] = (lookup, message.authenticator)
            self.rows.append(lookup)
            return
        open_one = self._open.get((receiver, other, sender, message.id))
        if open_one is not None and open_one[0].answered_ns < 0:
            open_one[0].answered_ns, open_one[0].outcome = t, message.answer


def find_lookups(capture: Capture, payload: Payload, starts: Array, order: Array, connections: Array, messages: Messages) -> Lookups:
    """All look-ups of a capture. starts, order, connections: as arranged; messages: for those that went on over TCP."""
    with collector_resting():
        return _find(capture, payload, starts, order, connections, messages)


def _find(capture: Capture, payload: Payload, starts: Array, order: Array, connections: Array, messages: Messages) -> Lookups:
    carried = _candidates(capture, payload)
    packets, flows, ends = capture.packets, capture.conversations, _Ends(capture)
    names = {flow: protocol for flow, protocol in carried.items() if protocol in ("dns", "mdns")}
    found = _Names(capture, payload, _rows_of(capture, names), names).found if names else []
    made: dict[tuple[str, int], _Leases | _SignOns] = {}
    for row in _rows_of(capture, {flow: p for flow, p in carried.items() if flow not in names}).tolist():
        flow = int(packets.flow[row])
        key = (carried[flow], int(flows.point[flow]))
        if key not in made:
            made[key] = _Leases(key[1]) if key[0] == "dhcp" else _SignOns(key[1])
        made[key].take(int(packets.time_ns[row]), payload.of_packet(row), ends.of(row))
    found += [lookup for maker in made.values() for lookup in maker.rows]
    found += _over_tcp(capture, payload, starts, order, connections, messages, found)
    return Lookups(_once(sorted(found, key=lambda lookup: lookup.asked_ns)))


def _rows_of(capture: Capture, flows: dict[int, str]) -> Array:
    """Packets of some conversations, in order of time."""
    packets = capture.packets
    mark = np.zeros(capture.conversations.point.size + 1, bool)
    mark[list(flows)] = True
    rows = np.flatnonzero(mark[packets.flow] & (packets.payload_bytes > 0)) if flows else np.empty(0, np.int64)
    return rows[np.argsort(packets.time_ns[rows], kind="stable")]


def _over_tcp(capture: Capture, payload: Payload, starts: Array, order: Array, connections: Array, messages: Messages, over_udp: list[Lookup]) -> list[Lookup]:
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
            short = [u for u in over_udp if u.truncated and (u.client, u.name, u.kind, u.point) == (client, name, kind, point) and 0 <= asked - u.answered_ns <= _FALLBACK_NS]
            if short:
                short[-1].answered_ns, short[-1].outcome, short[-1].truncated = answered, outcome, False
            else:
                found.append(Lookup("dns", client, server, name, kind, outcome, asked, answered, point=point, latest_ns=asked))
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
