"""Objects whose numbers lie in a row of an array, where kernels read and write them: see `kernels.dtypes`.

Such an object has the row's memory as `numbers`, and each field as an attribute::

    class Held(Row):
        ready_at = Number(HELD.ready_at)
"""

from __future__ import annotations

from ctypes import addressof, c_char
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.plain import Fields


class Numbers(Protocol):
    """A row's memory: float64 numbers by their places."""

    def __getitem__(self, place: int, /) -> float: ...

    def __setitem__(self, place: int, value: float, /) -> None: ...


def memory_of(array: NDArray[Any]) -> Any:
    """An array's memory, whose items Python reads and writes faster than the array's own."""
    return memoryview(array)  # type: ignore[arg-type]


def address_of(array: NDArray[Any]) -> int:
    """Return the address of an array, faster than the array itself; it must be contiguous, writable and not empty."""
    return addressof(c_char.from_buffer(array))  # type: ignore[arg-type]


class Row:
    """An object with a row of numbers. `at` is the row's address, for kernels."""

    __slots__ = ("at", "numbers", "owner")

    def __init__(self, length: int) -> None:
        self.owner = np.zeros(length)
        self.numbers: Numbers = memory_of(self.owner)
        self.at = address_of(self.owner)

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint: the array lies elsewhere now."""
        set_fields(self, state)
        self.at = address_of(self.owner)


def set_fields(one: Any, state: tuple[Fields | None, Fields]) -> None:
    """Give an object the fields that a pickle of it holds: those of its dictionary, and those of its slots."""
    for fields in state:
        for name, value in (fields or {}).items():
            setattr(one, name, value)


class Number:
    """A field of the row as a float."""

    __slots__ = ("_place",)

    def __init__(self, place: int) -> None:
        self._place = place

    def __get__(self, one: Any, kind: type | None = None) -> float:
        return one.numbers[self._place]  # type: ignore[no-any-return]

    def __set__(self, one: Any, value: float) -> None:
        one.numbers[self._place] = value


class Integer:
    """A field of the row as a whole number."""

    __slots__ = ("_place",)

    def __init__(self, place: int) -> None:
        self._place = place

    def __get__(self, one: Any, kind: type | None = None) -> int:
        return int(one.numbers[self._place])

    def __set__(self, one: Any, value: int) -> None:
        one.numbers[self._place] = value


class Endless:
    """A field of the row as a whole number; None where it never ends, which the row keeps as -1."""

    __slots__ = ("_place",)

    def __init__(self, place: int) -> None:
        self._place = place

    def __get__(self, one: Any, kind: type | None = None) -> int | None:
        value = int(one.numbers[self._place])
        return None if value < 0 else value

    def __set__(self, one: Any, value: int | None) -> None:
        one.numbers[self._place] = -1.0 if value is None else value


class Flag:
    """A field of the row as a truth."""

    __slots__ = ("_place",)

    def __init__(self, place: int) -> None:
        self._place = place

    def __get__(self, one: Any, kind: type | None = None) -> bool:
        return bool(one.numbers[self._place])

    def __set__(self, one: Any, value: bool) -> None:
        one.numbers[self._place] = value
