"""Arrow tables as JSON, CSV, Parquet or an Arrow stream, piece by piece."""

import io
from collections.abc import Callable, Iterator
from enum import StrEnum
from itertools import chain
from typing import Any

import orjson
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

_JSON_ROWS = 2000  # so many at a time


class Format(StrEnum):
    """How rows are told."""

    JSON = "json"
    CSV = "csv"
    PARQUET = "parquet"
    ARROW = "arrow"


MEDIA = {
    Format.JSON: "application/json",
    Format.CSV: "text/csv; charset=utf-8",
    Format.PARQUET: "application/vnd.apache.parquet",
    Format.ARROW: "application/vnd.apache.arrow.stream",
}


def pieces(parts: Iterator[Any], form: Format) -> Iterator[bytes]:
    """The bytes of an answer. The first part is asked for at once: what is wrong shows before anything is sent."""
    first = next(parts, None)
    empty: Iterator[Any] = iter([first]) if first is not None else iter([pa.table({})])
    return _WRITERS[form](chain(empty, parts))


def _json(parts: Iterator[Any]) -> Iterator[bytes]:
    """`{"columns": [...], "rows": [{...}, ...]}`; moments as ISO 8601, what is not a number as null."""
    opened = told = False
    for table in parts:
        if not opened:
            yield b'{"columns":' + orjson.dumps(table.column_names) + b',"rows":['
            opened = True
        plain = _plain(table, exact=True)
        for begin in range(0, plain.num_rows, _JSON_ROWS):
            text = orjson.dumps(plain.slice(begin, _JSON_ROWS).to_pylist(), default=str)[1:-1]
            yield b"," + text if told else text
            told = True
    yield b"]}"


def _plain(table: Any, *, exact: bool = False) -> Any:
    """Texts as texts; for JSON moments as text, to the nanosecond."""
    columns = []
    for column in table.columns:
        if pa.types.is_dictionary(column.type):
            column = pa.compute.cast(column, pa.string())
        if exact and pa.types.is_timestamp(column.type):
            column = pa.compute.strftime(column, format="%Y-%m-%dT%H:%M:%SZ")
        columns.append(column)
    return pa.table(dict(zip(table.column_names, columns, strict=True)))


class _Taken(io.RawIOBase):
    """What a writer writes, taken away piece by piece."""

    def __init__(self) -> None:
        self._pieces: list[bytes] = []
        self._at = 0

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        """Keeps it until it is taken."""
        self._pieces.append(bytes(data))
        self._at += len(self._pieces[-1])
        return len(self._pieces[-1])

    def tell(self) -> int:
        return self._at

    def take(self) -> bytes:
        """What came since the last time."""
        taken, self._pieces = b"".join(self._pieces), []
        return taken


def _written(make: Callable[[Any, pa.Schema], Any]) -> Callable[[Iterator[Any]], Iterator[bytes]]:
    def write(parts: Iterator[Any]) -> Iterator[bytes]:
        sink, writer, schema = _Taken(), None, None
        for table in parts:
            own = _plain(table)
            if writer is None:
                schema = own.schema
                writer = make(sink, schema)
            writer.write_table(own.cast(schema))
            if told := sink.take():
                yield told
        if writer is not None:
            writer.close()
        if told := sink.take():
            yield told

    return write


_WRITERS: dict[Format, Callable[[Iterator[Any]], Iterator[bytes]]] = {
    Format.JSON: _json,
    Format.CSV: _written(lambda sink, schema: pa.csv.CSVWriter(sink, schema)),
    Format.PARQUET: _written(lambda sink, schema: pa.parquet.ParquetWriter(sink, schema, compression="zstd")),
    Format.ARROW: _written(lambda sink, schema: pa.ipc.new_stream(sink, schema)),
}
