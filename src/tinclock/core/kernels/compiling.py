"""Decorators that compile kernels."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING, Any

import numba
from numba.extending import typeof_impl

from tinclock.core.kernels.cache import KernelCache

if TYPE_CHECKING:
    from collections.abc import Callable


def njit(**options: Any) -> Any:
    """`numba.njit` with a cache that is keyed by all kernels, see `cache`; without one where nothing can be written.

    None gets a way in for C, an eighth of the time that compiling takes: only Python and other kernels call them.
    """
    kept = options.pop("cache", False)

    def decorate(kernel: Any) -> Any:
        made = numba.njit(no_cfunc_wrapper=True, **options)(kernel)
        if kept and hasattr(made, "_cache"):  # a plain function where Numba is told not to compile
            made._cache = KernelCache(kernel)
        return made

    return decorate


class Inner:
    """Function that only kernels call. Python can call it, for trying things out: then it runs as Python, slowly.

    number : of a registered check, see `registry`; -1 for other functions
    """

    def __init__(self, function: Callable[..., Any]) -> None:
        self.function, self.number = function, -1
        self.compiled = numba.njit(error_model="numpy", no_cpython_wrapper=True, no_cfunc_wrapper=True)(function)
        functools.update_wrapper(self, function)

    def __call__(self, *arguments: Any) -> Any:
        return self.function(*arguments)


@typeof_impl.register(Inner)
def _type_of_inner(value: Inner, context: Any) -> Any:
    return numba.types.Dispatcher(value.compiled)


inner = Inner
opened = numba.njit(error_model="numpy", inline="always")
"""For functions that return records, which only those can that become a part of their caller."""
