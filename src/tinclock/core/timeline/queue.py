"""Rows of numbers that come in at the end and go at the front, side by side in one array, where kernels read them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.packed import address_of, memory_of, set_fields

if TYPE_CHECKING:
    from tinclock.core.packed import Numbers
    from tinclock.core.plain import Fields

FIRST_ROOM = 64


class NumberQueue:
    """A queue of rows of `width` numbers. `at` is the address of the first one, which moves as rows go."""

    __slots__ = ("_begin", "_end", "_numbers", "_rows", "at", "count", "width")

    def __init__(self, width: int) -> None:
        self.width = width
        self._rows = np.zeros(FIRST_ROOM * width)
        self._begin = self._end = self.count = 0
        self._moved()

    def _moved(self) -> None:
        self._numbers: Numbers = memory_of(self._rows)
        self.at = address_of(self._rows) + 8 * self._begin * self.width

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint: the array lies elsewhere now."""
        set_fields(self, state)
        self._moved()

    def append(self, row: tuple[float, ...]) -> None:
        """A row comes in."""
        width, place = self.width, self._end * self.width
        if place == len(self._rows):
            self._make_room()
            place = self._end * width
        for number in row:
            self._numbers[place] = number
            place += 1
        self._end += 1
        self.count += 1

    def _make_room(self) -> None:
        """Move what is held to the beginning of an array of twice its length."""
        width = self.width
        longer = np.zeros(max(FIRST_ROOM, 2 * self.count) * width)
        longer[: self.count * width] = self._rows[self._begin * width : self._end * width]
        self._rows, self._begin, self._end = longer, 0, self.count
        self._moved()

    def pop(self) -> None:
        """The oldest row goes."""
        self._begin += 1
        self.count -= 1
        self.at += 8 * self.width

    def clear(self) -> None:
        """All rows go."""
        self._begin = self._end = self.count = 0
        self._moved()
