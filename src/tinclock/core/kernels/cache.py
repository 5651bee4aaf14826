"""Cache of compiled kernels on disk. The only file that uses private parts of Numba's own cache.

Numba keys a cached kernel by the file that it stands in. Kernels are inlined into each other, so an edit elsewhere
would leave old machine code in use. Here the key is a digest of everything that can be compiled into a kernel.
"""

from __future__ import annotations

import hashlib
import os
import sys
import warnings
from importlib import resources
from typing import Any, Final

import numba
from numba import config
from numba.core.caching import CompileResultCacheImpl, FunctionCache, IndexDataCacheFile, _CacheLocator
from numba.core.runtime import rtsys

_ALSO: Final = (("tinclock.core", "tolerances.py"),)
"""Files outside this package that kernels read constants from."""
_told = False


def source_digest() -> str:
    """Return the SHA-256 of all kernels, their layouts and tolerances, and the versions of the compilers.

    The processor is part of Numba's own key for each entry.
    """
    digest = hashlib.sha256(f"{numba.__version__} {_llvm_version()}".encode())
    for path, content in _sources():
        digest.update(f"\0{path}\0{len(content)}\0".encode())
        digest.update(content)
    return digest.hexdigest()


def _llvm_version() -> str:
    import llvmlite

    return str(llvmlite.__version__)


def _sources() -> list[tuple[str, bytes]]:
    found = [(f"{package}/{name}", (resources.files(package) / name).read_bytes()) for package, name in _ALSO]
    waiting = [("kernels", resources.files("tinclock.core.kernels"))]
    while waiting:
        path, folder = waiting.pop()
        for item in folder.iterdir():
            if item.is_dir():
                waiting.append((f"{path}/{item.name}", item))
            elif item.name.endswith(".py"):
                found.append((f"{path}/{item.name}", item.read_bytes()))
    return sorted(found)


class _Beside(_CacheLocator):  # type: ignore[misc]
    """The `__pycache__` folder beside a kernel's source, whether or not it can be written."""

    def __init__(self, kernel: Any) -> None:
        self._py_file = kernel.__code__.co_filename
        self._line = kernel.__code__.co_firstlineno

    def get_cache_path(self) -> str:
        """Return the folder."""
        return os.path.join(os.path.dirname(self._py_file), "__pycache__")

    def get_source_stamp(self) -> str:
        """Return the digest that every kernel shares."""
        return DIGEST

    def get_disambiguator(self) -> str:
        """Return the line that the kernel begins at."""
        return str(self._line)


class _Files(CompileResultCacheImpl):  # type: ignore[misc]
    """Names of cache files. Falls back to the folder beside the source where no folder can be written."""

    def __init__(self, kernel: Any) -> None:
        try:
            super().__init__(kernel)
        except RuntimeError:
            self._lineno, self._locator = kernel.__code__.co_firstlineno, _Beside(kernel)
            module = os.path.splitext(os.path.basename(kernel.__code__.co_filename))[0]
            self._filename_base = self.get_filename_base(
                f"{module}.{kernel.__qualname__}", getattr(sys, "abiflags", "")
            )


class KernelCache(FunctionCache):  # type: ignore[misc]
    """Cache of one kernel, keyed by the digest of all kernels.

    Loads from the folder that Numba chooses (`NUMBA_CACHE_DIR`, else beside the code, else the user's cache). Unless
    `NUMBA_CACHE_DIR` is set, it also loads from beside the code where that folder is read-only.
    """

    _impl_class = _Files

    def __init__(self, kernel: Any) -> None:
        super().__init__(kernel)
        base, beside = self._impl.filename_base, _Beside(kernel).get_cache_path()
        self._cache_file = IndexDataCacheFile(self._cache_path, base, DIGEST)
        self._others: list[Any] = []
        if not config.CACHE_DIR and beside != self._cache_path:
            self._others.append(IndexDataCacheFile(beside, base, DIGEST))

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        """Return the kernel that was compiled for a signature; None where there is none.

        Numba prepares its compiler before it looks, which takes longer than everything else until a first ruling. A
        cached kernel does not need it.
        """
        rtsys.initialize(target_context)  # memory for arrays that kernels make
        own = self._cache_file
        for place in (own, *self._others):
            self._cache_file = place
            try:
                with self._guard_against_spurious_io_errors():
                    loaded = self._load_overload(sig, target_context)
                    if loaded is not None:
                        return loaded
            finally:
                self._cache_file = own
        return super().load_overload(sig, target_context)

    def save_overload(self, sig: Any, data: Any) -> None:
        """Keep a compiled kernel; warn once where no folder can be written."""
        try:
            super().save_overload(sig, data)
        except OSError:
            _warn()


def _warn() -> None:
    global _told
    if not _told:
        _told = True
        warnings.warn(
            "compiled kernels cannot be cached: neither Tin Clock's own folder nor a home folder can be written; each "
            "process compiles them again, for about a minute. Set NUMBA_CACHE_DIR to a folder that can be written",
            stacklevel=2,
        )


DIGEST: Final = source_digest()
