"""Views of long-lived arrays by address, for kernels.

A kernel that is handed sixteen NumPy arrays spends longer on unpacking them, and on counting references to them from
two threads, than on the geometry. So the owner of long-lived arrays writes their addresses and lengths into one int64
array, its *header*, and the kernel opens views from there. The owner keeps the arrays alive for as long as the header
is in use.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numba import from_dtype, types
from numba.extending import intrinsic

if TYPE_CHECKING:
    from numpy.typing import NDArray


def header_of(arrays: tuple[NDArray[Any], ...], *lengths: int) -> NDArray[np.int64]:
    """Addresses of contiguous arrays, followed by the lengths that the kernel needs to shape them.

    Returns (arrays + lengths,) int64: bytes from the start of memory, and counts.
    """
    for array in arrays:
        if not array.flags.c_contiguous:
            raise ValueError(f"header_of takes contiguous arrays; got strides {array.strides} for {array.shape}")
    return np.array([array.ctypes.data for array in arrays] + list(lengths), np.int64)


def _opener(kind: Any) -> Any:
    @intrinsic
    def pointer(typingctx: Any, address: Any) -> Any:
        signature = types.CPointer(kind)(types.int64)

        def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
            return builder.inttoptr(arguments[0], context.get_value_type(signature.return_type))

        return signature, generate

    return pointer


def record_at(name: str, dtype: np.dtype[Any]) -> Any:
    """Return a function of kernels that sees the memory at an address as a record of a structured dtype.

    name : short and unique. Numba would name the type by all its fields, and every symbol by its types: a cached kernel
    would be ten times as large.
    """
    kind = from_dtype(dtype)
    kind.name = f"{name}_record"

    @intrinsic
    def record(typingctx: Any, address: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
            return builder.inttoptr(arguments[0], context.get_value_type(kind))

        return kind(types.int64), generate

    return record


float64_at = _opener(types.float64)
float32_at = _opener(types.float32)
int64_at = _opener(types.int64)
int32_at = _opener(types.int32)
int16_at = _opener(types.int16)
