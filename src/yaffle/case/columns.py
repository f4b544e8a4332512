"""Columns as Arrow IPC files, by name; mapped when they are read."""

import io
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from yaffle.arrays import Array, Int64s2, Uint8s
from yaffle.errors import CaseError
from yaffle.texts import Texts

_PIECE = 1 << 20  # Bytes written between two looks at whether to go on.
_FEW = 64  # bytes that tell of most pieces that they are not nil


class _Watched(io.FileIO):
    """A file that looks, piece by piece, whether its writer should go on. A piece of nil is not written but stepped
    over: it takes no time and no room on the disk, and is read as nil.
    """

    def __init__(self, path: Path, told: Callable[[int], None]) -> None:
        super().__init__(path, "wb")
        self._told = told

    def write(self, data: Any) -> int:
        view, done = memoryview(data).cast("B"), 0
        while done < view.nbytes:
            piece = view[done : done + _PIECE]
            if _nil(piece):
                self.seek(len(piece), os.SEEK_CUR)
                took = len(piece)
            else:
                took = super().write(piece) or 0
            self._told(took)
            done += took
        return done


def _nil(piece: memoryview) -> bool:
    """Whether a whole piece holds nothing but nil."""
    return len(piece) == _PIECE and not any(piece[:_FEW]) and not np.frombuffer(piece, np.uint8).any()


def write_columns(
    path: Path, columns: "dict[str, Array] | dict[str, Texts]", settle: bool, told: Callable[[int], None]
) -> None:
    """Writes a table; `settle`: waits until the disk has it. told: bytes written since it was asked last."""
    table = pa.table({name: _column(values) for name, values in columns.items()})
    with _Watched(path, told) as file, pa.PythonFile(file, "w") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    if settle:
        flush(path)


def _column(values: "Array | Texts") -> Any:
    """An Arrow column over the same memory; rows of several fields become bytes of their length."""
    if isinstance(values, Texts):
        starts, octets = (pa.py_buffer(np.ascontiguousarray(part)) for part in (values.starts, values.octets))
        return pa.LargeStringArray.from_buffers(len(values), starts, octets)
    values = np.ascontiguousarray(values)
    if values.dtype.fields is None:
        return pa.array(values)
    return pa.FixedSizeBinaryArray.from_buffers(
        pa.binary(values.dtype.itemsize), values.size, [None, pa.py_buffer(values)]
    )


def flush(path: Path) -> None:
    """Waits until the disk has a file."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _mapped(path: Path) -> "tuple[Array, Any]":
    """The bytes of a file, mapped privately, and the table in them. Raises CaseError."""
    try:
        mapped = np.memmap(path, np.uint8, "c")
        table = pa.ipc.open_file(pa.BufferReader(pa.py_buffer(mapped))).read_all()
    except (OSError, ValueError, pa.ArrowInvalid) as error:
        raise CaseError(f"{path}: the case is damaged here ({error})") from error
    for name, column in zip(table.column_names, table.columns, strict=True):
        if column.num_chunks > 1 or column.null_count:
            raise CaseError(f"{path}: the case is damaged here (column {name})")
    return np.asarray(mapped), table


def read_columns(path: Path) -> dict[str, Array]:
    """The columns of a file, mapped privately: what is written to them stays in memory. Raises CaseError."""
    mapped, table = _mapped(path)
    found = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        kind = column.type
        packed = pa.types.is_fixed_size_binary(kind)
        dtype = np.dtype(f"V{kind.byte_width}") if packed else np.dtype(kind.to_pandas_dtype())
        found[name] = (
            _values(mapped, column.chunk(0).buffers()[1], len(column), dtype) if len(column) else (np.empty(0, dtype))
        )
    return found


def read_texts(path: Path) -> dict[str, Texts]:
    """The texts of a file, mapped. Raises CaseError; ValueError where they point outside."""
    mapped, table = _mapped(path)
    found = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        if not pa.types.is_large_string(column.type):
            raise CaseError(f"{path}: the case is damaged here (column {name} holds no texts)")
        if not len(column):
            found[name] = Texts.of(())
            continue
        _, starts, octets = column.chunk(0).buffers()
        found[name] = Texts(
            _values(mapped, starts, len(column) + 1, np.dtype(np.int64)),
            _values(mapped, octets, octets.size if octets else 0, np.dtype(np.uint8)),
        )
    return found


def _values(mapped: Uint8s, buffer: Any, count: int, dtype: "np.dtype[Any]") -> Array:
    """What a buffer of the mapped file holds."""
    start = buffer.address - mapped.ctypes.data if count else 0
    return mapped[start : start + count * dtype.itemsize].view(dtype)


def as_columns(names: tuple[str, ...], matrix: Int64s2) -> dict[str, Array]:
    """The columns of a matrix by their names."""
    return {name: matrix[:, k] for k, name in enumerate(names)}


def as_matrix(names: tuple[str, ...], columns: dict[str, Array]) -> Int64s2:
    """The reverse: over the same memory where the columns lie side by side. Raises KeyError, ValueError."""
    own = [columns[name] for name in names]
    rows = own[0].size
    if any(column.shape != (rows,) or column.dtype != np.int64 for column in own):
        raise ValueError("columns of one table are of different lengths or kinds")
    apart = np.diff([column.ctypes.data for column in own])
    if rows and (apart == rows * 8).all() and (base := own[0].base) is not None:
        whole = np.asarray(base).view(np.uint8).reshape(-1)
        start = own[0].ctypes.data - whole.ctypes.data
        if 0 <= start <= whole.size - len(own) * rows * 8:
            return whole[start : start + len(own) * rows * 8].view(np.int64).reshape(len(own), rows).T
    return np.stack(own).T
