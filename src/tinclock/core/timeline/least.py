"""The least of what came in lately, kept in time that doesn't grow with how much there was."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING

from tinclock.core.packed import blank_row

if TYPE_CHECKING:
    from tinclock.core.packed import Numbers

VALUE, COUNT, SPAN = 0, 1, 2
FIELDS = 3


class Least:
    """The least value of a window of time, in seconds.

    value : the least, inf before the first; count : how many values the window holds
    span_s : the time between the first and the last of them
    numbers, place : a row where these three lie side by side for kernels, and where in it they begin
    """

    __slots__ = ("_falling", "_numbers", "_place", "_times", "_window_s")

    def __init__(self, window_s: float, numbers: Numbers | None = None, place: int = 0) -> None:
        self._window_s = window_s
        self._falling: deque[tuple[float, float]] = deque()
        self._times: deque[float] = deque()
        self._numbers = blank_row(FIELDS) if numbers is None else numbers
        self._place = place
        self.clear()

    @property
    def value(self) -> float:
        """The least value of the window, inf while there is none."""
        return self._numbers[self._place + VALUE]

    @property
    def count(self) -> int:
        """How many values the window holds."""
        return len(self._times)

    @property
    def span_s(self) -> float:
        """The time between the first and the last of them."""
        return self._numbers[self._place + SPAN]

    def take(self, at: float, value: float) -> None:
        """A value came at a time that isn't before the last one's."""
        falling, times, numbers, place = self._falling, self._times, self._numbers, self._place
        while falling and falling[-1][1] >= value:
            falling.pop()
        falling.append((at, value))
        times.append(at)
        oldest = at - self._window_s
        while falling[0][0] < oldest:
            falling.popleft()
        while times[0] < oldest:
            times.popleft()
        numbers[place], numbers[place + COUNT], numbers[place + SPAN] = falling[0][1], len(times), at - times[0]

    def clear(self) -> None:
        """Forget all of it."""
        self._falling.clear()
        self._times.clear()
        numbers, place = self._numbers, self._place
        numbers[place], numbers[place + COUNT], numbers[place + SPAN] = float("inf"), 0.0, 0.0
