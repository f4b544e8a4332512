"""Rows of a history in a period, as the tables that watches, and the conditions of their `where`, speak of.

Each is put into a database that reaches nothing else, so that a condition can only speak of the rows.
"""

import threading
from collections.abc import Callable
from functools import partial
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

from yaffle.capture.addresses import labels_of
from yaffle.capture.registry import protocol_name
from yaffle.cyclic.cycle_rows import SCHEMA as CYCLE_SCHEMA
from yaffle.errors import YaffleError
from yaffle.history.layout import (
    COUNTERS,
    CYCLIC,
    HOPS,
    HOUR_NS,
    LEVELS,
    PROBES,
    RADIO,
    READINGS,
    RECORDS,
    WAITS,
)
from yaffle.history.locked_database import locked_database
from yaffle.history.probe_rows import SCHEMA as PROBE_SCHEMA
from yaffle.history.row_files import RowFiles
from yaffle.history.store import History
from yaffle.history.wait_rows import SCHEMA as WAIT_SCHEMA
from yaffle.history.wait_sums import wait_files
from yaffle.hops.hop_rows import SCHEMA as HOP_SCHEMA
from yaffle.inventory.places import SERVICES, Places
from yaffle.radio.air_rows import SCHEMA as AIR_SCHEMA
from yaffle.records.counter_table import COUNTS, UNKNOWN, Counters
from yaffle.records.flow_table import FLOW, MEASURED
from yaffle.watching.steps import SPAN, Steps

HOURS_OF_WAITS = "waits_1h"
_FINE_NS = 2 * HOUR_NS  # up to which a period is asked of single records
_STEPS_BACK_NS = 900 * 10**9  # before a period, for the reading that its first step begins with
_RECORD_COLUMNS = (
    "exporter", "transport", "ipv6", "dscp", "direction", "src_port", "dst_port", "src_hi", "src_lo", "dst_hi",
    "dst_lo", "ingress", "egress", "application", "first_ns", "last_ns", "packets", "octets", "records", *MEASURED,
)  # fmt: skip


class WhereError(YaffleError):
    """A condition that cannot be used; the text says why."""


class Windows:
    """Periods of one history, each table of a period read once."""

    def __init__(self, history: History) -> None:
        self.history = history
        self.files = RowFiles(history.folder)
        self._held: dict[tuple[str, int, int], pa.Table] = {}
        self._database = locked_database()
        self._lock = threading.Lock()
        self._is_fresh = False

    def forget(self) -> None:
        """What was read of former periods."""
        self._held.clear()
        self._is_fresh = False

    def counters(self, device: int) -> Counters:
        """Who is behind the numbers of devices up to one; looked up once for all that is asked at a time."""
        if not self._is_fresh or device >= len(self.history.counters.devices):
            self.history.ask_who_told()
            self._is_fresh = True
        return self.history.counters

    def asked(self, table: str, first_ns: int, last_ns: int, query: str) -> pa.Table:
        """What a question finds in the rows (`told`) of a period. Raises HistoryError, WhereError.

        Three questions a minute are asked of each watch: what is prepared for the rows of one question costs more than
        the question, so that they are put under their name, and what is found is taken as plain arrays.
        """
        rows = self.rows(table, first_ns, last_ns)
        with self._lock:
            try:
                (statement,) = self._database.extract_statements(query)
                self._database.register("told", rows)
                found = self._database.execute(statement).fetchnumpy()
            except ValueError as error:
                raise WhereError("a condition is one expression") from error
            except duckdb.Error as error:
                raise WhereError(" ".join(str(error).split("\n")[0].split())) from error
            finally:
                self._database.unregister("told")
        return pa.table({name: pa.array(values) for name, values in found.items()})

    def rows(self, table: str, first_ns: int, last_ns: int) -> pa.Table:
        """The rows of a period. Raises HistoryError."""
        key = (table, first_ns, last_ns)
        if key not in self._held:
            self._held[key] = _READERS[table](self, first_ns, last_ns)
        return self._held[key]


def checked(table: str, condition: str) -> None:
    """Raises WhereError where a condition does not fit the columns of a table."""
    database: Any = locked_database()
    try:
        # As it stands first: what closes brackets that it did not open is no condition.
        database.from_arrow(_EMPTY[table]).filter(f"{condition}\n").filter(f"({condition}\n)").fetchall()
    except duckdb.Error as error:
        words = " ".join(str(error).split("\n")[0].split())
        raise WhereError(f"{words}; its columns are {', '.join(_EMPTY[table].column_names)}") from error
    finally:
        database.close()


def _records(windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    """Flow records that touch a period; finer than needed is not asked for."""
    history = windows.history
    level = LEVELS[0] if last_ns - first_ns <= _FINE_NS else history.level_for(first_ns, last_ns)
    found = history.rows(first_ns, last_ns, level, _RECORD_COLUMNS).records
    return _named_records(found.rows, [one.address for one in found.exporters or history.exporters],
                          [one.interfaces for one in found.exporters or history.exporters])  # fmt: skip


def _named_records(rows: Any, exporters: list[str], interfaces: list[dict[int, str]]) -> pa.Table:
    columns: dict[str, Any] = {}
    numbers = pa.array(rows["exporter"])
    columns["exporter"] = pa.array(exporters, pa.string()).take(numbers)
    places = Places({})
    for end in ("src", "dst"):
        labels = labels_of(rows[f"{end}_hi"], rows[f"{end}_lo"], rows["ipv6"])
        columns[end] = pa.array(labels.texts, pa.string()).take(pa.array(labels.codes))
        sites = labels.named(places.site)
        name = "site" if end == "src" else "peer_site"
        columns[name] = pa.array(sites.texts, pa.string()).take(pa.array(sites.codes))
    for name in ("transport", "src_port", "dst_port", "dscp", "ingress", "egress", "packets", "octets", "records",
                 "first_ns", "last_ns"):  # fmt: skip
        columns[name] = pa.array(rows[name].copy())
    for name in MEASURED:
        columns[name] = pa.array(rows[name].copy(), mask=rows[name] < 0)
    keyed = rows["exporter"].astype("int64") << 32 | (rows["egress"] + 1).clip(0, (1 << 32) - 1)
    columns["interface"] = _texts(keyed, lambda key: _interface_name(key, exporters, interfaces))
    service = _service(rows)
    columns["service"] = _texts(service, _service_name)
    return pa.table(columns)


def _service(rows: Any) -> Any:
    """Transport and the port that is the server's mostly: the lower one; a side without one does not count."""
    one, two = rows["src_port"].astype("int64"), rows["dst_port"].astype("int64")
    low = one.copy()
    low[(two > 0) & ((two < one) | (one == 0))] = two[(two > 0) & ((two < one) | (one == 0))]
    return rows["transport"].astype("int64") << 16 | low


def _service_name(key: int) -> str:
    transport, port = protocol_name(key >> 16), key & 0xFFFF
    if not port:
        return transport
    own = f"{transport} {port}"
    return f"{SERVICES[port]} ({own})" if port in SERVICES else own


def _interface_name(key: int, exporters: list[str], interfaces: list[dict[int, str]]) -> str:
    exporter, number = key >> 32, (key & 0xFFFFFFFF) - 1
    name = interfaces[exporter].get(number, f"interface {number}") if number >= 0 else "interface not told"
    return f"{exporters[exporter]} {name}"


def _texts(keys: Any, name: Callable[[int], str]) -> pa.Array:
    """A text for each key, worked out once for each that there is."""
    encoded = pa.array(keys).dictionary_encode()
    return pa.array([name(key) for key in encoded.dictionary.to_pylist()], pa.string()).take(encoded.indices)


def _counters(windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    """Readings of interfaces' counters, from a while before a period on; unknown ones are empty."""
    low = first_ns - max(_STEPS_BACK_NS, last_ns - first_ns)
    found = windows.files.between(COUNTERS, "time_ns", low, last_ns)
    if found is None:
        return _STEPPED[COUNTERS].empty_table()
    device, interface = (found[name].to_numpy().astype("int64") for name in ("device", "interface"))
    told = windows.counters(int(device.max(initial=-1)))
    steps = Steps([found["device"], found["interface"]], found["time_ns"].to_numpy())

    def name(key: int) -> str:
        return f"{told.devices[key >> 32]} {told.name(key >> 32, key & 0xFFFFFFFF)}"

    columns: dict[str, Any] = {
        "time_ns": found["time_ns"].combine_chunks(),
        "device": _texts(device, told.devices.__getitem__),
        "interface": _texts(device << 32 | interface, name),
        "speed_bps": found["speed_bps"].combine_chunks(),
    }
    rises: dict[str, Any] = {SPAN: steps.span}
    for count in COUNTS:
        values = found[count].to_numpy()
        columns[count] = pa.array(values.astype("float64"), mask=values == UNKNOWN)
        rises[f"step_{count}"] = steps.rise(values, values != UNKNOWN)
    return pa.table(columns | rises, _STEPPED[COUNTERS])


def _readings(windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    low = first_ns - max(_STEPS_BACK_NS, last_ns - first_ns)
    found = windows.files.between(READINGS, "time_ns", low, last_ns)
    if found is None:
        return _STEPPED[READINGS].empty_table()
    schema = _EMPTY[READINGS].schema
    rows = found.select(schema.names).cast(schema)
    steps = Steps([rows[name] for name in ("device", "object", "measure")], rows["time_ns"].to_numpy())
    values = rows["value"].to_numpy()
    rise = steps.rise(values, ~np.isnan(values))
    return rows.append_column(SPAN, steps.span).append_column("step_value", rise)


def _probes(windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    found = windows.files.between(PROBES, "at_ns", first_ns, last_ns)
    return _whole(found, PROBE_SCHEMA) if found is not None else _EMPTY[PROBES]


def _whole(found: pa.Table, schema: pa.Schema) -> pa.Table:
    """With all columns: files that a former version wrote lack some."""
    for one in schema:
        if one.name not in found.column_names:
            found = found.append_column(one, pa.nulls(found.num_rows, one.type))
    found = found.select(schema.names)
    return found if found.schema.equals(schema) else found.cast(schema)


def _stretches(table: str, windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    found = windows.files.between(table, "to_ns", first_ns, last_ns)
    schema = _OF_STRETCHES[table]
    return _whole(found, schema) if found is not None else schema.empty_table()


def _waits(windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    found = windows.files.between(WAITS, "time_ns", first_ns - 1, last_ns - 1)
    return found.select(WAIT_SCHEMA.names).cast(WAIT_SCHEMA) if found is not None else WAIT_SCHEMA.empty_table()


def _hours_of_waits(windows: Windows, first_ns: int, last_ns: int) -> pa.Table:
    """The same for intervals of whole hours: hours, where minutes are not kept any more."""
    history = windows.history
    found = history.told(
        lambda: wait_files(history.folder, history.waits.level_for(first_ns, last_ns), first_ns, last_ns),
        f"SELECT * FROM told WHERE time_ns >= {first_ns} AND time_ns < {last_ns}",
    )
    return found.select(WAIT_SCHEMA.names).cast(WAIT_SCHEMA) if found is not None else WAIT_SCHEMA.empty_table()


def _empty_counters() -> pa.Schema:
    return pa.schema(
        [("time_ns", pa.int64()), ("device", pa.string()), ("interface", pa.string()), ("speed_bps", pa.int64())]
        + [(name, pa.float64()) for name in COUNTS]
    )


def _no_records() -> pa.Table:
    return _named_records(np.zeros(0, FLOW), [], [])


_OF_STRETCHES = {HOPS: HOP_SCHEMA, RADIO: AIR_SCHEMA, CYCLIC: CYCLE_SCHEMA}
_READERS: dict[str, Callable[[Windows, int, int], pa.Table]] = {
    RECORDS: _records, COUNTERS: _counters, READINGS: _readings, PROBES: _probes, WAITS: _waits,
    HOURS_OF_WAITS: _hours_of_waits, **{table: partial(_stretches, table) for table in _OF_STRETCHES},
}  # fmt: skip
_EMPTY: dict[str, pa.Table] = {
    RECORDS: _no_records(),
    COUNTERS: _empty_counters().empty_table(),
    READINGS: pa.schema([("time_ns", pa.int64()), ("device", pa.string()), ("object", pa.string()),
                         ("measure", pa.string()), ("value", pa.float64())]).empty_table(),
    PROBES: PROBE_SCHEMA.empty_table(),
    **{table: schema.empty_table() for table, schema in _OF_STRETCHES.items()},
    WAITS: WAIT_SCHEMA.empty_table(),
    HOURS_OF_WAITS: WAIT_SCHEMA.empty_table(),
}  # fmt: skip
# What is read now and then, with what it rose by; conditions speak of the readings alone.
_STEPPED: dict[str, pa.Schema] = {
    COUNTERS: pa.schema([*_EMPTY[COUNTERS].schema, (SPAN, pa.int64()),
                         *((f"step_{name}", pa.float64()) for name in COUNTS)]),
    READINGS: pa.schema([*_EMPTY[READINGS].schema, (SPAN, pa.int64()), ("step_value", pa.float64())]),
}  # fmt: skip
