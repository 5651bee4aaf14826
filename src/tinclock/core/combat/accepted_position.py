"""Where a body has been accepted to be, for servers that let clients report it."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.vectors import Triple

REMEMBERED_PLACES = 64


class AcceptedPosition:
    """The last accepted place of a body, its velocity, and how much of the clock its reports have used.

    `clock_at` is the server time that the client's reported time stands at: it may run ahead of the server's own by an
    allowance, never by more, so that nobody moves for more seconds than there were.
    """

    __slots__ = ("client_time", "clock_at", "past", "position", "velocity")

    def __init__(self, position: Triple, now: float) -> None:
        self.past: deque[tuple[float, Triple]] = deque(maxlen=REMEMBERED_PLACES)
        self.client_time: float | None = None
        self.clock_at = now
        self.put(position, now)

    def put(self, position: Triple, now: float) -> None:
        """The server puts the body somewhere: it begins from rest."""
        self.position, self.velocity = position, (0.0, 0.0, 0.0)
        self.past.append((now, position))

    def go(self, position: Triple, velocity: Triple, now: float) -> None:
        """A report was accepted."""
        self.position, self.velocity = position, velocity
        self.past.append((now, position))

    def places(self, since: float) -> list[Triple]:
        """Where the body was accepted to be from a time on, the place that held then included."""
        past = list(self.past)
        first = max((k for k, (at, _) in enumerate(past) if at <= since), default=0)
        return [place for _, place in past[first:]]
