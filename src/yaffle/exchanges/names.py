"""Look-ups of names over UDP (RFC 1035), read in place by the quick way; what it leaves goes the plain way.

A question asked again while the first is open (the same identifier, or the same client, name and type under another one
within the patience of a resolver) is one more try of the same look-up.
"""

import ipaddress
import secrets

import numpy as np

from yaffle.arrays import Array, Int64s, Uint64s
from yaffle.capture.addresses import Labels, client_labels, server_labels
from yaffle.capture.captured import Capture
from yaffle.capture.payload import Payload
from yaffle.exchanges.lookup import UNANSWERED, Lookup
from yaffle.exchanges.name_pairs import pair_names
from yaffle.exchanges.name_scan import NONE, ODD, READ, SeenNames, empty_seen, scan_names, spell_names
from yaffle.protocols import dns

_NUMBERS = {word: number for number, word in dns.TYPES.items()}
_SEED = np.uint64(secrets.randbits(64))  # So that nobody can make keys fall together on purpose.


def seen_names(rows: Int64s, payload: Payload) -> SeenNames:
    """What the packets say of names, by the quick way."""
    seen = empty_seen(rows.size)
    for number, source in enumerate(payload.sources):
        if source is not None:
            scan_names(rows, payload.packets, number, np.asarray(source), seen)
    return seen


def _coded(key: Uint64s, *columns: Array) -> Int64s:
    """Small numbers for names with what else tells their questions apart: equal where all of it is."""
    found = key ^ _SEED
    for column in columns:
        found = (found ^ column.astype(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        found ^= found >> np.uint64(29)
    codes: Array = np.unique(found, return_inverse=True)[1]
    return codes


def find_names(capture: Capture, payload: Payload, rows: Int64s, carried: dict[int, str]) -> list[Lookup]:
    """Look-ups of names over UDP, at all points. rows: packets in order of time; carried: the protocol of each
    conversation.
    """
    packets, flows = capture.packets, capture.conversations
    seen = seen_names(rows, payload)
    clients, servers = (
        client_labels(flows, np.arange(flows.point.size)),
        server_labels(flows, np.arange(flows.point.size)),
    )
    hosts = Labels(
        np.concatenate([clients.codes, servers.codes + len(clients.texts)]), [*clients.texts, *servers.texts]
    ).named(str)
    flow, forward = packets.flow[rows], packets.direction[rows] == 0
    a, b = hosts.codes[: flows.point.size][flow], hosts.codes[flows.point.size :][flow]
    ports = flows.a_port[flow].astype(np.int64), flows.b_port[flow].astype(np.int64)
    answers = (seen["flags"] & 0x8000) != 0
    asker, port = np.where(forward != answers, a, b), np.where(forward != answers, ports[0], ports[1])
    point = flows.point[flow].astype(np.int64)
    kind, key = seen["kind"].copy(), seen["key"].astype(np.uint64)
    plain: dict[int, dns.DnsMessage] = {}
    for k in np.flatnonzero(seen["how"] == ODD).tolist():  # What the quick way leaves.
        message = dns.parse(payload.of_packet(int(rows[k])))
        seen["how"][k] = READ if message is not None else NONE
        if message is not None:
            plain[k] = message
            kind[k], key[k] = _NUMBERS.get(message.kind, 0), hash(message.name) & 0xFFFFFFFFFFFFFFFF
    by_id, by_name = _coded(key, asker, port, seen["id"], point), _coded(key, asker, kind, point)
    paired = pair_names(packets.time_ns[rows], seen["how"] == READ, answers, by_id, by_name)
    asked, answered = paired["question"], paired["answer"]
    names = _spelt(seen[asked], rows[asked], payload)
    found_at = np.flatnonzero(answered >= 0)
    addresses = dict(
        zip(found_at.tolist(), _addresses(seen[answered[found_at]], rows[answered[found_at]], payload), strict=True)
    )
    texts, types = hosts.texts, dns.TYPES
    sender = np.where(forward, a, b)
    replier = np.where(answered >= 0, sender[answered], np.where(forward, b, a)[asked])
    told, tries, latest = seen["flags"][answered].tolist(), paired["tries"].tolist(), paired["latest_ns"].tolist()
    columns = (
        flow[asked],
        sender[asked],
        replier,
        kind[asked],
        packets.time_ns[rows[asked]],
        packets.time_ns[rows[answered]],
        point[asked],
        asked,
        answered,
    )
    found = []
    for n, (own, client, server, word, t, back, at, k, reply) in enumerate(
        zip(*(column.tolist() for column in columns), strict=True)
    ):
        name = names[n] if k not in plain else plain[k].name
        kind_text = types.get(word) or f"TYPE{word}"
        silent = reply < 0
        found.append(
            Lookup(
                carried[own], texts[client], texts[server], name, kind_text,
                UNANSWERED if silent else dns.CODES.get(told[n] & 15) or f"RCODE{told[n] & 15}",
                t, -1 if silent else back, tries[n], () if silent else addresses[n], at, latest[n],
                not silent and bool(told[n] & 0x200),
            )
        )  # fmt: skip
    return found


def _spelt(seen: SeenNames, rows: Int64s, payload: Payload) -> list[str]:
    """The names of questions; empty where the quick way could not read one."""
    long = np.maximum(0, seen["name_end"] - seen["name"] - 1)  # Its end is behind the empty label.
    places = np.concatenate([[0], np.cumsum(long)])
    out = np.zeros(int(places[-1]), np.uint8)
    for number, source in enumerate(payload.sources):
        if source is not None:
            spell_names(seen, payload.packets.source[rows] == number, np.asarray(source), places, out)
    whole = out.tobytes().decode("latin-1")
    return [whole[at : end - 1] or "." for at, end in zip(places[:-1].tolist(), places[1:].tolist(), strict=True)]


def _addresses(seen: SeenNames, rows: Int64s, payload: Payload) -> list[tuple[str, ...]]:
    """The addresses that each answer gave."""
    known: dict[bytes, tuple[str, ...]] = {b"": ()}
    views = [memoryview(source) if source is not None else memoryview(b"") for source in payload.sources]  # type: ignore[arg-type]
    found = []
    firsts = seen["at"][:, 0].tolist(), seen["octets"][:, 0].tolist()
    for k, (number, count, at, octets) in enumerate(
        zip(payload.packets.source[rows].tolist(), seen["addresses"].tolist(), *firsts, strict=True)
    ):
        packed = bytes(views[number][at : at + octets]) if count else b""
        own = known.get(packed)
        if own is None:
            own = known[packed] = (str(ipaddress.ip_address(packed)),)
        if count > 1:
            more = zip(seen["at"][k, 1:count].tolist(), seen["octets"][k, 1:count].tolist(), strict=True)
            own += tuple(str(ipaddress.ip_address(bytes(views[number][place : place + size]))) for place, size in more)
        found.append(own)
    return found
