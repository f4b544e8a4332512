"""Measures of the catalogue over time: what hosts and devices told, interfaces' counters, what kernels measured of
their
connections. By the titles under which they are chosen.
"""

from collections.abc import Iterator

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array, Float64s, Int64s
from yaffle.findings.flow_labels import FlowLabels
from yaffle.findings.flow_source import held_flows
from yaffle.findings.interfaces import interface_labels, readings
from yaffle.quantiles import median
from yaffle.records.catalogue import CATALOGUE, COUNTERS, OF_READINGS, PROBES, READINGS, RECORDS, WAITS, Entry
from yaffle.records.counter_table import COUNTS, rises
from yaffle.records.flow_table import ADDITIVE, SOCKETS
from yaffle.records.measure import TOTAL
from yaffle.session import kept_measures, kept_stretches
from yaffle.session.evidence import Evidence
from yaffle.session.probe_courses import probe_courses, probe_names

TEST = "test"
THING = "host or device"  # what readings are of: a device and what of it
_FLOWS_BY = ("", "application", "host", "pair", "site", "site pair")
_BUSY = "busy_ns"
_OF_BUSY = {"receiver_limited": "receiver_limited_ns", "sender_limited": "sender_limited_ns"}
_TRIPS = {"round_trip": "round_trip_ns", "round_trip_min": "floor_ns"}
_MEASURED = ("retransmissions", "timeouts", *_OF_BUSY, *_TRIPS)


_TRADE = {
    "retransmissions": "retransmission rate", "round_trip": "RTT", "round_trip_min": "minimum RTT",
    "receiver_limited": "receive-window-limited time", "sender_limited": "send-buffer-limited time",
    "test_mos": "test MOS", "wlan_retries": "WLAN retries", "wlan_signal": "WLAN signal", "wlan_snr": "WLAN SNR",
    "wlan_rate": "WLAN data rate", "wlan_airtime": "WLAN airtime", "wlan_busy": "WLAN channel utilization",
    "wlan_stations": "WLAN stations", "wlan_roams": "WLAN roams", "wlan_failures": "WLAN failures",
}  # fmt: skip


def title(entry: Entry) -> str:
    """Under which name it is chosen: others that are worked out from packets have some of the names, too."""
    words = _TRADE.get(entry.name, entry.name.replace("_", " "))
    return {WAITS: f"{words} over months", RECORDS: f"{words} of flow records", COUNTERS: f"{words} of interfaces"}.get(
        entry.table, words
    )


BY_TITLE = {title(entry): entry for entry in CATALOGUE.values() if entry.table == READINGS}
BY_TITLE |= {
    title(entry): entry for entry in CATALOGUE.values() if entry.table in (WAITS, PROBES, *kept_stretches.TABLES)
}
BY_TITLE |= {title(entry): entry for entry in CATALOGUE.values() if entry.name in COUNTS}
BY_TITLE |= {title(entry): entry for entry in CATALOGUE.values() if entry.table == RECORDS and entry.name in _MEASURED}


def titles(analysis: Analysis) -> list[str]:
    """Those of which the evidence may hold something."""
    history = analysis.history
    found = []
    if history is not None:
        kernels = any(exporter.protocol == SOCKETS for exporter in history.exporters) or _are_measured(analysis)
        found += [name for name, entry in BY_TITLE.items() if entry.table == RECORDS and kernels]
        found += [name for name, entry in BY_TITLE.items() if entry.table == WAITS and history.waits.span is not None]
        tested = bool(probe_names(history))
        found += [name for name, entry in BY_TITLE.items() if entry.table == PROBES and tested]
        for table in kept_stretches.TABLES:
            if kept_stretches.are_kept(history, table):
                found += [name for name, entry in BY_TITLE.items() if entry.table == table]
    if analysis.flows.counters.rows.size or (history is not None and history.counters.devices):
        found += [name for name, entry in BY_TITLE.items() if entry.table == COUNTERS]
    if history is not None and history.has_readings:
        told = {measure for _, _, measure in history.reading_names()}
        found += [name for name, entry in BY_TITLE.items() if entry.table == READINGS and entry.name in told]
    return found


def _are_measured(analysis: Analysis) -> bool:
    return bool(analysis.flows.rows.size) and bool((analysis.flows.rows[_BUSY] >= 0).any())


def dimensions(name: str) -> tuple[str, ...]:
    """By what a measure can be grouped."""
    table = BY_TITLE[name].table
    own = {WAITS: kept_measures.GROUPS, COUNTERS: ("interface",), PROBES: (TEST,)}
    if table in kept_stretches.TABLES:
        return BY_TITLE[name].groups
    return own.get(table, _FLOWS_BY if table == RECORDS else (THING,))


def choices(analysis: Analysis) -> dict[str, list[str]]:
    """What each measure that a history keeps can be of, by the names it was told: nothing is worked out. Raises
    HistoryError.
    """
    history = analysis.history
    if history is None:
        return {}
    told = history.reading_names() if history.has_readings else []
    counters = history.counters
    ports = sorted(f"{counters.devices[device]} {counters.name(device, port)}" for device, port in counters.names)
    found: dict[str, list[str]] = {}
    for name in titles(analysis):
        entry = BY_TITLE[name]
        if entry.table == READINGS:
            found[name] = sorted(_thing(device, place) for device, place, measure in told if measure == entry.name)
        else:
            found[name] = ports if entry.table == COUNTERS else []
            if entry.table == PROBES:
                found[name] = probe_names(history)
            if entry.table in kept_stretches.TABLES:
                found[name] = kept_stretches.names(history, entry)
            if entry.table == WAITS:
                found[name] = kept_measures.applications(history, analysis.places)
    return found


def dimension(name: str, label: str) -> str:
    """The one by which a label names a group, where only the label is told."""
    table = BY_TITLE[name].table
    if table in (RECORDS, WAITS):
        return "application" if label else ""
    return dimensions(name)[0]


def groups(evidence: Evidence, name: str, by: str) -> list[str]:
    """The groups of a measure, those with most first where that is a question of much. Raises HistoryError."""
    entry = BY_TITLE[name]
    history = evidence.analysis.history
    if entry.table == READINGS:
        told = history.reading_names() if history is not None else []
        return sorted(_thing(device, place) for device, place, measure in told if measure == entry.name)
    if entry.table == COUNTERS:
        counters = readings(evidence.analysis, evidence.first_ns, evidence.last_ns)
        steps, _ = rises(counters.rows)
        labels = interface_labels(counters, steps)
        sums = np.bincount(labels.codes, np.maximum(0, steps[entry.name]), len(labels.texts))
        return [labels.texts[k] for k in np.argsort(-sums, kind="stable").tolist()]
    if entry.table == WAITS:
        return kept_measures.groups(evidence, by)
    if entry.table == PROBES:
        return probe_names(history) if history is not None else []
    if entry.table in kept_stretches.TABLES:
        by = by or entry.groups[0]
        found = history and kept_stretches.groups(history, entry, by, evidence.first_ns, evidence.last_ns)
        return found or []
    if not by:
        return []
    held = held_flows(evidence.analysis, evidence.first_ns, evidence.last_ns)
    rows = held.rows[held.rows[_BUSY] >= 0]
    labels = FlowLabels(held, rows, evidence.places).by(by)
    packets = np.bincount(labels.codes, rows["packets"].astype(np.float64), len(labels.texts))
    return [labels.texts[k] for k in np.argsort(-packets, kind="stable").tolist() if packets[k]]


def over_time(evidence: Evidence, name: str, by: str, label: str, edge_ns: Int64s) -> Float64s:
    """Values of equal intervals; nan where there is none. Raises HistoryError."""
    entry = BY_TITLE[name]
    if entry.table == READINGS:
        return _of_reading(evidence, entry.name, label, edge_ns)
    if entry.table == COUNTERS:
        return _of_counter(evidence, entry.name, label, edge_ns)
    if entry.table == PROBES:
        return _of_tests(evidence, entry.name, label, edge_ns)
    if entry.table in kept_stretches.TABLES:
        history = evidence.analysis.history
        own = kept_stretches.over_time(history, entry, by, label, edge_ns) if history else None
        return own if own is not None else np.full(edge_ns.size - 1, np.nan)
    if entry.table == WAITS:
        return kept_measures.over_time(evidence, entry.name, by, label, edge_ns)
    return _of_flows(evidence, entry.name, by, label, edge_ns)


def _of_tests(evidence: Evidence, name: str, label: str, edge_ns: Array) -> Array:
    """Of a test in each interval: the median of its round trips, rates or scores, or what failed or was lost."""
    found = np.full(edge_ns.size - 1, np.nan)
    courses = probe_courses(evidence.analysis.history, int(edge_ns[0]), int(edge_ns[-1])) or []
    own = [one for one in courses if label in (one.name, f"{one.name} {one.direction}".strip(), "")]
    if not own:
        return found
    figures = {"test_throughput": "rate_bps", "test_mos": "mos"}.get(name, "trips_ms")
    times, values, asked, well, lost = (
        np.concatenate([getattr(one, key) for one in own])
        for key in ("times_ns", figures, "asked", "went_well", "lost_percent")
    )
    place = np.searchsorted(edge_ns, times, "right") - 1
    for k in np.unique(place[(place >= 0) & (place < found.size)]).tolist():
        here = place == k
        if name == "test_failures":
            found[k] = 100 * float(1 - well[here].sum() / asked[here].sum())
        elif name == "loss":
            found[k] = float(np.average(lost[here], weights=asked[here]))
        elif np.isfinite(values[here]).any():
            found[k] = median(values[here][np.isfinite(values[here])])
    return found


def _thing(device: str, place: str) -> str:
    return f"{device} {place}".strip()


def _of_reading(evidence: Evidence, name: str, label: str, edge_ns: Int64s) -> Float64s:
    history, found = evidence.analysis.history, np.full(edge_ns.size - 1, np.nan)
    if history is None:
        return found
    origin_ns = int(edge_ns[0])
    width_ns = max(1, -(-(int(edge_ns[-1]) - origin_ns) // found.size))
    table = history.host_readings(origin_ns, int(edge_ns[-1]), width_ns, (name,), origin_ns)
    if not table.num_rows:
        return found
    own = np.array([_thing(d, o) == label for d, o in zip(
        table["device"].to_pylist(), table["object"].to_pylist(), strict=True)])  # fmt: skip
    place = (table["time_ns"].to_numpy() - origin_ns) // width_ns
    measure = OF_READINGS[name]
    if measure.kind == TOTAL:
        spans = table["span_ns"].fill_null(0).to_numpy()
        scale = 100.0 if measure.unit == "s" else 1.0
        values = scale * table["rise"].fill_null(0).to_numpy() * 1e9 / np.maximum(1, spans)
        own &= spans > 0
    else:
        values = table["mean"].to_numpy()
    own &= (place >= 0) & (place < found.size)
    found[place[own]] = values[own]
    return found


def _of_counter(evidence: Evidence, name: str, label: str, edge_ns: Int64s) -> Float64s:
    """A second: bits of octets, packets of what is counted in packets."""
    counters = readings(evidence.analysis, int(edge_ns[0]), int(edge_ns[-1]))
    steps, _ = rises(counters.rows)
    labels = interface_labels(counters, steps)
    own = steps[(labels.codes == labels.code(label)) & (steps[name] >= 0)] if steps.size else steps
    scale = 8 if name.endswith("octets") else 1
    risen, spans = _sums(edge_ns, (own["first_ns"] + own["last_ns"]) // 2, own[name], own["last_ns"] - own["first_ns"])
    return np.where(spans > 0, scale * risen * 1e9 / np.maximum(1, spans), np.nan)


def _of_flows(evidence: Evidence, name: str, by: str, label: str, edge_ns: Int64s) -> Float64s:
    held = held_flows(evidence.analysis, int(edge_ns[0]), int(edge_ns[-1]))
    rows = held.rows[held.rows[_BUSY] >= 0]
    if by and label and rows.size:
        labels = FlowLabels(held, rows, evidence.places).by(by)
        rows = rows[labels.codes == labels.code(label)]
    middles = (rows["first_ns"] + rows["last_ns"]) // 2
    if name in _TRIPS:
        rows, middles = rows[rows[_TRIPS[name]] >= 0], middles[rows[_TRIPS[name]] >= 0]
        weighted, packets = _sums(edge_ns, middles, rows[_TRIPS[name]] * rows["packets"].astype(float), rows["packets"])
        return np.where(packets > 0, weighted / np.maximum(1, packets) / 1e6, np.nan)
    if name == "timeouts":
        counted, records = _sums(edge_ns, middles, np.maximum(0, rows[name]), rows["records"])
        return np.where(records > 0, counted, np.nan)
    part, whole = (ADDITIVE[0], "packets") if name == "retransmissions" else (_OF_BUSY[name], _BUSY)
    some, all_of_it = _sums(edge_ns, middles, rows[part], rows[whole])
    return np.where(all_of_it > 0, 100 * some / np.maximum(1, all_of_it), np.nan)


def _sums(edge_ns: Array, times_ns: Array, *columns: Array) -> Iterator[Array]:
    """Sums of columns by interval."""
    place = np.searchsorted(edge_ns, times_ns, "right") - 1
    kept = (place >= 0) & (place < edge_ns.size - 1)
    for column in columns:
        yield np.bincount(place[kept], column[kept].astype(np.float64), edge_ns.size - 1)
