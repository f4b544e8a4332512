"""What is held for some time (an address, a place behind a port), as intervals that go on over restarts."""

from dataclasses import dataclass, field

import pyarrow as pa

from yaffle.history.layout import REFRESH_NS, Table

GAP_NS = 600 * 10**9  # Absent for longer, it is another interval: what is not used is forgotten and learnt again.

Held = tuple[str, ...]  # what is held, by the columns of its table


@dataclass
class _Interval:
    from_ns: int
    to_ns: int
    written_ns: int


@dataclass
class HeldIntervals:
    """What one device holds, and since when. table: one of TABLES, of intervals."""

    table: Table
    device: str
    gap_ns: int = GAP_NS
    _open: dict[Held, _Interval] = field(default_factory=dict)

    def go_on(self, former: pa.Table, now_ns: int) -> None:
        """Takes over what a former run saw last, where that is not long ago. former: rows of the table."""
        for row in former.to_pylist():
            if row["device"] == self.device and 0 <= now_ns - row["to_ns"] <= self.gap_ns:
                self._open[tuple(row[name] for name in self._names)] = _Interval(
                    row["from_ns"], row["to_ns"], row["to_ns"]
                )

    def seen(self, held: set[Held], now_ns: int) -> pa.Table:
        """What has to be written of a look: what is new, and now and then that something is still there."""
        told = []
        for one in sorted(held):
            own = self._open.get(one)
            if own is None or now_ns - own.to_ns > self.gap_ns or now_ns < own.from_ns:  # A clock that was set back.
                own = self._open[one] = _Interval(now_ns, now_ns, now_ns - REFRESH_NS)
            own.to_ns = max(own.to_ns, now_ns)
            if now_ns - own.written_ns >= REFRESH_NS:
                own.written_ns = now_ns
                told.append((one, own))
        for one in [one for one, own in self._open.items() if now_ns - own.to_ns > self.gap_ns]:
            del self._open[one]
        return self._rows(told)

    def last(self) -> pa.Table:
        """All that was still open, with when it was seen last."""
        return self._rows([(one, own) for one, own in self._open.items() if own.to_ns > own.written_ns])

    @property
    def _names(self) -> tuple[str, ...]:
        """The columns of what is held."""
        return self.table.same[1:-1]  # Between device and beginning.

    def _rows(self, told: list[tuple[Held, _Interval]]) -> pa.Table:
        texts = {name: [one[k] for one, _ in told] for k, name in enumerate(self._names)}
        times = {"from_ns": [own.from_ns for _, own in told], "to_ns": [own.to_ns for _, own in told]}
        columns = {name: pa.array(values, pa.string()) for name, values in texts.items()}
        columns |= {name: pa.array(values, pa.int64()) for name, values in times.items()}
        return pa.table({"device": pa.array([self.device] * len(told), pa.string()), **columns})
