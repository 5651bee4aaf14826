"""The bulletin: every published change, numbered from 1 without gaps, told once to those who follow."""

from __future__ import annotations

from collections import deque
from itertools import islice
from typing import Any, Final

import msgspec
from msgspec.structs import replace

from tinclock.core.combat.events import Event, ScoreEvent
from tinclock.core.errors import OutOfHistoryError

KEPT_EVENTS = 8192
_ENCODE: Final = msgspec.msgpack.Encoder().encode
_DECODE: Final = msgspec.msgpack.Decoder(list[Event]).decode


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

    def __getstate__(self) -> tuple[int, float, bytes, list[int], int]:
        """For a checkpoint: there may be thousands of events, so they are packed together."""
        longer = self._fresh if len(self._fresh) > len(self._kept) else list(self._kept)  # one is the other's end
        counts = [place for place, one in enumerate(longer) if type(one) is ScoreEvent and type(one.after) is int]
        return self.number, self.time, _ENCODE(longer), counts, len(self._fresh)

    def __setstate__(self, state: tuple[int, float, bytes, list[int], int]) -> None:
        self.number, self.time, packed, counts, fresh = state
        events: list[Event] = _DECODE(packed)
        for place in counts:  # a reader makes floats of them
            one: Any = events[place]
            events[place] = replace(one, before=int(one.before), after=int(one.after))
        self._kept = deque(events, maxlen=KEPT_EVENTS)
        self._fresh = events[len(events) - fresh :]

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
