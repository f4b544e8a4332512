"""Tests on purpose over a period: how each went, the worst first."""

from dataclasses import dataclass

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Float64s, Int64s
from yaffle.history.layout import (
    DAY_NS,
    HOUR_NS,
    PROBE_LEVELS,
    PROBES,
    HistoryError,
    counting,
    ends_of,
    files_between,
    folders,
    sums_of,
)
from yaffle.history.probe_rows import LOST, every_column
from yaffle.history.probe_sums import BIN_COUNTS, BINS, probe_files, summed
from yaffle.history.store import History
from yaffle.history.wait_rows import quantile
from yaffle.quantiles import median, p95

_MOST_ROWS = 500_000  # single results; of more than that, hours are told
_BEST_MOS = 4.5
_PARTS = (PROBE_LEVELS[:1], PROBE_LEVELS[1:])  # single results, sums


@dataclass(frozen=True)
class ProbeCourse:
    """One test, of one direction where it has two: a point a result, or one an interval of many results.

    trips_ms, mos: NaN where none was measured; of an interval the median of the round trips, and the mean score.
    """

    name: str
    kind: str
    target: str
    direction: str
    width_ns: int  # of the intervals that points stand for; 0: single results
    times_ns: Int64s
    trips_ms: Float64s
    mos: Float64s
    asked: Int64s  # results a point
    went_well: Int64s  # of them
    lost_percent: Float64s  # mean
    rate_bps: Float64s  # of speed, mean; NaN where none was measured
    median_ms: float  # of all round trips; NaN of none
    p95_ms: float
    worst_mos: float  # that 95 of 100 results reach, of intervals the least; NaN of none
    last_why: str

    @property
    def sent(self) -> int:
        """How often it was asked."""
        return int(self.asked.sum())

    @property
    def well(self) -> Array:
        """Of each point, whether all went well."""
        return np.asarray(self.went_well == self.asked)

    @property
    def failed_share(self) -> float:
        """Of those sent, what did not go well."""
        return float(1 - self.went_well.sum() / self.sent) if self.sent else 0.0

    @property
    def median_bps(self) -> float:
        """Median throughput (of intervals, of their means); NaN where none was measured."""
        return median(self.rate_bps[np.isfinite(self.rate_bps)])

    @property
    def shows_quality(self) -> bool:
        """Whether it has opinion scores and no round trips."""
        return bool(not np.isfinite(self.trips_ms).any() and np.isfinite(self.mos).any())


def probe_courses(history: History | None, first_ns: int, last_ns: int) -> list[ProbeCourse] | None:
    """All tests of a period, those that fail most first, then those that rose most above their median or sound
    worst; None where nothing is tested. Raises HistoryError.
    """
    if history is None or not any(folders(history.folder / level.name) for level in PROBE_LEVELS):
        return None
    width_ns = _width_ns(history, first_ns, last_ns)
    table = (
        _sums(history, width_ns, first_ns, last_ns) if width_ns else _results(history, first_ns, last_ns)
    )  # Rows of one test and direction stand together.
    if table is None or not table.num_rows:
        return []
    names = [f"{a}\n{b}" for a, b in zip(table["name"].to_pylist(), table["direction"].to_pylist(), strict=True)]
    begins = [k for k, name in enumerate(names) if not k or name != names[k - 1]]
    ends = [*begins[1:], len(names)]
    parts = [table.slice(begin, end - begin) for begin, end in zip(begins, ends, strict=True)]
    found = [_of_sums(part, width_ns) if width_ns else _of_results(part) for part in parts]
    return sorted(found, key=lambda one: (-one.failed_share, -_risen(one), one.name, one.direction))


def _width_ns(history: History, first_ns: int, last_ns: int) -> int:
    """Of the intervals by which a period is told: 0 for single results, while there are not too many and all are
    kept.
    """
    kept = folders(history.folder / PROBES)
    for level in PROBE_LEVELS[1:]:
        summed = folders(history.folder / level.name)
        older = summed and summed[0][0] < last_ns and (not kept or summed[0][0] + DAY_NS <= kept[0][0])
        if older and (not kept or first_ns < kept[0][0]):
            return level.width_ns
    return HOUR_NS if history.row_count(files_between(history.folder, PROBES, first_ns, last_ns)) > _MOST_ROWS else 0


def _results(history: History, first_ns: int, last_ns: int) -> pa.Table | None:
    return history.told(
        lambda: files_between(history.folder, PROBES, first_ns, last_ns),
        "SELECT name, kind, target, coalesce(direction, '') AS direction, at_ns, round_trip_ms, mos, bps, ok, why,"
        f" {LOST} AS lost FROM {every_column('told')}"
        f" WHERE at_ns >= {int(first_ns)} AND at_ns <= {int(last_ns)} ORDER BY name, direction, at_ns",
    )


def _sums(history: History, width_ns: int, first_ns: int, last_ns: int) -> pa.Table:
    level = next(one for one in PROBE_LEVELS if one.width_ns == width_ns)
    begin_ns = first_ns // width_ns * width_ns
    try:
        parts = probe_files(history.folder, level, begin_ns, last_ns + 1)
        table = summed(parts, width_ns, begin_ns, last_ns + 1)
    except (duckdb.Error, pa.ArrowException) as error:
        raise HistoryError(f"{history.folder} cannot be read: {error}") from error
    return table.sort_by([("name", "ascending"), ("direction", "ascending"), ("time_ns", "ascending")])


def _of_results(part: pa.Table) -> ProbeCourse:
    trips, mos, lost, rate = (_figures(part, key) for key in ("round_trip_ms", "mos", "lost", "bps"))
    known, scores = trips[np.isfinite(trips)], mos[np.isfinite(mos)]
    whys = [why for why in part["why"].to_pylist() if why]
    well = part["ok"].to_numpy(zero_copy_only=False).astype(np.int64)
    return ProbeCourse(
        *_names(part), 0, part["at_ns"].to_numpy(), trips, mos, np.ones_like(well), well, lost, rate,
        median(known), p95(known), -p95(-scores), whys[-1] if whys else "",
    )  # fmt: skip


def _of_sums(part: pa.Table, width_ns: int) -> ProbeCourse:
    cells = [
        (np.array(bins or [], np.int64), np.array(counts or [], np.int64))
        for bins, counts in zip(part[BINS].to_pylist(), part[BIN_COUNTS].to_pylist(), strict=True)
    ]
    trips = np.array([quantile(bins, counts, 0.5) for bins, counts in cells]) / 1e6
    held = np.concatenate([bins for bins, _ in cells])
    bins, places = np.unique(held, return_inverse=True)
    counts = np.bincount(places, np.concatenate([own for _, own in cells]), bins.size).astype(np.int64)
    middle, high = (quantile(bins, counts, share) / 1e6 for share in (0.5, 0.95))
    mos, lost, rate = (_mean(part, name) for name in ("mos", "lost_percent", "bps"))
    least = _figures(part, "mos_min")
    whys = [why for why in part["last_why"].to_pylist() if why]
    nan = float("nan")
    return ProbeCourse(
        *_names(part), width_ns, part["time_ns"].to_numpy(), np.where(trips >= 0, trips, nan), mos,
        part["sent"].to_numpy(), part["well"].to_numpy(), lost, rate, middle if middle >= 0 else nan,
        high if high >= 0 else nan, float(np.nanmin(least)) if np.isfinite(least).any() else nan,
        whys[-1] if whys else "",
    )  # fmt: skip


def _names(part: pa.Table) -> tuple[str, str, str, str]:
    first = part.slice(0, 1).to_pylist()[0]
    return first["name"], first["kind"], first["target"], first["direction"]


def _figures(part: pa.Table, key: str) -> Float64s:
    return np.asarray(part[key].to_numpy(zero_copy_only=False).astype(np.float64))


def _mean(part: pa.Table, name: str) -> Float64s:
    results = _figures(part, f"{name}_results")
    return np.where(results > 0, _figures(part, f"{name}_sum") / np.maximum(1, results), np.nan)


def _risen(one: ProbeCourse) -> float:
    if one.shows_quality:
        return _BEST_MOS / one.worst_mos
    return one.p95_ms / one.median_ms if one.median_ms > 0 else 0.0


def probe_names(history: History) -> list[str]:
    """The tests of the first and the last hours, and of the first and last days that are kept in sums; where one has
    two directions, each of them, too. Raises HistoryError.
    """
    single, summed_ = (
        [one for level in levels for one in ends_of(history.folder / level.name, 2)] for levels in _PARTS
    )
    files = [path for folder in single for path in counting(folder)]
    files += [path for folder in summed_ for path in sums_of(folder)]
    query = "SELECT DISTINCT name, coalesce(direction, '') AS direction FROM told ORDER BY ALL"
    table = history.told(lambda: files, query) if files else None
    pairs = list(zip(*(column.to_pylist() for column in table.columns), strict=True)) if table is not None else []
    return sorted({name for name, _ in pairs} | {f"{name} {way}".strip() for name, way in pairs})
