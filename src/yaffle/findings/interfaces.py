"""How full interfaces were: utilization in and out against their speed, errors and discards, worst first.

Utilization is bits over an interval by what the interface can carry in it (RFC 2863 counters, both directions apart).
"""

from dataclasses import dataclass

import numpy as np

from yaffle.analysis import Analysis
from yaffle.arrays import Array, Float64s, Int64s, Structs
from yaffle.capture.addresses import Labels
from yaffle.records.counter_table import Counters, rises

TREND = 24
OVER = 0.8  # Utilization from which on an interface is called full.


@dataclass(frozen=True)
class InterfaceUse:
    """One interface of one device in the period. Utilization is nan where its speed is not known."""

    device: str
    number: int
    name: str
    speed_bps: int
    mean_bps: tuple[float, float]  # in, out
    peak_bps: tuple[float, float]  # of one reading to the next
    peak_ns: tuple[int, int]  # the interval of the higher of the two
    over_ns: int  # for how long it was over the limit, in or out
    errors: int
    errors_known: bool  # whether its device counts them
    discards: int
    trend: Float64s  # of the fuller direction, bits/s in TREND stretches
    middles_ns: Int64s
    bps: tuple[Array, Array]  # in and out at those
    errors_at: Int64s  # how many at those, both directions
    discards_at: Int64s

    @property
    def utilization(self) -> float:
        """The highest, in or out."""
        return max(self.peak_bps) / self.speed_bps if self.speed_bps > 0 else float("nan")

    @property
    def full_period(self) -> tuple[int, int]:
        """The stretch around its fullest moment in which it stayed over the limit."""
        full = np.maximum(*self.bps) > OVER * self.speed_bps
        worst = int(np.argmax(np.maximum(*self.bps)))
        before, after = np.flatnonzero(~full[:worst]), np.flatnonzero(~full[worst:])
        first, stop = int(before[-1]) + 1 if before.size else 0, worst + int(after[0]) if after.size else full.size
        half = int(np.median(np.diff(self.middles_ns))) // 2 if self.middles_ns.size > 1 else 30 * 10**9
        return int(self.middles_ns[first]) - half, int(self.middles_ns[max(first, stop - 1)]) + half

    @property
    def direction(self) -> str:
        """The busier direction."""
        return "inbound" if self.peak_bps[0] > self.peak_bps[1] else "outbound"


@dataclass(frozen=True)
class Interfaces:
    """All of them, worst first."""

    rows: list[InterfaceUse]
    resets: int  # steps at which a device began anew, left out
    width_ns: int = 0  # where one reading of each such interval was looked at; 0: all of them


def readings(analysis: Analysis, first_ns: int, last_ns: int) -> Counters:
    """All readings of counters that concern a period, from tables, captures and a history. Raises HistoryError."""
    found = Counters(devices=list(analysis.flows.counters.devices), names=dict(analysis.flows.counters.names))
    found.rows = analysis.flows.counters.rows
    if analysis.history is not None:
        found.add(analysis.history.readings(first_ns, last_ns))
    for exporter in analysis.flows.exporters:  # What sampling agents name in their options.
        if exporter.address in found.devices:
            device = found.device(exporter.address)
            found.names = {**{(device, number): name for number, name in exporter.interfaces.items()}, **found.names}
    return found


def interface_labels(counters: Counters, steps: Structs) -> Labels:
    """Device and interface of readings, as text."""
    keys, codes = np.unique(steps["device"].astype(np.int64) << 40 | steps["interface"], return_inverse=True)
    return Labels(
        codes,
        [f"{counters.devices[key >> 40]} {counters.name(key >> 40, key & ((1 << 40) - 1))}" for key in keys.tolist()],
    )


def interfaces(analysis: Analysis, first_ns: int, last_ns: int) -> Interfaces:
    """Every interface with readings in the period."""
    counters = readings(analysis, first_ns, last_ns)
    steps, resets = rises(counters.rows)
    steps = steps[(steps["last_ns"] > first_ns) & (steps["first_ns"] < last_ns)]
    if not steps.size:
        return Interfaces([], resets, counters.width_ns)
    key = steps["device"].astype(np.int64) << 40 | steps["interface"]
    starts = np.flatnonzero(np.concatenate([[True], np.diff(key) != 0]))
    found = [
        _interface(counters, steps[a:b], first_ns, last_ns)
        for a, b in zip(starts.tolist(), [*starts[1:].tolist(), steps.size], strict=True)
    ]
    return Interfaces(
        sorted(found, key=lambda one: (-np.nan_to_num(one.utilization, nan=-1.0), -max(one.peak_bps))),
        resets,
        counters.width_ns,
    )


def through(analysis: Analysis, interface: InterfaceUse) -> tuple[int, tuple[tuple[str, str], ...]]:
    """The exporter that tells what went through an interface in its fuller direction, and the step down to it; -1
    where none does.
    """
    for number, exporter in enumerate(analysis.flow_tellers):
        if exporter.address == interface.device and exporter.flow_records:
            name = exporter.interfaces.get(interface.number, f"interface {interface.number}")
            into = interface.direction == "inbound"
            return number, ((f"interface {'in' if into else 'out'}", f"{'into' if into else 'out of'} {name}"),)
    return -1, ()


def _interface(counters: Counters, steps: Structs, first_ns: int, last_ns: int) -> InterfaceUse:
    spans = (steps["last_ns"] - steps["first_ns"]) / 1e9
    both = [np.maximum(0, steps[f"{way}_octets"]) * 8 / spans for way in ("in", "out")]
    speed = int(steps["speed_bps"].max())
    higher = both[0] if both[0].max() > both[1].max() else both[1]
    worst = int(np.argmax(higher))
    over = np.maximum(both[0], both[1]) > OVER * speed if speed > 0 else np.zeros(steps.size, bool)
    middles = (steps["first_ns"] + steps["last_ns"]) // 2
    place = np.clip((middles - first_ns) * TREND // max(1, last_ns - first_ns), 0, TREND - 1)
    weights = np.bincount(place, spans, TREND)
    trend = np.bincount(place, higher * spans, TREND) / np.maximum(weights, 1e-9)
    device, number = int(steps["device"][0]), int(steps["interface"][0])
    errors, discards = (
        sum(np.maximum(0, steps[f"{way}_{kind}"]) for way in ("in", "out")) for kind in ("errors", "discards")
    )
    total = max(1e-9, float(spans.sum()))
    return InterfaceUse(
        counters.devices[device],
        number,
        counters.name(device, number),
        speed,
        (float((both[0] * spans).sum() / total), float((both[1] * spans).sum() / total)),
        (float(both[0].max()), float(both[1].max())),
        (int(steps["first_ns"][worst]), int(steps["last_ns"][worst])),
        int(((steps["last_ns"] - steps["first_ns"])[over]).sum()),
        int(errors.sum()),
        bool((steps["in_errors"] >= 0).any()),
        int(discards.sum()),
        trend,
        middles,
        (both[0], both[1]),
        errors,
        discards,
    )
