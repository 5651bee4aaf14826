"""Where a body has been accepted to be, for servers that let clients report it."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

from tinclock.core.kernels.rows import MOVED
from tinclock.core.packed import Number, Row

if TYPE_CHECKING:
    from tinclock.core.vectors import Triple

REMEMBERED_PLACES = 64


class AcceptedPosition(Row):
    """The last accepted place of a body, its velocity, and how much of the clock its reports have used.

    `clock_at` is the server time that the client's reported time stands at: it may run ahead of the server's own by an
    allowance, never by more, so that nobody moves for more seconds than there were.
    """

    __slots__ = ("past",)

    clock_at = Number(MOVED.clock_at)

    def __init__(self, position: Triple, now: float) -> None:
        super().__init__(len(MOVED))
        self.past: deque[tuple[float, Triple]] = deque(maxlen=REMEMBERED_PLACES)
        self.numbers[MOVED.client_time] = math.nan
        self.clock_at = now
        self.put(position, now)

    @property
    def position(self) -> Triple:
        """Metres, the body's foot."""
        row = self.numbers
        return row[MOVED.x], row[MOVED.y], row[MOVED.z]

    def put(self, position: Triple, now: float) -> None:
        """The server puts the body somewhere: it begins from rest."""
        row = self.numbers
        row[MOVED.x], row[MOVED.y], row[MOVED.z] = position
        row[MOVED.velocity_x] = row[MOVED.velocity_y] = row[MOVED.velocity_z] = 0.0
        self.past.append((now, position))

    def places(self, since: float) -> list[Triple]:
        """Where the body was accepted to be from a time on, the place that held then included."""
        past = list(self.past)
        first = max((k for k, (at, _) in enumerate(past) if at <= since), default=0)
        return [place for _, place in past[first:]]
