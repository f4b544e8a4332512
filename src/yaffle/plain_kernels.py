"""Kernels as plain Python, while they are not compiled: slower a hundred times and more, and ready at once.

The same functions run, so that the answer is the same to the last nanosecond. Records of structured arrays get
attributes, as compiled code has them; figures wrap around as compiled ones do, without a warning. Compiled code does
not check indices, plain Python does: an index beyond an array is an error here and a mistake there.
"""

import threading
from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np


class _Switch:
    """Whether kernels that are called from Python run plainly; one for the process."""

    plain = False


class _Depth(threading.local):
    """How many kernels this thread is inside of."""

    inside = 0


_depth = _Depth()


def run_plainly(plain: bool) -> None:
    """From now on kernels run as plain Python, or compiled."""
    _Switch.plain = plain


def running_plainly() -> bool:
    """Whether kernels run as plain Python."""
    return _Switch.plain


class Records:
    """A structured array whose rows have attributes."""

    __slots__ = ("array", "columns", "row", "shape", "size")

    def __init__(self, array: Any) -> None:
        self.array, self.shape, self.size = array, array.shape, array.size
        self.columns = {name: array[name] for name in array.dtype.names}
        self.row = _row_class(array.dtype.names)

    def __getitem__(self, key: Any) -> Any:
        if isinstance(key, str):
            return self.columns[key]
        if isinstance(key, slice | np.ndarray):
            return wrapped(self.array[key])
        found = self.row()
        found.columns, found.place = self.columns, key
        return found

    def __setitem__(self, key: Any, value: Any) -> None:
        if isinstance(value, Records):
            self.array[key] = value.array
        elif isinstance(value, _Row):
            for name, column in self.columns.items():
                column[key] = value.columns[name][value.place]
        else:
            self.array[key] = value

    def __len__(self) -> int:
        return len(self.array)


class _Row:
    """One record: its attributes are the fields."""

    __slots__ = ("columns", "place")
    columns: dict[str, Any]
    place: Any


def _field(name: str) -> property:
    def read(row: _Row) -> Any:
        return row.columns[name][row.place]

    def write(row: _Row, value: Any) -> None:
        row.columns[name][row.place] = value

    return property(read, write)


@cache
def _row_class(names: tuple[str, ...]) -> type[_Row]:
    return type("Row", (_Row,), {"__slots__": (), **{name: _field(name) for name in names}})


def wrapped(value: Any) -> Any:
    """The same with attributes for records, also inside of tuples."""
    if isinstance(value, np.ndarray):
        return Records(value) if value.dtype.names is not None else value
    if isinstance(value, tuple):
        parts = [wrapped(part) for part in value]
        if all(a is b for a, b in zip(parts, value, strict=True)):
            return value
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    return value


def unwrapped(value: Any) -> Any:
    """The reverse."""
    if isinstance(value, Records):
        return value.array
    if isinstance(value, tuple):
        parts = [unwrapped(part) for part in value]
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    return value


def call(function: Callable[..., Any], *arguments: Any) -> Any:
    """A kernel as plain Python. Only the outermost has its arguments wrapped."""
    if _depth.inside:
        return function(*arguments)
    _depth.inside = 1
    try:
        with np.errstate(all="ignore"):
            return unwrapped(function(*(wrapped(argument) for argument in arguments)))
    finally:
        _depth.inside = 0
