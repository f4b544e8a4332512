"""The whole period at a glance: volume and troubles over time, and what the traffic is made of."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.addresses import client_address, server_address
from yaffle.findings.places import Places
from yaffle.session.evidence import Evidence
from yaffle.transport import kinds

# (name, kinds) of troubles, by what the segments are.
TROUBLES: tuple[tuple[str, tuple[int, ...]], ...] = (
    ("sent again", (kinds.REPEAT_TIMEOUT, kinds.REPEAT_FAST, kinds.REPEAT_TAIL, kinds.REPEAT_OPEN, kinds.REPEAT_CLOSE)),
    ("out of order", (kinds.OUT_OF_ORDER,)),
    ("copies", (kinds.COPY,)),
    ("window probes", (kinds.WINDOW_PROBE,)),
    ("resets", (kinds.RESET,)),
)


@dataclass(frozen=True)
class Series:
    """Volume and troubles per interval."""

    edges_ns: Array  # (n + 1,)
    octets: Array  # (n,)
    packets: Array  # (n,)
    troubles: Array  # (n,) segments that tell of trouble

    @property
    def bits_per_s(self) -> Array:
        """Rate of each interval."""
        return np.asarray(self.octets * 8e9 / np.maximum(1, np.diff(self.edges_ns)))


@dataclass(frozen=True)
class Part:
    """One line of a make-up."""

    label: str
    octets: int
    packets: int
    share: float


def _trouble_table() -> Array:
    table = np.zeros(256, bool)
    wanted = {k for _, group in TROUBLES for k in group}
    for kind in range(256):
        table[kind] = kind & kinds.KIND_MASK in wanted
    return table


_IS_TROUBLE = _trouble_table()


def series(evidence: Evidence, packets: Array | None, first_ns: int, last_ns: int, bins: int) -> Series:
    """Volume and troubles of the packets (a mask; all that count where None)."""
    columns = evidence.analysis.capture.packets
    span = max(last_ns - first_ns, 1)
    edges = first_ns + (np.arange(bins + 1) * span // bins)
    mask = evidence.packet_counts if packets is None else packets
    place = (columns.time_ns - first_ns) * bins // span if span < 1 << 42 else ((columns.time_ns - first_ns) / span * bins).astype(np.int64)
    inside = mask & (place >= 0) & (columns.time_ns <= last_ns)
    place = np.minimum(place[inside], bins - 1)
    octets = np.bincount(place, columns.wire_bytes[inside], bins)
    counts = np.bincount(place, minlength=bins)
    troubles = np.bincount(place, _IS_TROUBLE[columns.kind[inside]], bins)
    return Series(edges, octets, counts, troubles)


def trouble_counts(evidence: Evidence, packets: Array) -> list[tuple[str, int]]:
    """How many of each trouble, most first."""
    kind = evidence.analysis.capture.packets.kind[packets] & kinds.KIND_MASK
    counts = np.bincount(kind, minlength=32)
    return sorted(((name, int(sum(counts[k] for k in group))) for name, group in TROUBLES), key=lambda item: -item[1])


def _host(places: Places, address: str) -> str:
    """First label of the name and the site, or the address."""
    return f"{places.short(address)}, {places.site(address)}" if address in places.names else address


def make_up(evidence: Evidence, packets: Array, by: str, most: int = 200) -> list[Part]:
    """The packets (a mask) by application, host or pair, largest first."""
    capture = evidence.analysis.capture
    flows = capture.conversations
    flow = capture.packets.flow[packets]
    octets = np.bincount(flow + 1, capture.packets.wire_bytes[packets], flows.point.size + 1)
    counts = np.bincount(flow + 1, minlength=flows.point.size + 1)
    total = max(1.0, float(octets.sum()))
    sums: dict[str, list[float]] = {}

    def add(label: str, row: int) -> None:
        entry = sums.setdefault(label, [0.0, 0.0])
        entry[0] += octets[row]
        entry[1] += counts[row]

    places = evidence.places
    if octets[0] and by != "host":
        add("not IP", 0)
    for row in np.flatnonzero(counts[1:]).tolist():
        client, server = client_address(flows, row), server_address(flows, row)
        if by == "application":
            add(places.application(server, int(flows.b_port[row])), row + 1)
        elif by == "host":
            for address in (client, server):
                add(_host(places, address), row + 1)
        else:
            add(f"{places.short(client)} – {places.short(server)}", row + 1)
    parts = [Part(label, int(o), int(n), float(o / total)) for label, (o, n) in sums.items()]
    return sorted(parts, key=lambda p: -p.octets)[:most]
