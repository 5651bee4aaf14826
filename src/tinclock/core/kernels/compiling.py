"""How kernels are compiled: by Numba, kept beside the code or where NUMBA_CACHE_DIR says, and without a cache where
neither can be written.
"""

from __future__ import annotations

import warnings
from typing import Any

import numba

_told = False


def njit(**options: Any) -> Any:
    """`numba.njit`, whose cache is given up with one warning where there is no place for it.

    Everything then works as before, but each new process compiles the kernels that it needs, for about a minute.
    """

    def decorate(kernel: Any) -> Any:
        try:
            return numba.njit(**options)(kernel)
        except RuntimeError as error:
            if not options.get("cache") or "cannot cache" not in str(error):
                raise
        _tell()
        return numba.njit(**{**options, "cache": False})(kernel)

    return decorate


inner: Any = numba.njit(error_model="numpy", no_cpython_wrapper=True, no_cfunc_wrapper=True)
"""For what only kernels call: it becomes a part of them, so it is neither kept by itself nor given a way in from
Python, which takes time to compile."""


def _tell() -> None:
    global _told
    if not _told:
        _told = True
        warnings.warn(
            "compiled kernels can't be kept: neither Tin Clock's own folder nor a home can be written; each process "
            "compiles them anew, for about a minute. Set NUMBA_CACHE_DIR to a folder that can be written",
            stacklevel=4,
        )
