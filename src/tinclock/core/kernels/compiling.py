"""How kernels are compiled: by Numba, kept beside the code or where NUMBA_CACHE_DIR says, and without a cache where
neither can be written.
"""

from __future__ import annotations

import sys
import warnings
from importlib.util import find_spec
from typing import Any

import numba
from numba.core.caching import FunctionCache
from numba.core.runtime import rtsys

from tinclock.core.kernels.parts import PARTS

_told = False


def _put_off_scipy() -> None:
    """Let Numba find SciPy's linear algebra when a function needs it, which none of ours does.

    It imports all of it with its own functions otherwise, only to see whether it is there: an eighth of the time until
    a first ruling. Whatever else in this process is compiled by Numba works as ever.
    """
    from numba.np import linalg

    look = getattr(linalg, "ensure_blas", None)

    def later() -> None:
        raise ImportError

    if look is None or "numba.np.arraymath" in sys.modules:
        return
    linalg.ensure_blas = later
    try:
        from numba.np import arraymath
    finally:
        linalg.ensure_blas = look
    if hasattr(arraymath, "_HAVE_BLAS"):
        arraymath.ensure_blas, arraymath._HAVE_BLAS = look, _is_there("scipy")


def _is_there(package: str) -> bool:
    try:
        return find_spec(package) is not None
    except ImportError:
        return False


class _Kept(FunctionCache):  # type: ignore[misc]
    """Where a kernel's machine code is kept.

    Numba gets everything ready that it would compile with before it looks here, which takes longer than all else until
    a first ruling. Code that was kept needs none of that.
    """

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        """What was compiled for a signature; None where it has to be."""
        load, guard = (getattr(self, name, None) for name in ("_load_overload", "_guard_against_spurious_io_errors"))
        if load is not None and guard is not None:
            rtsys.initialize(target_context)  # memory for arrays that kernels make
            found = None
            with guard():
                found = load(sig, target_context)
            if found is not None:
                return found
        _put_off_scipy()
        return super().load_overload(sig, target_context)


def njit(**options: Any) -> Any:
    """`numba.njit`, whose cache is given up with one warning where there is no place for it.

    Everything then works as before, but each new process compiles the kernels that it needs, for about a minute.
    None gets a way in for C, an eighth of the time that compiling takes: only Python and other kernels call them.
    """
    options["no_cfunc_wrapper"] = True

    def decorate(kernel: Any) -> Any:
        try:
            made = numba.njit(**options)(kernel)
            if options.get("cache"):
                made._cache = _Kept(kernel)
            return made
        except RuntimeError as error:
            if not options.get("cache") or "cannot cache" not in str(error):
                raise
        _put_off_scipy()
        _tell()
        return numba.njit(**{**options, "cache": False})(kernel)

    return decorate


inner: Any = numba.njit(error_model="numpy", no_cpython_wrapper=True, no_cfunc_wrapper=True, **PARTS)
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
