"""The bulletin: every published change, numbered from 1 without gaps, told once to those who follow."""

from __future__ import annotations

from collections import deque
from itertools import islice
from typing import TYPE_CHECKING

from tinclock.core.errors import OutOfHistoryError

if TYPE_CHECKING:
    from tinclock.core.combat.events import Event

KEPT_EVENTS = 8192


class Bulletin:
    """Events of one match, in the order in which things changed."""

    __slots__ = ("_fresh", "_kept", "number", "time")

    def __init__(self) -> None:
        self.number = 0
        """The number of the last event, 0 before the first."""
        self.time = 0.0
        """The latest server time of any event."""
        self._fresh: list[Event] = []
        self._kept: deque[Event] = deque(maxlen=KEPT_EVENTS)

    @property
    def next(self) -> int:
        """The number that the next event has."""
        return self.number + 1

    def tell(self, event: Event) -> None:
        """Publish a change, whose number is `next`."""
        self.number, at = event.number, event.server_time
        if at > self.time:
            self.time = at
        self._fresh.append(event)
        self._kept.append(event)

    def take(self) -> list[Event]:
        """Events since the last call."""
        events, self._fresh = self._fresh, []
        return events

    def since(self, number: int) -> list[Event]:
        """Events after a number, taken or not; raises `OutOfHistoryError` where some are no longer kept."""
        first = self._kept[0].number if self._kept else self.number + 1
        if not first - 1 <= number <= self.number:
            raise OutOfHistoryError("event", number, first - 1, self.number)
        return list(islice(reversed(self._kept), self.number - number))[::-1]
