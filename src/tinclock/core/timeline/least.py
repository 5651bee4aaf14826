"""The least of what came in lately, kept in time that doesn't grow with how much there was."""

from __future__ import annotations

from collections import deque


class Least:
    """The least value of a window of time, in seconds. count : how many values the window holds."""

    __slots__ = ("_falling", "_times", "_window_s", "value")

    def __init__(self, window_s: float) -> None:
        self._window_s = window_s
        self._falling: deque[tuple[float, float]] = deque()
        self._times: deque[float] = deque()
        self.value = float("inf")

    @property
    def count(self) -> int:
        """How many values the window holds."""
        return len(self._times)

    @property
    def span_s(self) -> float:
        """The time between the first and the last of them."""
        return self._times[-1] - self._times[0] if self._times else 0.0

    def take(self, at: float, value: float) -> None:
        """A value came at a time that isn't before the last one's."""
        while self._falling and self._falling[-1][1] >= value:
            self._falling.pop()
        self._falling.append((at, value))
        self._times.append(at)
        while self._falling[0][0] < at - self._window_s:
            self._falling.popleft()
        while self._times[0] < at - self._window_s:
            self._times.popleft()
        self.value = self._falling[0][1]

    def clear(self) -> None:
        """Forget all of it."""
        self._falling.clear()
        self._times.clear()
        self.value = float("inf")
