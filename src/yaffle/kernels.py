"""How kernels are compiled: decorators for their four kinds, and a cache that follows the sources (`kernel_cache`)."""

import importlib
import os
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, ParamSpec, Protocol, TypeVar, cast

from yaffle.kernel_cache import GENERIC, locator

os.environ.setdefault("NUMBA_CPU_NAME", GENERIC)  # before numba is imported

import numba
import numpy as np
from numba.core import caching, types
from numba.core.registry import CPUDispatcher
from numba.core.runtime import rtsys
from numba.np import arrayobj

from yaffle.plain_kernels import call, running_plainly

# Numbers of a width, for the compiler. To who reads a kernel, and to the checker of types, they are integers.
if TYPE_CHECKING:
    uint8 = uint16 = uint32 = uint64 = int32 = int64 = int
else:
    uint8, uint16, uint32, uint64 = np.uint8, np.uint16, np.uint32, np.uint64
    int32, int64 = np.int32, np.int64

Parameters = ParamSpec("Parameters")
Result = TypeVar("Result", covariant=True)


class Compiled(Protocol[Parameters, Result]):
    """A function that is compiled: called as it is written."""

    @property
    def py_func(self) -> Callable[Parameters, Result]:
        """It, not compiled."""

    def __call__(self, *given: Parameters.args, **named: Parameters.kwargs) -> Result: ...


_BLAS = "scipy.linalg.cython_blas"


def _without_blas() -> None:
    """Has numba prepare itself while SciPy's linear algebra cannot be imported: it would look whether that is there,
    which takes a fifth of a second at every start. No kernel multiplies matrices.
    """
    if _BLAS in sys.modules:
        return
    sys.modules[_BLAS] = None  # type: ignore[assignment]
    try:
        importlib.import_module("numba.np.arraymath")
    finally:
        del sys.modules[_BLAS]


_without_blas()
caching.CacheImpl._locator_classes.insert(0, locator(caching._CacheLocator))  # noqa: SLF001  The documented way is none.


_FROM_THE_BEGINNING = tuple(f"_ZN6yaffle{len(name)}{name}" for name in ("capture", "ledger", "tiers", "transport"))
_counting_from_the_end = arrayobj.fix_integer_index


def _index(context: Any, builder: Any, kind: Any, index: Any, size: Any) -> Any:
    """An index as compiled code takes it. In the packages that work on every packet, exchange or call it counts from
    the beginning of an array only: to ask of each whether it is below nil, and counts from the end then, is a tenth of
    the time of all that they do, and a third of that of their compiling.
    """
    if builder.function.name.startswith(_FROM_THE_BEGINNING):
        return context.cast(builder, index, kind, types.intp if kind.signed else types.uintp)
    return _counting_from_the_end(context, builder, kind, index, size)


arrayobj.fix_integer_index = _index


class _Cache(caching.FunctionCache):  # type: ignore[misc]
    """What was compiled is loaded without everything that compiling would need, a fifth of a second at every start."""

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        rtsys.initialize(target_context)  # Memory is counted by it.
        with self._guard_against_spurious_io_errors():
            return self._load_overload(sig, target_context)
        return None


class Kernel(CPUDispatcher):  # type: ignore[misc]
    """What is compiled, or run as plain Python while it is not (`plain_kernels`)."""

    def __call__(self, *arguments: Any) -> Any:
        return call(self.py_func, *arguments) if running_plainly() else super().__call__(*arguments)


def _made(function: Callable[Parameters, Result], **options: Any) -> Compiled[Parameters, Result]:
    compiled = numba.njit(nogil=True, error_model="numpy", **options)(function)
    compiled.__class__ = Kernel
    return cast(Compiled[Parameters, Result], compiled)


def _cached(function: Callable[Parameters, Result], **options: Any) -> Compiled[Parameters, Result]:
    compiled: Any = _made(function, **options)
    compiled._cache = _Cache(function)  # noqa: SLF001  As `cache=True` does, with ours.
    return cast(Compiled[Parameters, Result], compiled)


def kernel(function: Callable[Parameters, Result]) -> Compiled[Parameters, Result]:
    """Compiles a loop ahead of its first run, without the interpreter lock, cached on disk."""
    return _cached(function)


def leaf(function: Callable[Parameters, Result]) -> Compiled[Parameters, Result]:
    """A kernel that makes no arrays, called for every exchange.

    It counts no references, which would cost more than what it does.
    """
    return _cached(function, _nrt=False)


def pasted(function: Callable[Parameters, Result]) -> Compiled[Parameters, Result]:
    """A leaf that is put into the code of what calls it. Calling costs much where tables are handed on: each of their
    arrays is seven numbers.
    """
    return _made(function, _nrt=False, forceinline=True)


def helper(function: Callable[Parameters, Result]) -> Compiled[Parameters, Result]:
    """A small function that the optimizer pastes into the kernels that call it."""
    return _made(function)
