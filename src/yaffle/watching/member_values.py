"""The value of a measure in equal intervals, for each member of a group, from the rows of a history.

Of what is counted (volume, packets, records, exchanges) a member that is silent while others are heard has nothing: 0.
Of everything else silence says nothing: NaN.
"""

from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute

from yaffle.arrays import Array, Bools
from yaffle.history.layout import HOUR_NS
from yaffle.history.probe_rows import LOST
from yaffle.history.wait_rows import BIN_COUNTS, BINS, CHARGES, MINUTE_NS, quantile
from yaffle.history.wait_sums import Grouping, text
from yaffle.hops.hop_rows import DROPPED, ON_PATH, PASSED
from yaffle.ledger import causes
from yaffle.radio.air_rows import POINT
from yaffle.records.catalogue import (
    COUNTERS,
    CYCLIC,
    HOPS,
    OF_READINGS,
    PROBES,
    RADIO,
    READINGS,
    RECORDS,
    WAITS,
    Entry,
)
from yaffle.records.measure import TOTAL
from yaffle.watching.steps import SPAN
from yaffle.watching.windows import HOURS_OF_WAITS, Windows

ALL = "all"
_LONGEST_BACK_NS = 3600 * 10**9  # before a period, of what is read for it
_LATE_MINUTE_NS = 120 * 10**9  # A minute of waits is told so much later, at most.
COUNTED = (
    "volume", "packets", "records", "timeouts", "exchange_rate", "waiting", "hop_drops", "hop_packets",
    "wlan_roams", "wlan_failures",
)  # fmt: skip
_FACTS = {
    "retransmissions": ("sum(retransmissions)", "sum(packets) FILTER (retransmissions IS NOT NULL)", 100.0),
    "round_trip": ("sum(round_trip_ns * packets)", "sum(packets) FILTER (round_trip_ns IS NOT NULL)", 1e-6),
    "receiver_limited": ("sum(receiver_limited_ns)", "sum(busy_ns)", 100.0),
    "sender_limited": ("sum(sender_limited_ns)", "sum(busy_ns)", 100.0),
}
_OF_POINTS = f"what = {text(POINT)}"
_GROUPS = {
    RECORDS: {"application": "service", "exporter": "exporter", "host": "src", "peer": "dst", "site": "site",
              "pair": "src || ' to ' || dst", "interface": "interface", "dscp": "'DSCP ' || dscp",
              "transport": "split_part(service, ' ', 1)"},
    COUNTERS: {"interface": "interface", "device": "device"},
    READINGS: {"device": "device", "object": "trim(device || ' ' || object)"},
    PROBES: {"test": "name", "target": "target", "kind": "kind"},
    HOPS: {"queue": "'node ' || node || ' egress ' || coalesce(egress::VARCHAR, 'not told')",
           "node": "'node ' || node", "exporter": "exporter"},
    RADIO: {"access_point": f"CASE WHEN {_OF_POINTS} THEN address || ' ' || network END",
            "station": f"CASE WHEN NOT {_OF_POINTS} THEN address END",
            "network": f"CASE WHEN {_OF_POINTS} THEN network END"},
    CYCLIC: {"stream": "source || ' to ' || destination || ', ' || kind", "end": "source"},
    WAITS: {"application": "application || ' ' || port", "server": "server || ' ' || port", "site": "site",
            "client": "client"},
}  # fmt: skip
# All together: rows that tell of parts of what others tell of do not count.
_ALL_OF = {
    RADIO: f"CASE WHEN {_OF_POINTS} THEN '{ALL}' END",
    HOPS: f"CASE WHEN node IS NOT NULL OR exporter IS NOT NULL THEN '{ALL}' END",
}  # fmt: skip
GROUPS = {table: ("", *groups) for table, groups in _GROUPS.items()}


@dataclass(frozen=True)
class Question:
    """A measure, by which group, of which rows."""

    entry: Entry
    of: str = ""
    where: str = ""

    @property
    def subject(self) -> str:
        """The member that a row belongs to, as SQL."""
        if self.of:
            return _GROUPS[self.entry.table][self.of]
        return _ALL_OF.get(self.entry.table, f"'{ALL}'")

    @property
    def condition(self) -> str:
        """Which rows count, as SQL; a newline keeps a comment in it from swallowing what follows."""
        return f"({self.where}\n)" if self.where else "true"


@dataclass
class Values:
    """By member, (n,) values. told: (n,) whether anything at all was told of the interval, by whomever."""

    of: dict[str, Array]
    told: Bools
    heard: set[str] = field(default_factory=set)  # members of which there is anything in the last interval


def values(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int = 1) -> Values:
    """The values of so many intervals from a moment on. Raises HistoryError, WhereError."""
    found = _READERS[asked.entry.table](windows, asked, first_ns, width_ns, count)
    if asked.entry.name in COUNTED:
        for own in found.of.values():
            own[np.isnan(own) & found.told] = 0.0
    return found


def _place(time: str, first_ns: int, width_ns: int, count: int) -> str:
    """The interval that a moment lies in, its end included, as SQL, whose division cuts towards zero."""
    back = _LONGEST_BACK_NS // width_ns + count + 2
    return f"(({time} - {first_ns} - 1 + {back * width_ns}) // {width_ns} - {back})"


def _filled(table: pa.Table, count: int) -> dict[str, Array]:
    """Columns subject, at, value as an array a subject."""
    found: dict[str, Array] = {}
    columns = (table[name].to_pylist() for name in ("subject", "place", "value"))
    for subject, at, value in zip(*columns, strict=True):
        if subject is not None and 0 <= at < count:
            own = found.get(subject)
            if own is None:
                own = found[subject] = np.full(count, np.nan)
            if value is not None:
                own[at] = value
    return found


def _told(windows: Windows, table: str, time: str, period: tuple[int, int], count: int, early: int = 1) -> Bools:
    """In which of equal intervals of a period anybody told anything. early: 1 where a moment belongs to the interval
    that it ends, 0 where to the one that it begins.
    """
    first_ns, last_ns = period
    times = windows.rows(table, first_ns, last_ns)[time].to_numpy()
    places = (times - first_ns - early) // ((last_ns - first_ns) // count)
    found = np.zeros(count, bool)
    found[places[(places >= 0) & (places < count)]] = True
    return found


def _last(found: dict[str, Array]) -> set[str]:
    return {subject for subject, own in found.items() if own.size and own[-1] == own[-1]}


def _of_records(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int) -> Values:
    last_ns = first_ns + count * width_ns
    period, name = (first_ns, last_ns), asked.entry.name
    at = _place("last_ns", first_ns, width_ns, count)
    told = _told(windows, RECORDS, "last_ns", period, count)
    few = f"(SELECT *, {asked.subject} AS subject FROM told WHERE {asked.condition})"
    if name in ("volume", "packets"):
        what = "octets * 8" if name == "volume" else "packets"
        # A record is spread evenly over its span; each interval gets its share.
        edges = f"unnest(generate_series(0, {count - 1}))" if count > 1 else "0"
        low, high = f"({first_ns} + place * {width_ns})", f"({first_ns} + (place + 1) * {width_ns})"
        share = (
            f"greatest(0, least(last_ns + 1, {high}) - greatest(first_ns, {low}))"
            " / greatest(last_ns - first_ns + 1, 1)::DOUBLE"
        )
        query = (
            f"SELECT subject, place, sum(amount * share) * 1e9 / {width_ns} AS value FROM (SELECT subject, place,"
            f" {what} AS amount, {share} AS share FROM (SELECT *, {edges} AS place FROM {few}))"
            " WHERE share > 0 GROUP BY ALL"
        )
    else:
        value = _value_of_records(name)
        query = f"SELECT subject, CAST({at} AS BIGINT) AS place, {value} AS value FROM {few} GROUP BY ALL"
    found = _filled(windows.asked(RECORDS, *period, query), count)
    return Values(found, told, _last(found))


def _value_of_records(name: str) -> str:
    if name == "records":
        return "sum(records)"
    if name == "timeouts":
        return "sum(timeouts)"
    if name == "round_trip_min":
        return "min(floor_ns) / 1e6"
    over, under, scale = _FACTS[name]
    return f"{scale} * {over} / nullif({under}, 0)"


def _of_steps(windows: Windows, asked: Question, period: tuple[int, int, int], value: str) -> Values:
    """Of what is read now and then: steps from reading to reading, where they end; the last step before an interval
    stands for it while none ends in it and it is as near as that interval is long.
    """
    first_ns, width_ns, count = period
    table = asked.entry.table
    at = _place("time_ns", first_ns, width_ns, count)
    span = (first_ns, first_ns + count * width_ns)
    query = (
        f"SELECT {asked.subject} AS subject, CAST({at} AS BIGINT) AS place, {value} AS value FROM told"
        f" WHERE {asked.condition} GROUP BY ALL"
    )
    found = _filled(_moved(windows.asked(table, *span, query)), count + 1)
    heard = _last(found)  # What stands for an interval was not heard in it.
    for own in found.values():
        own[1:] = np.where(np.isnan(own[1:]), own[:-1], own[1:])
    cut = {subject: own[1:].copy() for subject, own in found.items()}
    return Values(cut, _told(windows, table, "time_ns", span, count), heard)


def _moved(table: pa.Table) -> pa.Table:
    """The interval before the first one is number 0."""
    return table.set_column(1, "place", pa.compute.add(table["place"], 1))


def _of_counters(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int) -> Values:
    name = asked.entry.name
    stepped = Question(asked.entry, asked.of, f"{SPAN} > 0 AND {asked.condition}")
    if name == "utilization":
        rate = "greatest(step_in_octets, step_out_octets) * 8e9 / nullif(span_ns, 0) / nullif(speed_bps, 0)"
        value = f"max(CASE WHEN speed_bps > 0 THEN 100 * {rate} END)"
    else:
        scale = 8e9 if name.endswith("octets") else 1e9
        value = f"sum({scale} * step_{name}) / nullif(sum(span_ns) FILTER (step_{name} IS NOT NULL), 0)"
        if asked.of != "interface":  # of several interfaces: all of them together
            value = f"sum({scale} * step_{name} / span_ns)"
    return _of_steps(windows, stepped, (first_ns, width_ns, count), value)


def _of_readings(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int) -> Values:
    measure = OF_READINGS[asked.entry.name]
    own = Question(asked.entry, asked.of, f"measure = {text(measure.name)} AND {asked.condition}")
    if measure.kind == TOTAL:
        scale = 100e9 if measure.unit == "s" else 1e9
        own = Question(asked.entry, asked.of, f"{SPAN} > 0 AND {own.condition}")
        rose = "step_value IS NOT NULL"
        value = f"{scale} * sum(step_value) / nullif(sum(span_ns) FILTER ({rose}), 0)"
        return _of_steps(windows, own, (first_ns, width_ns, count), value)
    return _of_steps(windows, own, (first_ns, width_ns, count), "avg(value)")


def _of_probes(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int) -> Values:
    value = {
        "test_round_trip": "quantile_disc(round_trip_ms, 0.5)",
        "test_failures": "100.0 * count(*) FILTER (NOT ok) / count(*)",
        "loss": f"avg({LOST})",
        "test_throughput": "quantile_disc(bps, 0.5)",
        "test_mos": "quantile_disc(mos, 0.5)",
    }[asked.entry.name]
    period = (first_ns, first_ns + count * width_ns)
    at = _place("at_ns", first_ns, width_ns, count)
    query = (
        f"SELECT {asked.subject} AS subject, CAST({at} AS BIGINT) AS place, {value} AS value FROM told"
        f" WHERE {asked.condition} GROUP BY ALL"
    )
    found = _filled(windows.asked(PROBES, *period, query), count)
    return Values(found, _told(windows, PROBES, "at_ns", period, count), _last(found))


def stretch_value(entry: Entry) -> str:
    """A measure of what was told of stretches of time, as SQL over rows of its table."""
    air_ns = "sum(air_ns) / nullif(sum(to_ns - time_ns) FILTER (air_ns IS NOT NULL), 0)"
    return {
        "path_delay": f"max(coalesce(delay_max_us, delay_mean_us)) FILTER (what = {text(ON_PATH)})",
        "hop_delay": f"max(delay_max_us) FILTER (what <> {text(ON_PATH)})",
        "queue_depth": "max(queue_max_bytes)",
        "hop_drops": f"sum(packets) FILTER (what = {text(DROPPED)})",
        "hop_packets": f"sum(packets) FILTER (what = {text(PASSED)})",
        "wlan_retries": "100.0 * sum(retries_from + retries_to) / nullif(sum(data_from + data_to), 0)",
        "wlan_signal": "avg(signal_dbm)",
        "wlan_snr": "avg(signal_dbm - noise_dbm)",
        "wlan_rate": "avg(rate_mbps)",
        "wlan_airtime": f"100.0 * {air_ns}",
        "wlan_busy": "avg(busy_percent)",
        "wlan_stations": "max(stations)",
        "wlan_roams": "sum(moves)",
        "wlan_failures": "sum(failures)",
        "cycles_missed": "100.0 * sum(missed) / nullif(sum(packets + missed - doubled), 0)",
        "cycle_jitter": "max(jitter_us)",
        "cycle_gap": "max(longest_gap_ms)",
    }[entry.name]


def _of_stretches(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int) -> Values:
    # A stretch counts for the interval that it ends in.
    period, at = (first_ns, first_ns + count * width_ns), _place("to_ns", first_ns, width_ns, count)
    query = (
        f"SELECT {asked.subject} AS subject, CAST({at} AS BIGINT) AS place,"
        f" {stretch_value(asked.entry)}::DOUBLE AS value FROM told"
        f" WHERE subject IS NOT NULL AND {asked.condition} GROUP BY ALL"
    )
    table = asked.entry.table
    found = _filled(windows.asked(table, *period, query), count)
    return Values(found, _told(windows, table, "to_ns", period, count), _last(found))


_PARTIES = {f"{party}_wait": party for party in (causes.CLIENT, causes.NETWORK, causes.SERVER)}
_QUANTILES = {"wait_median": 0.5, "wait_p95": 0.95}


def _of_waits(windows: Windows, asked: Question, first_ns: int, width_ns: int, count: int) -> Values:
    """Whole minutes that were told: where the last one of a period is not yet, the period ends with the one before."""
    table = HOURS_OF_WAITS if width_ns % HOUR_NS == 0 else WAITS
    lag_ns = _minutes_behind(windows, first_ns + count * width_ns)
    first_ns = (first_ns - lag_ns) // MINUTE_NS * MINUTE_NS
    width_ns = max(MINUTE_NS, width_ns // MINUTE_NS * MINUTE_NS)
    period = (first_ns, first_ns + count * width_ns)
    at = f"(time_ns - {first_ns}) // {width_ns}"
    grouping = Grouping({"subject": asked.subject, "place": f"CAST({at} AS BIGINT)"},
                        f"server <> '' AND {asked.condition}")  # fmt: skip
    found: dict[str, Array] = {}
    for row in windows.asked(table, *period, grouping.query).to_pylist():
        if 0 <= row["place"] < count and row["exchanges"] > 0:
            own = found.setdefault(row["subject"], np.full(count, np.nan))
            own[row["place"]] = wait_value(asked.entry.name, row, width_ns)
    return Values(found, _told(windows, table, "time_ns", period, count, early=0), _last(found))


def _minutes_behind(windows: Windows, last_ns: int) -> int:
    low = last_ns - _LATE_MINUTE_NS - MINUTE_NS
    latest = windows.asked(WAITS, low, last_ns, "SELECT max(time_ns) AS latest FROM told")["latest"][0].as_py()
    return max(0, last_ns - int(latest) - MINUTE_NS) if latest is not None else 0


def wait_value(name: str, row: dict[str, object], width_ns: int) -> float:
    """A measure of waits, from the sums of some minutes (columns of the table `waits`)."""
    figures = {key: value for key, value in row.items() if isinstance(value, int)}
    exchanges = figures["exchanges"]
    if name in _QUANTILES:
        return quantile(np.array(row[BINS] or []), np.array(row[BIN_COUNTS] or []), _QUANTILES[name]) / 1e6
    if name == "exchange_rate":
        return exchanges * 1e9 / width_ns
    if name == "failure_rate":
        return 100 * figures["failures"] / exchanges
    party = _PARTIES.get(name)
    waited = sum(figures[key] for key, (who, _) in zip(CHARGES, causes.CHARGES, strict=True) if party in (None, who))
    return waited / width_ns if name == "waiting" else waited / exchanges / 1e6


_READERS = {
    RECORDS: _of_records, COUNTERS: _of_counters, READINGS: _of_readings, PROBES: _of_probes, WAITS: _of_waits,
    HOPS: _of_stretches, RADIO: _of_stretches, CYCLIC: _of_stretches,
}  # fmt: skip
