"""Tests on purpose over a period: how each went, the worst first."""

from dataclasses import dataclass

import numpy as np

from yaffle.arrays import Array
from yaffle.history.layout import HOUR_NS, PROBES, counting, folders
from yaffle.history.probe_rows import LOST
from yaffle.history.store import History
from yaffle.quantiles import median, p95

_MOST_ROWS = 500_000
_BEST_MOS = 4.5


@dataclass(frozen=True)
class ProbeCourse:
    """One test, of one direction where it has two. trips_ms, mos: NaN where none was measured."""

    name: str
    kind: str
    target: str
    direction: str
    times_ns: Array
    trips_ms: Array
    mos: Array
    well: Array
    lost_percent: Array
    last_why: str

    @property
    def sent(self) -> int:
        """How often it was asked."""
        return int(self.well.size)

    @property
    def failed_share(self) -> float:
        """Of those sent, what did not go well."""
        return float(1 - self.well.mean()) if self.well.size else 0.0

    @property
    def known_ms(self) -> Array:
        """Round trips that were measured."""
        return np.asarray(self.trips_ms[np.isfinite(self.trips_ms)])

    @property
    def worst_mos(self) -> float:
        """The opinion score that 95 of 100 results reach; NaN of none."""
        known = self.mos[np.isfinite(self.mos)]
        return -p95(-known)

    @property
    def shows_quality(self) -> bool:
        """Whether it has opinion scores and no round trips."""
        return not self.known_ms.size and bool(np.isfinite(self.mos).any())

    @property
    def median_ms(self) -> float:
        """Median round trip; NaN of none."""
        return median(self.known_ms)

    @property
    def p95_ms(self) -> float:
        """95th percentile of the round trips; NaN of none."""
        return p95(self.known_ms)


def probe_courses(history: History | None, first_ns: int, last_ns: int) -> list[ProbeCourse] | None:
    """All tests of a period, those that fail most first, then those that rose most above their median or sound
    worst; None where nothing is tested. Raises HistoryError.
    """
    if history is None or not folders(history.folder / PROBES):
        return None
    files = [
        path
        for start, folder in folders(history.folder / PROBES)
        if start < last_ns and start + HOUR_NS > first_ns
        for path in counting(folder)
    ]
    if not files:
        return []
    table = history.told(
        lambda: files,
        "SELECT name, kind, target, coalesce(direction, '') AS direction, at_ns, round_trip_ms, mos, ok, why,"
        f" {LOST} AS lost FROM told"
        f" WHERE at_ns >= {int(first_ns)} AND at_ns <= {int(last_ns)} ORDER BY name, direction, at_ns LIMIT"
        f" {_MOST_ROWS}",
    )
    if table is None or not table.num_rows:
        return []
    names = [f"{a}\n{b}" for a, b in zip(table["name"].to_pylist(), table["direction"].to_pylist(), strict=True)]
    begins = [k for k, name in enumerate(names) if not k or name != names[k - 1]]
    ends = [*begins[1:], len(names)]
    found = []
    for begin, end in zip(begins, ends, strict=True):
        part = table.slice(begin, end - begin)
        first = part.slice(0, 1).to_pylist()[0]
        whys = [why for why in part["why"].to_pylist() if why]
        trips, mos = (part[key].to_numpy(zero_copy_only=False).astype(np.float64) for key in ("round_trip_ms", "mos"))
        lost = part["lost"].to_numpy(zero_copy_only=False).astype(np.float64)
        found.append(
            ProbeCourse(
                first["name"], first["kind"], first["target"], first["direction"], part["at_ns"].to_numpy(), trips, mos,
                part["ok"].to_numpy(zero_copy_only=False).astype(bool), lost, whys[-1] if whys else "",
            )
        )  # fmt: skip
    return sorted(found, key=lambda one: (-one.failed_share, -_risen(one), one.name, one.direction))


def _risen(one: ProbeCourse) -> float:
    if one.shows_quality:
        return _BEST_MOS / one.worst_mos
    return one.p95_ms / one.median_ms if one.known_ms.size and one.median_ms > 0 else 0.0


def probe_names(history: History) -> list[str]:
    """The tests of the first and the last hours. Raises HistoryError."""
    held = folders(history.folder / PROBES)
    files = [path for _, folder in {*held[:1], *held[-2:]} for path in counting(folder)]
    table = history.told(lambda: files, "SELECT DISTINCT name FROM told ORDER BY name") if files else None
    return list(table["name"].to_pylist()) if table is not None else []
