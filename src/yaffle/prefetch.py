"""A hint to the processor: an element of an array will be needed soon. Changes nothing but the time it takes."""

from typing import Any

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.extending import intrinsic, overload
from numba.np.arrayobj import make_array


def _prefetch(_typing: Any, array: Any, index: Any) -> Any:
    """Brings array[index] (one-dimensional, contiguous) towards the cache; an index beyond its ends does no harm."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        kind = signature.args[0]
        data = make_array(kind)(context, builder, arguments[0]).data
        place = context.cast(builder, arguments[1], signature.args[1], types.intp)
        step = context.get_constant(types.intp, context.get_abi_sizeof(context.get_data_type(kind.dtype)))
        address = builder.add(builder.ptrtoint(data, step.type), builder.mul(place, step))
        pointer = builder.inttoptr(address, cgutils.voidptr_t)
        word = ir.IntType(32)
        hint = cgutils.get_or_insert_function(
            builder.module, ir.FunctionType(ir.VoidType(), [cgutils.voidptr_t, word, word, word]), "llvm.prefetch.p0"
        )
        builder.call(hint, [pointer, word(0), word(3), word(1)])
        return context.get_dummy_value()

    return types.void(array, index), generate


_hint: Any = intrinsic(_prefetch)


def prefetch(array: Any, index: Any) -> None:
    """Brings array[index] towards the cache; as plain Python it does nothing."""


@overload(prefetch)
def _prefetch_compiled(array: Any, index: Any) -> Any:
    def compiled(array: Any, index: Any) -> None:
        _hint(array, index)

    return compiled
