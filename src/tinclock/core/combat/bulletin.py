"""The bulletin: every published change, numbered from 1 without gaps, told once to those who follow."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING, Any

from tinclock.core.errors import OutOfHistoryError
from tinclock.core.records import Event

if TYPE_CHECKING:
    from tinclock.core.records import EventKind

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

    def tell(
        self,
        kind: EventKind,
        server_time: float,
        entity: int,
        cause: str = "",
        actor: int | None = None,
        weapon: str | None = None,
        part: str | None = None,
        amount: float | None = None,
        before: float | None = None,
        after: float | None = None,
        **more: Any,
    ) -> None:
        """Publish a change; the arguments are an event's fields."""
        self.number = number = self.number + 1
        if server_time > self.time:
            self.time = server_time
        fields = (number, kind, server_time, entity, cause, actor, weapon, part, amount, before, after)
        event = Event(*fields, **more) if more else Event(*fields)
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
        return list(self._kept)[number - first + 1 :] if number < self.number else []
