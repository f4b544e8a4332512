"""Look-ups of names over UDP (RFC 1035), read in place by the quick way; what it leaves goes the plain way.

A question asked again while the first is open (the same identifier, or the same client, name and type under another one
within the patience of a resolver) is one more try of the same look-up.
"""

import ipaddress
import secrets
from typing import Any

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.addresses import Labels, client_labels, server_labels
from yaffle.capture.captured import Capture
from yaffle.exchanges.lookup import UNANSWERED, Lookup
from yaffle.exchanges.name_scan import NONE, ODD, READ, empty_seen, scan_names
from yaffle.exchanges.payload import Payload
from yaffle.protocols import dns

_PATIENCE_NS = 6_000_000_000  # Resolvers ask again after one to five seconds.
_SAME_ID_NS = 30_000_000_000
_NUMBERS = {word: number for number, word in dns.TYPES.items()}


def seen_names(rows: Array, payload: Payload) -> Array:
    """What the packets say of names, by the quick way."""
    seen = empty_seen(rows.size)
    for number, source in enumerate(payload.sources):
        if source is not None:
            scan_names(rows, payload.packets, number, np.asarray(source), seen)
    return seen


_SEED = np.uint64(secrets.randbits(64))  # So that nobody can make keys fall together on purpose.


def _mixed(key: Array, *columns: Array) -> Array:
    """One number for a name and what else tells its question from others, uint64 (n,)."""
    found = key ^ _SEED
    for column in columns:
        found = (found ^ column.astype(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        found ^= found >> np.uint64(29)
    return found


class Names:
    """Look-ups of names over UDP, at all points."""

    def __init__(self, capture: Capture, payload: Payload, rows: Array, carried: dict[int, str]) -> None:
        self._payload = payload
        self._views: list[Any] = [memoryview(source) if source is not None else memoryview(b"") for source in payload.sources]  # type: ignore[arg-type]
        self._carried = carried
        self._by_id: dict[int, Lookup] = {}
        self._by_name: dict[int, Lookup] = {}
        self._address: dict[bytes, str] = {}
        self.found: list[Lookup] = []
        packets, flows = capture.packets, capture.conversations
        seen = seen_names(rows, payload)
        clients, servers = client_labels(flows, np.arange(flows.point.size)), server_labels(flows, np.arange(flows.point.size))
        hosts = Labels(np.concatenate([clients.codes, servers.codes + len(clients.texts)]), [*clients.texts, *servers.texts]).named(str)
        self._texts = hosts.texts
        flow, forward = packets.flow[rows], packets.direction[rows] == 0
        a, b = hosts.codes[: flows.point.size][flow], hosts.codes[flows.point.size :][flow]
        ports = flows.a_port[flow].astype(np.int64), flows.b_port[flow].astype(np.int64)
        self._name_at, self._name_end = seen["name"].tolist(), seen["name_end"].tolist()
        self._seen, self._count = seen, seen["addresses"].tolist()
        self._place, self._size = seen["at"][:, 0].tolist(), seen["octets"][:, 0].tolist()  # of the first address; most have no other
        self._source = packets.source[rows].tolist()
        self._rows = rows
        answers = (seen["flags"] & 0x8000) != 0
        asker = np.where(forward != answers, a, b), np.where(forward != answers, ports[0], ports[1])
        point = flows.point[flow].astype(np.int64)
        kind, key = seen["kind"].astype(np.int64), seen["key"].astype(np.uint64)
        for k in np.flatnonzero(seen["how"] == ODD).tolist():  # What the quick way leaves.
            message = dns.parse(payload.of_packet(int(rows[k])))
            seen["how"][k] = READ if message is not None else NONE
            if message is not None:
                kind[k], key[k] = _NUMBERS.get(message.kind, 0), hash(message.name) & 0xFFFFFFFFFFFFFFFF
        by_id, by_name = _mixed(key, asker[0], asker[1], seen["id"].astype(np.int64), point), _mixed(key, asker[0], kind, point)
        columns = (packets.time_ns[rows], seen["how"], seen["flags"], kind, by_id, by_name, np.where(forward, a, b), np.where(forward, b, a), flow, point)
        for k, (t, how, flags, word, one, two, sender, receiver, own, at) in enumerate(zip(*(column.tolist() for column in columns), strict=True)):
            if how == READ:
                self._take(k, t, flags, word, one, two, sender, receiver, own, at)

    def _take(self, k: int, t: int, flags: int, kind: int, by_id: int, by_name: int, sender: int, receiver: int, flow: int, point: int) -> None:
        """One message. One call a packet: its arguments are not packed."""
        if flags & 0x8000:
            found = self._by_id.get(by_id)
            if found is not None and found.answered_ns < 0:
                found.answered_ns, found.server = t, self._texts[sender]
                found.outcome, found.truncated = dns.CODES.get(flags & 15) or f"RCODE{flags & 15}", bool(flags & 0x200)
                if self._count[k]:
                    found.addresses = self._addresses(k)
            return
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
        found: bytes = self._views[self._source[k]][at:end].tobytes()
        return found

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
        if self._count[k] == 1:
            return (self._text(k, self._place[k], self._size[k]),)
        count = self._count[k]
        return tuple(self._text(k, at, octets) for at, octets in zip(self._seen["at"][k, :count].tolist(), self._seen["octets"][k, :count].tolist(), strict=True))

    def _text(self, k: int, at: int, octets: int) -> str:
        packed = self._bytes(k, at, at + octets)
        text = self._address.get(packed)
        if text is None:
            text = self._address[packed] = str(ipaddress.ip_address(packed))
        return text
