"""The whole period at a glance: volume and troubles over time, and what the traffic is made of."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.capture.addresses import Labels
from yaffle.findings.places import Places
from yaffle.kernels import kernel
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
    edges = first_ns + np.array([k * span // bins for k in range(bins + 1)], np.int64)
    octets, counts, troubles = np.zeros(bins, np.int64), np.zeros(bins, np.int64), np.zeros(bins, np.int64)
    mask = evidence.packet_counts if packets is None else packets
    _count_over_time(columns.time_ns, columns.wire_bytes, columns.kind, mask, _IS_TROUBLE, first_ns, span, octets, counts, troubles)
    return Series(edges, octets, counts, troubles)


@kernel
def _count_over_time(time_ns, wire_bytes, kind, mask, is_trouble, first_ns, span_ns, octets, counts, troubles):  # type: ignore[no-untyped-def]
    bins = octets.size
    scale = bins / span_ns
    for i in range(time_ns.size):
        after = time_ns[i] - first_ns
        if mask[i] and 0 <= after <= span_ns:
            k = min(bins - 1, np.int64(after * scale))
            octets[k] += wire_bytes[i]
            counts[k] += 1
            if is_trouble[kind[i]]:
                troubles[k] += 1


def trouble_counts(evidence: Evidence, packets: Array) -> list[tuple[str, int]]:
    """How many of each trouble, most first."""
    kind = evidence.analysis.capture.packets.kind[packets] & kinds.KIND_MASK
    counts = np.bincount(kind, minlength=32)
    return sorted(((name, int(sum(counts[k] for k in group))) for name, group in TROUBLES), key=lambda item: -item[1])


def _host(places: Places, address: str) -> str:
    """First label of the name and the site, or the address."""
    return f"{places.short(address)}, {places.site(address)}" if address in places.names else address


@kernel
def _count_by_flow(flow, wire_bytes, mask, octets, counts):  # type: ignore[no-untyped-def]
    for i in range(flow.size):
        if mask[i]:
            octets[flow[i] + 1] += wire_bytes[i]
            counts[flow[i] + 1] += 1


def make_up(evidence: Evidence, packets: Array | None, by: str, most: int = 200) -> list[Part]:
    """The packets (a mask; all that count where None) by application, host or pair, largest first."""
    capture = evidence.analysis.capture
    flows = capture.conversations
    octets, counts = np.zeros(flows.point.size + 1, np.int64), np.zeros(flows.point.size + 1, np.int64)
    _count_by_flow(capture.packets.flow, capture.packets.wire_bytes, evidence.packet_counts if packets is None else packets, octets, counts)
    total = max(1, int(octets.sum()))
    outside = (octets[0], counts[0])
    octets, counts = octets[1:], counts[1:]
    client, server = evidence.flow_client, evidence.flow_server
    if by == "host":
        both = np.concatenate([client.codes, server.codes + len(client.texts)])
        apart = Labels(both, [*client.texts, *server.texts]).named(lambda address: _host(evidence.places, address))
        codes, texts, octets, counts = apart.codes, apart.texts, np.tile(octets, 2), np.tile(counts, 2)
    elif by == "application":
        codes, texts = evidence.flow_application.codes, evidence.flow_application.texts
    else:
        pair, codes = np.unique(client.codes * (len(server.texts) + 1) + server.codes, return_inverse=True)
        texts = []
        for key in pair.tolist():
            one, two = divmod(key, len(server.texts) + 1)
            texts.append(f"{_host(evidence.places, client.texts[one])} – {evidence.places.short(server.texts[two])}")
    octets_of, packets_of = (np.bincount(codes, values, len(texts)) for values in (octets, counts)) if codes.size else (np.zeros(0), np.zeros(0))
    order = np.argsort(-octets_of, kind="stable")[:most]
    parts = [Part(texts[k], int(octets_of[k]), int(packets_of[k]), float(octets_of[k] / total)) for k in order.tolist() if packets_of[k]]
    if outside[1] and by != "host":
        parts.append(Part("not IP", int(outside[0]), int(outside[1]), float(outside[0] / total)))
    return sorted(parts, key=lambda p: -p.octets)[:most]
