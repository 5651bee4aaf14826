"""The least of what came in lately, kept in time that doesn't grow with how much there was."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.kernels.least import (
    COUNT,
    FIELDS,
    LOW_BEGIN,
    LOW_COUNT,
    RING,
    RING_FIELDS,
    ROOM,
    SPAN,
    SPARE,
    TIMES_BEGIN,
    VALUE,
    WINDOW,
    clear_least_of,
    take_least_of,
)
from tinclock.core.packed import address_of, memory_of, set_fields

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.packed import Numbers
    from tinclock.core.plain import Fields


class Least:
    """The least value of a window of time, in seconds.

    value : the least, inf before the first; count : how many values the window holds
    span_s : the time between the first and the last of them
    spare : how many values kernels may put in before Python can make room for more
    row, place : where these three lie side by side for kernels, with the address of the values behind them
    """

    __slots__ = ("_numbers", "_place", "_ring", "_row", "_window_s", "at")

    def __init__(
        self, window_s: float, row: NDArray[np.float64] | None = None, place: int = 0, spare: int = 16
    ) -> None:
        self._window_s, self._place = window_s, place
        self._row = np.zeros(FIELDS) if row is None else row
        self._numbers: Numbers = memory_of(self._row)
        self._ring = _ring(2 * spare, spare, window_s)
        self._lies()
        self.clear()

    def _lies(self) -> None:
        """Say where the values lie."""
        self.at = address_of(self._row) + 8 * self._place
        self._numbers[self._place + RING] = float(address_of(self._ring))

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint: both arrays lie elsewhere now."""
        set_fields(self, state)
        self._lies()

    @property
    def value(self) -> float:
        """The least value of the window, inf while there is none."""
        return self._numbers[self._place + VALUE]

    @property
    def count(self) -> int:
        """Number of values in the window."""
        return int(self._numbers[self._place + COUNT])

    @property
    def span_s(self) -> float:
        """The time between the first and the last of them."""
        return self._numbers[self._place + SPAN]

    def take(self, at: float, value: float) -> None:
        """A value came at a time that isn't before the last one's."""
        if take_least_of(self.at, float(at), float(value)) == 2.0:
            self.make_room()

    def make_room(self) -> None:
        """Move what is held into a ring of twice the size."""
        before, room = self._ring, int(self._ring[ROOM])
        count, lows = self.count, int(before[LOW_COUNT])
        held = (int(before[TIMES_BEGIN]) + np.arange(count)) % room
        low = (int(before[LOW_BEGIN]) + np.arange(lows)) % room
        self._ring = longer = _ring(2 * room, int(before[SPARE]), self._window_s)
        longer[RING_FIELDS : RING_FIELDS + count] = before[RING_FIELDS + held]
        values = before[RING_FIELDS + room :].reshape(room, 2)
        longer[RING_FIELDS + 2 * room :].reshape(2 * room, 2)[:lows] = values[low]
        longer[LOW_COUNT] = lows
        self._lies()

    def clear(self) -> None:
        """Forget all of it."""
        clear_least_of(self.at)


def _ring(room: int, spare: int, window_s: float) -> NDArray[np.float64]:
    ring = np.zeros(RING_FIELDS + 3 * room)
    ring[ROOM], ring[SPARE], ring[WINDOW] = room, spare, window_s
    return ring
