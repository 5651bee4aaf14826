"""A match's whole state as bytes, so that another process goes on from there without ruling what was before again.

The bytes are a pickle that may name only the types that a match's state is made of: reading one that somebody else
wrote makes such objects and nothing else. They are for the same release of the library, and for a moment: a recording
is what lasts.
"""

from __future__ import annotations

import copyreg
import pickle
from io import BytesIO
from typing import TYPE_CHECKING, Any, Final

from tinclock.core.combat.roster import Connection
from tinclock.core.errors import CheckpointError
from tinclock.core.geometry.level import Level
from tinclock.core.packed import memory_of
from tinclock.core.referee import Referee
from tinclock.core.rules.tables import read_table
from tinclock.core.ruling.brief import Remembered, receipts_of
from tinclock.core.sparse import again

if TYPE_CHECKING:
    from collections.abc import Callable

PROTOCOL: Final = 5
OURS: Final = "tinclock.core."
OTHERS: Final = frozenset(
    {
        ("builtins", "bytearray"), ("builtins", "set"), ("builtins", "frozenset"), ("builtins", "object"),
        ("collections", "deque"), ("collections", "OrderedDict"), ("copyreg", "__newobj__"),
        ("copyreg", "_reconstructor"), ("msgspec._utils", "rebuild"), ("numpy", "dtype"), ("numpy", "ndarray"),
        ("numpy", "float32"), ("numpy", "int16"),
        ("numpy._core.numeric", "_frombuffer"), ("numpy.core.numeric", "_frombuffer"),
        ("numpy._core.multiarray", "_reconstruct"), ("numpy.core.multiarray", "_reconstruct"),
        ("numpy._core.multiarray", "scalar"), ("numpy.core.multiarray", "scalar"),
    }
)  # fmt: skip
"""What a checkpoint may name besides our own types."""
FUNCTIONS: Final = frozenset((one.__module__, one.__name__) for one in (memory_of, again, read_table, receipts_of))
"""And what of ours is no type."""


def _level() -> None:
    """Stands for the match's level, which whoever reads a checkpoint has."""


def _memory(view: Any) -> tuple[Any, ...]:
    return memory_of, (view.obj,)


def _connection(one: Connection) -> tuple[Any, ...]:
    _, state = one.__getstate__()
    return copyreg.__newobj__, (Connection,), (None, {**state, "receipts": Remembered(one.receipts)})  # type: ignore[attr-defined]


class _Pickler(pickle.Pickler):
    dispatch_table: dict[type, Callable[[Any], Any]] = {  # noqa: RUF012
        **copyreg.dispatch_table,
        memoryview: _memory,
        Level: lambda _: (_level, ()),
        Connection: _connection,
    }


class _Unpickler(pickle.Unpickler):
    def __init__(self, data: bytes, level: Level | None) -> None:
        super().__init__(BytesIO(data))
        self._level = level

    def find_class(self, module: str, name: str) -> Any:
        if (module, name) == (__name__, _level.__name__):
            return lambda: self._level
        if (module, name) in OTHERS or (module, name) in FUNCTIONS:
            return super().find_class(module, name)
        if module.startswith(OURS) and "." not in name:
            found = super().find_class(module, name)
            if isinstance(found, type) and found.__module__ == module:  # not what a module of ours imports
                return found
        raise pickle.UnpicklingError(f"{module}.{name} is no part of a match's state")


def checkpoint_of(referee: Referee) -> bytes:
    """All that a referee knows but its level, as bytes for `referee_from`. Changes nothing."""
    out = BytesIO()
    _Pickler(out, PROTOCOL).dump(referee)
    return out.getvalue()


def referee_from(data: bytes, level: Level | None) -> Referee:
    """The referee as it was when a checkpoint was taken: it goes on with the same rulings, bit for bit.

    level : that match's level. Raises `CheckpointError` for what is no checkpoint of this release.
    """
    try:
        referee = _Unpickler(data, level).load()
    except Exception as error:  # whatever damaged bytes make of the reader
        raise CheckpointError("bytes that this release wrote", f"{type(error).__name__}: {error}") from None
    if not isinstance(referee, Referee):
        raise CheckpointError("a referee's state", type(referee).__name__)
    return referee
