"""What the traffic is made of, by any dimension, with share and trend; and where a name for it came from."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array, Bools, Int32s, Int64s, Int64s2, Uint32s
from yaffle.capture.addresses import Labels
from yaffle.capture.packets import MARK_BROADCAST, MARK_MULTICAST
from yaffle.capture.registry import marking, protocol_name
from yaffle.inventory.places import Places
from yaffle.kernels import int64, kernel
from yaffle.session.evidence import Evidence
from yaffle.session.expressions import also, literal, only

DIMENSIONS = ("application", "host", "pair", "port", "protocol", "DSCP", "VLAN", "cast type")
NEXT = {
    "application": "host",
    "host": "pair",
    "pair": "port",
    "port": "pair",
    "protocol": "application",
    "DSCP": "application",
    "VLAN": "application",
    "cast type": "application",
}
TREND = 24
_TCP = 6


@dataclass(frozen=True)
class Part:
    """One line of a make-up."""

    label: str
    octets: int
    packets: int
    share: float
    trend: Int64s  # bytes in TREND equal stretches of the period
    told: str = ""  # how the name was found, where that is a question
    where: str = ""  # the filter that selects it; empty where exchanges have no column for it


@dataclass(frozen=True)
class _Dimension:
    """Numbers of labels: of each packet, or of each conversation (then a row more, for packets of none)."""

    texts: list[str]
    of_flow: tuple[Array, ...] = ()  # several where a conversation counts for several labels
    of_packet: Int64s | None = None
    where: Callable[[int], str] = lambda _code: ""  # the filter that selects a label


def _host(places: Places, address: str) -> str:
    """First label of the name and the site, or the address."""
    return f"{places.short(address)}, {places.site(address)}" if address in places.names else address


def _dimension(evidence: Evidence, by: str) -> _Dimension:
    packets, flows = evidence.analysis.capture.packets, evidence.analysis.capture.conversations
    client, server = evidence.flow_client, evidence.flow_server
    if by == "application":
        known = evidence.flow_application.texts
        table = _and_none(evidence.flow_application.codes, len(known))
        return _Dimension(
            [*known, "not IP"], (table,), where=lambda k: only("application", known[k]) if k < len(known) else ""
        )
    if by == "host":
        both = Labels(np.concatenate([client.codes, server.codes + len(client.texts)]), [*client.texts, *server.texts])
        apart = both.named(lambda address: _host(evidence.places, address))
        one, two = apart.codes[: client.codes.size], apart.codes[client.codes.size :]
        none = len(apart.texts)
        addresses: dict[int, list[str]] = {}
        for key in np.unique(apart.codes * len(both.texts) + both.codes).tolist():
            addresses.setdefault(key // len(both.texts), []).append(both.texts[key % len(both.texts)])
        return _Dimension(
            [*apart.texts, "not IP"],
            (_and_none(one, none), np.append(np.where(two == one, -1, two), -1)),
            where=lambda k: _either(addresses.get(k, [])),
        )
    if by == "pair":
        keys, codes = np.unique(client.codes * (len(server.texts) + 1) + server.codes, return_inverse=True)
        pairs = [divmod(key, len(server.texts) + 1) for key in keys.tolist()]
        texts = [
            f"{_host(evidence.places, client.texts[a])} – {evidence.places.short(server.texts[b])}" for a, b in pairs
        ]
        ends = [(client.texts[a], server.texts[b]) for a, b in pairs]
        return _Dimension(
            [*texts, "not IP"],
            (_and_none(codes, len(texts)),),
            where=lambda k: also(only("client", ends[k][0]), only("server", ends[k][1])) if k < len(ends) else "",
        )
    if by == "port":
        keys, codes = np.unique(flows.protocol.astype(np.int64) * 65536 + flows.b_port, return_inverse=True)
        texts = [f"{protocol_name(key // 65536)} {key % 65536}" for key in keys.tolist()]
        ports = keys.tolist()
        return _Dimension(
            [*texts, "not IP"],
            (_and_none(codes, len(texts)),),
            where=lambda k: (
                only("server_port", ports[k] % 65536) if k < len(ports) and ports[k] // 65536 == _TCP else ""
            ),
        )
    if by == "cast type":
        codes = np.where(packets.marks & MARK_BROADCAST, 2, np.where(packets.marks & MARK_MULTICAST, 1, 0))
        return _Dimension(["unicast", "multicast", "broadcast"], of_packet=codes)
    column = {"DSCP": packets.tos >> 2, "VLAN": packets.vlan, "protocol": packets.protocol}[by]
    seen = np.flatnonzero(np.bincount(column, minlength=1))
    number = np.zeros(int(seen.max()) + 1 if seen.size else 1, np.int64)
    number[seen] = np.arange(seen.size)
    names = {
        "DSCP": marking,
        "VLAN": lambda v: f"VLAN {v}" if v else "untagged",
        "protocol": protocol_name,
    }[by]
    filters: dict[str, Callable[[int], str]] = {
        "DSCP": lambda k: only("dscp", marking(int(seen[k]))),
        "VLAN": lambda k: only("vlan", int(seen[k])),
        "protocol": lambda _k: "",
    }
    return _Dimension([names(int(k)) for k in seen], of_packet=number[column], where=filters[by])


def _either(addresses: list[str]) -> str:
    """Exchanges in which a host takes part, whatever its role."""
    return " or ".join(f"{literal(address)} in (client, server)" for address in dict.fromkeys(addresses))


def _and_none(codes: Int64s, none: int) -> Int64s:
    """The codes of conversations, and one more for packets of none (row -1)."""
    return np.append(codes, none)


@kernel
def _add_up(group: Int32s | Int64s, wire_bytes: Uint32s, mask: Bools, octets: Int64s, counts: Int64s) -> None:
    """Bytes and packets of each group; group -1 counts as the last."""
    for i in range(group.size):
        if mask[i]:
            octets[group[i]] += wire_bytes[i]
            counts[group[i]] += 1


@kernel
def _trend(
    group: Int32s | Int64s,
    tables: Int64s2,
    time_ns: Int64s,
    wire_bytes: Uint32s,
    mask: Bools,
    first_ns: int,
    span_ns: int,
    sums: Int64s2,
) -> None:
    """Bytes over the period of the rows that each group counts for, by each of the tables (-1: none)."""
    bins = sums.shape[1]
    scale = bins / span_ns
    for i in range(group.size):
        if mask[i]:
            after = time_ns[i] - first_ns
            if 0 <= after <= span_ns:
                column = min(bins - 1, int64(after * scale))
                for t in range(tables.shape[0]):
                    k = tables[t, group[i]]
                    if k >= 0:
                        sums[k, column] += wire_bytes[i]


def within(evidence: Evidence, mask: Bools, by: str, label: str) -> Bools:
    """The packets of the mask that belong to one line of a make-up."""
    dimension = _dimension(evidence, by)
    if label not in dimension.texts:
        return np.zeros_like(mask)
    code = dimension.texts.index(label)
    if dimension.of_packet is not None:
        return np.asarray(mask & (dimension.of_packet == code))
    member = np.logical_or.reduce([codes == code for codes in dimension.of_flow])
    return np.asarray(mask & member[evidence.analysis.capture.packets.flow])


def make_up(
    evidence: Evidence, packets: Bools | None, by: str, most: int = 200, period: tuple[int, int] | None = None
) -> list[Part]:
    """The packets (a mask; all that count where None) by one of DIMENSIONS, largest first."""
    columns = evidence.analysis.capture.packets
    mask = evidence.packet_counts if packets is None else packets
    dimension = _dimension(evidence, by)
    labels = len(dimension.texts)
    group = columns.flow if dimension.of_packet is None else dimension.of_packet
    tables = np.stack(dimension.of_flow) if dimension.of_packet is None else np.arange(labels)[None, :]
    of_group, packets_of_group = np.zeros(tables.shape[1], np.int64), np.zeros(tables.shape[1], np.int64)
    _add_up(group, columns.wire_bytes, mask, of_group, packets_of_group)
    octets, counts = np.zeros(labels, np.int64), np.zeros(labels, np.int64)
    for table in tables:
        held = table >= 0
        octets += np.bincount(table[held], of_group[held], labels).astype(np.int64)
        counts += np.bincount(table[held], packets_of_group[held], labels).astype(np.int64)
    order = np.argsort(-octets, kind="stable")[:most]
    order = order[counts[order] > 0]
    place = np.full(labels + 1, -1, np.int64)
    place[order] = np.arange(order.size)
    trends = np.zeros((order.size, TREND), np.int64)
    first, last = period or (evidence.first_ns, evidence.last_ns)
    _trend(group, place[tables], columns.time_ns, columns.wire_bytes, mask, first, max(1, last - first), trends)
    total = max(1, int(of_group.sum()))
    told = evidence.told if by == "application" else {}
    return [
        Part(
            dimension.texts[k],
            int(octets[k]),
            int(counts[k]),
            float(octets[k] / total),
            trends[row],
            told.get(dimension.texts[k], ""),
            dimension.where(k),
        )
        for row, k in enumerate(order.tolist())
    ]
