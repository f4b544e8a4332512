"""What kernels may rely on: where they work on every packet an index is taken as it is, so none may be below nil."""

import ast
from collections.abc import Iterator
from pathlib import Path
from types import FunctionType

import numba
import numpy as np
import pytest

import yaffle.kernels  # has numba take indexes so

_KINDS, _PACKAGES = {"kernel", "leaf", "pasted", "helper"}, ("capture", "ledger", "tiers", "transport")


def taken(values, i):
    return values[i]


def of_package(name: str) -> FunctionType:
    """The function above, as if it stood there."""
    found = FunctionType(taken.__code__, taken.__globals__, "taken")
    found.__module__ = name
    return found


def kernels_of(package: str) -> Iterator[tuple[str, ast.FunctionDef]]:
    for path in (Path(yaffle.kernels.__file__).parent / package).rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef):
                names = {one.id for one in node.decorator_list if isinstance(one, ast.Name)}
                if names & _KINDS:
                    yield path.name, node


@pytest.mark.parametrize("package", _PACKAGES)
def test_an_index_is_taken_as_it_is_where_much_is_worked_on(package):
    checked = numba.njit(of_package(f"yaffle.{package}.made_up"), boundscheck=True)
    assert checked(np.arange(5), 3) == 3
    with pytest.raises(IndexError):
        checked(np.arange(5), -1)
    assert numba.njit(of_package("yaffle.session.made_up"), boundscheck=True)(np.arange(5), -1) == 4


@pytest.mark.parametrize("package", _PACKAGES)
def test_no_kernel_there_counts_from_the_end_of_an_array(package):
    found = [
        f"{name}:{node.lineno}"
        for name, function in kernels_of(package)
        for node in ast.walk(function)
        if isinstance(node, ast.Subscript)
        for index in (node.slice.elts if isinstance(node.slice, ast.Tuple) else [node.slice])
        if isinstance(index, ast.UnaryOp) and isinstance(index.op, ast.USub)
    ]
    assert found == []
