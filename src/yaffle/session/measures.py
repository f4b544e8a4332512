"""Measures over time that the user composes: what is counted, of which connections, in which intervals."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from yaffle.arrays import Bools, Float64s, Int64s, Uint8s, Uint32s
from yaffle.exchanges.lookup import Lookup
from yaffle.kernels import kernel
from yaffle.session import catalogue_values
from yaffle.session.former_words import present_filter, present_measure
from yaffle.session.interval_sums import interval_of
from yaffle.session.scene import Scene
from yaffle.transport import kinds

MOST_INTERVALS = 100_000
MARKS = ("line", "steps", "stacked")
_AUTO = 400

_REPEATS = (
    kinds.REPEAT_TIMEOUT,
    kinds.REPEAT_AFTER,
    kinds.REPEAT_FAST,
    kinds.REPEAT_TAIL,
    kinds.REPEAT_OPEN,
    kinds.REPEAT_CLOSE,
)
# (name, kinds) of troubles, by what the segments are.
TROUBLES: tuple[tuple[str, tuple[int, ...]], ...] = (
    ("retransmissions", _REPEATS),
    ("out of order", (kinds.OUT_OF_ORDER,)),
    ("duplicates", (kinds.COPY,)),
    ("duplicate acks", (kinds.DUPLICATE_ACK,)),
    ("zero-window probes", (kinds.WINDOW_PROBE,)),
    ("resets", (kinds.RESET,)),
)
# The columns of the filter that tell whether a connection had them.
TROUBLE_COLUMNS = {
    "retransmissions": "retransmissions", "out of order": "out_of_order", "duplicates": "duplicates",
    "duplicate acks": "duplicate_acks",
    "zero-window probes": "zero_window_ms", "resets": "resets",
    "timeouts": "timeouts", "fast retransmissions": "fast_retransmissions", "tail loss probes": "tail_probes",
    "retransmissions after timeout": "after_timeout",
}  # fmt: skip
# Retransmissions by what set them off.
RETRANSMISSIONS: dict[str, tuple[tuple[int, ...], str]] = {
    "timeouts": (
        (kinds.REPEAT_TIMEOUT, kinds.REPEAT_OPEN),
        "retransmission timers that expired, a second, SYN included",
    ),
    "fast retransmissions": ((kinds.REPEAT_FAST,), "fast retransmissions a second (RFC 5681, RFC 6675)"),
    "tail loss probes": ((kinds.REPEAT_TAIL,), "tail loss probes a second"),
    "retransmissions after timeout": (
        (kinds.REPEAT_AFTER,),
        "segments retransmitted with the rest of a window after a timeout, a second",
    ),
}
_SEGMENTS = (
    dict(TROUBLES)
    | {name: group for name, (group, _) in RETRANSMISSIONS.items()}
    | {
        "new connections": (kinds.OPEN,),
        "TCP issues": tuple(k for name, group in TROUBLES if name != "duplicate acks" for k in group),
    }
)
_PARTY = {"waiting for the client": 0, "waiting for the network": 1, "waiting for the server": 2}

# What can be counted: unit, and its meaning.
COUNTED: dict[str, tuple[str, str]] = {
    "volume": ("bit/s", "bytes on the wire, as a rate"),
    "payload": ("bit/s", "payload of transport, as a rate"),
    "packets": ("1/s", "packets a second"),
    "TCP issues": (
        "1/s",
        "retransmissions, out-of-order segments, duplicates, zero-window probes and resets a second",
    ),
    **{name: ("1/s", f"segments a second: {name}") for name, _ in TROUBLES},
    **{name: ("1/s", meaning) for name, (_, meaning) in RETRANSMISSIONS.items()},
    "new connections": ("1/s", "SYNs a second, retransmitted ones apart"),
    "exchanges": ("1/s", "exchanges begun a second"),
    "clients": ("", "clients that began an exchange in the interval"),
    "concurrent waits": ("waits", "waits under way at once: total wait begun in the interval, divided by its length"),
    **{name: ("waits", f"concurrent waits: {name}") for name in _PARTY},
    "median wait": ("s", "of the exchanges begun in the interval"),
    "max wait": ("s", "of the exchanges begun in the interval"),
    "median server time": ("s", "server time of the exchanges begun in the interval, median"),
    "median network time": ("s", "network time of the exchanges begun in the interval, median"),
    "median connect time": (
        "s",
        "from the first SYN to the client's acknowledgement, of the connections with exchanges begun in the interval",
    ),
    "retransmission rate": ("%", "retransmitted segments, of all segments with payload in the interval"),
    "clients affected": ("%", "clients that waited a second or longer at once, of all that waited in the interval"),
    "DNS response time": ("s", "median of the DNS lookups in the interval, of all hosts"),
    "DHCP response time": ("s", "median of the DHCP requests in the interval, of all hosts"),
    "RADIUS response time": ("s", "median of the RADIUS requests in the interval, of all hosts"),
}
_MEDIANS = {"median server time": 2, "median network time": 1}
LATENCIES = {
    "DNS response time": ("dns", "mdns"),
    "DHCP response time": ("dhcp", "dhcpv6"),
    "RADIUS response time": ("radius",),
}
_AFFECTED_NS = 1_000_000_000


@dataclass(frozen=True)
class Measure:
    """One line over time. `filter` is an expression over the columns of exchanges; it selects their connections."""

    name: str
    counted: str
    filter: str = ""
    mark: str = "line"
    of: str = ""  # of measures of the catalogue: host, device, interface, application

    @property
    def unit(self) -> str:
        """Unit of its values."""
        return catalogue_values.BY_TITLE[self.counted].unit if self.is_kept else COUNTED[self.counted][0]

    @property
    def is_kept(self) -> bool:
        """Whether it is one of the catalogue: worked out from what a history keeps, not from exchanges."""
        return self.counted in catalogue_values.BY_TITLE and self.counted not in COUNTED

    def as_json(self) -> dict[str, str]:
        """For the case."""
        told = {"name": self.name, "counted": self.counted, "filter": self.filter, "mark": self.mark}
        return told | ({"of": self.of} if self.of else {})

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> "Measure | None":
        """The reverse; None where it is not understood."""
        name, counted, text, mark = (str(data.get(key, "")) for key in ("name", "counted", "filter", "mark"))
        former, counted = counted, present_measure(counted)
        if counted not in COUNTED and counted not in catalogue_values.BY_TITLE:
            return None
        name = counted if name in ("", former) else name
        return cls(name, counted, present_filter(text), mark if mark in MARKS else "line", str(data.get("of", "")))


DEFAULT = (Measure("volume", "volume", mark="steps"), Measure("TCP issues", "TCP issues", mark="steps"))


def edges(first_ns: int, last_ns: int, interval_ns: int) -> Int64s:
    """Edges of the intervals, int64 ns. interval_ns 0: as many as a screen shows.

    No more than MOST_INTERVALS: then longer ones.
    """
    span = max(1, last_ns - first_ns)
    bins = _AUTO if interval_ns <= 0 else -(-span // interval_ns)
    if bins > MOST_INTERVALS:
        bins = MOST_INTERVALS
        interval_ns = 0
    if interval_ns > 0:
        return np.asarray(first_ns + np.arange(bins + 1, dtype=np.int64) * interval_ns)
    return first_ns + np.array([k * span // bins for k in range(bins + 1)], np.int64)


@kernel
def _weigh(
    time_ns: Int64s,
    octets: Uint32s,
    kind: Uint8s,
    mask: Bools,
    wanted: Bools,
    by_octets: bool,
    edge_ns: Int64s,
    sums: Int64s,
) -> None:
    """Adds the packets of the wanted kinds to their intervals, which are of nearly one length."""
    bins = sums.size
    first, last = edge_ns[0], edge_ns[bins]
    scale = bins / max(1, last - first)
    for i in range(time_ns.size):
        t = time_ns[i]
        if mask[i] and first <= t <= last and wanted[kind[i]]:
            k = interval_of(edge_ns, scale, t)
            sums[k] += octets[i] if by_octets else 1


def _table(group: tuple[int, ...]) -> Bools:
    return np.isin(np.arange(256) & kinds.KIND_MASK, group)


def counted_packets(
    scene: Scene, mask: Bools, edge_ns: Int64s, group: tuple[int, ...] | None, octets: str = ""
) -> Int64s:
    """Packets of some kinds (all: None) in each interval, or bytes of a column of theirs."""
    packets = scene.evidence.analysis.capture.packets
    sums = np.zeros(edge_ns.size - 1, np.int64)
    wanted = np.ones(256, bool) if group is None else _table(group)
    _weigh(
        packets.time_ns,
        np.ascontiguousarray(getattr(packets, octets or "wire_bytes")),
        packets.kind,
        mask,
        wanted,
        bool(octets),
        edge_ns,
        sums,
    )
    return sums


def values(scene: Scene, measure: Measure, edge_ns: Int64s) -> Float64s:
    """One value an interval, in the measure's unit; nan where there is none. Raises FilterError or
    HistoryError.
    """
    if measure.is_kept:
        by = catalogue_values.dimension(measure.counted, measure.of)
        return catalogue_values.over_time(scene.evidence, measure.counted, by, measure.of, edge_ns)
    spans_s = np.diff(edge_ns) / 1e9
    rows = scene.rows
    if measure.filter:
        rows = rows[scene.filter.rows(measure.filter)[rows]]
    if measure.counted in ("volume", "payload", "packets") or measure.counted in _SEGMENTS:
        mask = scene.packets_of(rows) if measure.filter else scene.packets
        if measure.counted == "volume":
            return np.asarray(counted_packets(scene, mask, edge_ns, None, "wire_bytes") * 8 / spans_s)
        if measure.counted == "payload":
            return np.asarray(counted_packets(scene, mask, edge_ns, None, "payload_bytes") * 8 / spans_s)
        return np.asarray(counted_packets(scene, mask, edge_ns, _SEGMENTS.get(measure.counted)) / spans_s)
    if measure.counted == "retransmission rate":
        mask = scene.packets_of(rows) if measure.filter else scene.packets
        mask = mask & (scene.evidence.analysis.capture.packets.payload_bytes > 0)
        whole = counted_packets(scene, mask, edge_ns, None)
        again = counted_packets(scene, mask, edge_ns, _SEGMENTS["retransmissions"])
        return np.where(whole > 0, 100.0 * again / np.maximum(1, whole), np.nan)
    if measure.counted in LATENCIES:
        return latencies(asked(scene, measure.counted), edge_ns)
    return _of_waits(scene, rows, measure.counted, edge_ns)


def asked(scene: Scene, counted: str) -> list[Lookup]:
    """The answered questions that one of LATENCIES is about."""
    return [
        one
        for one in scene.evidence.analysis.lookups.rows
        if one.protocol in LATENCIES[counted] and one.latency_ns >= 0
    ]


def latencies(rows: list[Lookup], edge_ns: Int64s) -> Float64s:
    """Median latency of some questions in each interval, s."""
    return _medians(
        np.array([one.asked_ns for one in rows], np.int64),
        np.array([one.latency_ns for one in rows], np.int64) / 1e9,
        edge_ns,
    )


def _medians(time_ns: Int64s, amounts: Float64s, edge_ns: Int64s, *, greatest: bool = False) -> Float64s:
    """The median (of two in the middle the upper one) or the greatest in each interval; nan where there is none."""
    inside = (time_ns >= edge_ns[0]) & (time_ns <= edge_ns[-1])
    time_ns, amounts = time_ns[inside], amounts[inside]
    bins = edge_ns.size - 1
    place = np.clip(np.searchsorted(edge_ns, time_ns, "right") - 1, 0, bins - 1)
    found = np.full(bins, np.nan)
    order = np.lexsort((amounts, place))
    sizes = np.bincount(place, minlength=bins)
    ends, some = np.cumsum(sizes), sizes > 0
    found[some] = amounts[order][(ends - 1 if greatest else ends - sizes + sizes // 2)[some]]
    return found


def _of_waits(scene: Scene, rows: Int64s, counted: str, edge_ns: Int64s) -> Float64s:
    waits, bins = scene.evidence.waits, edge_ns.size - 1
    first = waits.first_ns[rows]
    inside = (first >= edge_ns[0]) & (first <= edge_ns[-1])
    rows, first = rows[inside], first[inside]
    place = np.clip(np.searchsorted(edge_ns, first, "right") - 1, 0, bins - 1)
    spans_s = np.diff(edge_ns) / 1e9
    if counted == "exchanges":
        return np.asarray(np.bincount(place, minlength=bins) / spans_s)
    if counted == "concurrent waits" or counted in _PARTY:
        weight = waits.wait_ns[rows] if counted == "concurrent waits" else waits.parties[rows, _PARTY[counted]]
        return np.asarray(np.bincount(place, weight, bins) / 1e9 / spans_s)
    if counted == "clients":
        client = scene.evidence.client.codes[waits.connection[rows]]
        pairs = np.unique(place * (int(client.max()) + 1 if client.size else 1) + client)
        return np.bincount(pairs // (int(client.max()) + 1 if client.size else 1), minlength=bins).astype(float)
    if counted == "clients affected":
        client = scene.evidence.client.codes[waits.connection[rows]]
        key, bad = place * (int(client.max(initial=0)) + 1) + client, waits.wait_ns[rows] >= _AFFECTED_NS
        every, hit = (
            np.bincount(np.unique(some) // (int(client.max(initial=0)) + 1), minlength=bins) for some in (key, key[bad])
        )
        return np.where(every > 0, 100.0 * hit / np.maximum(1, every), np.nan)
    if counted == "median connect time":
        took = scene.evidence.analysis.account.fact("handshake_ns")[waits.connection[rows]]
        return _medians(first[took >= 0], took[took >= 0] / 1e9, edge_ns)
    if counted in _MEDIANS:
        return _medians(first, waits.parties[rows, _MEDIANS[counted]] / 1e9, edge_ns)
    return _medians(first, waits.wait_ns[rows] / 1e9, edge_ns, greatest=counted == "max wait")
