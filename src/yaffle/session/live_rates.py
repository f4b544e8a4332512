"""Rates of this host's interfaces over the last seconds, from snapshots that follow each other."""

from collections import deque
from dataclasses import dataclass
from typing import Any

OVER_S = (2, 10, 40)
_KEPT_NS = (OVER_S[-1] + 5) * 10**9
_PACKETS_S = 10
Row = dict[str, Any]


@dataclass(frozen=True)
class LiveRate:
    """One interface. Rates of bits over each of OVER_S; of packets and what is wrong over ten seconds."""

    name: str
    speed_bps: int
    in_bps: tuple[float, ...]
    out_bps: tuple[float, ...]
    in_packets: float  # a second: for this host alone, broadcasts among them
    in_multicast: float
    out_packets: float
    errors: int  # and discards, in those ten seconds


class LiveRates:
    """Snapshots of the last seconds."""

    def __init__(self) -> None:
        self._seen: deque[dict[str, Row]] = deque()  # by interface, the newest last

    def add(self, rows: list[Row]) -> None:
        """Another snapshot; the same one again, or one of another host begun anew, changes nothing or begins anew."""
        if not rows:
            return
        now = {row["name"]: row for row in rows}
        time_ns = rows[0]["time_ns"]
        if self._seen:
            last = next(iter(self._seen[-1].values()))
            if time_ns == last["time_ns"]:
                return
            if time_ns < last["time_ns"] or rows[0]["interrupts"] < last["interrupts"]:
                self._seen.clear()
        self._seen.append(now)
        while next(iter(self._seen[0].values()))["time_ns"] < time_ns - _KEPT_NS:
            self._seen.popleft()

    def _rise(self, name: str, column: str, seconds: int) -> tuple[int, float]:
        """(what a counter rose by over about so many seconds, how long that was)."""
        now = self._seen[-1][name]
        begun = now
        for seen in self._seen:
            if name in seen and seen[name]["time_ns"] >= now["time_ns"] - (seconds + 0.5) * 1e9:
                begun = seen[name]
                break
        return max(0, now[column] - begun[column]), (now["time_ns"] - begun["time_ns"]) / 1e9

    def _rate(self, name: str, column: str, seconds: int) -> float:
        risen, span = self._rise(name, column, seconds)
        return risen / span if span > 0 else 0.0

    @property
    def rows(self) -> list[LiveRate]:
        """Every interface, the busiest first."""
        found = []
        for name, row in self._seen[-1].items() if self._seen else ():
            into, out = (
                tuple(8 * self._rate(name, f"{way}_octets", seconds) for seconds in OVER_S) for way in ("in", "out")
            )
            wrong = ("in_errors", "out_errors", "in_discards", "out_discards")
            found.append(
                LiveRate(
                    name,
                    row["speed_bps"],
                    into,
                    out,
                    self._rate(name, "in_unicast", _PACKETS_S),
                    self._rate(name, "in_multicast", _PACKETS_S),
                    self._rate(name, "out_unicast", _PACKETS_S),
                    sum(self._rise(name, column, _PACKETS_S)[0] for column in wrong),
                )
            )
        return sorted(found, key=lambda one: -max(*one.in_bps, *one.out_bps))

    @property
    def interrupts(self) -> tuple[float, float]:
        """Interrupts a second, and soft interrupts that work on packets, over ten seconds."""
        if not self._seen:
            return 0.0, 0.0
        name = next(iter(self._seen[-1]))
        return self._rate(name, "interrupts", _PACKETS_S), self._rate(name, "soft_interrupts", _PACKETS_S)
