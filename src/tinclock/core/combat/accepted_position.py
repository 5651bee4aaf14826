"""Where a body has been accepted to be, for servers that let clients report it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.kernels.rows import MOST_PLACES, MOVED, PLACE_FIELDS, PLACES_FROM
from tinclock.core.packed import Number, Row

if TYPE_CHECKING:
    from tinclock.core.vectors import Triple


class AcceptedPosition(Row):
    """The last accepted place of a body, its velocity, and how much of the clock its reports have used.

    `clock_at` is the server time that the client's reported time stands at: it may run ahead of the server's own by an
    allowance, never by more, so that nobody moves for more seconds than there were.
    """

    __slots__ = ()

    clock_at = Number(MOVED.clock_at)

    def __init__(self, position: Triple, now: float) -> None:
        super().__init__(PLACES_FROM + MOST_PLACES * PLACE_FIELDS)
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
        at = PLACES_FROM + PLACE_FIELDS * (int(row[MOVED.past]) % MOST_PLACES)
        row[at], row[at + 1], row[at + 2], row[at + 3] = now, *position
        row[MOVED.past] += 1.0

    def places(self, since: float) -> list[Triple]:
        """Where the body was accepted to be from a time on, the place that held then included."""
        count = int(self.numbers[MOVED.past])
        ring = self.owner[PLACES_FROM:].reshape(MOST_PLACES, PLACE_FIELDS).tolist()
        past = [ring[k % MOST_PLACES] for k in range(max(0, count - MOST_PLACES), count)]
        first = max((k for k, (at, *_) in enumerate(past) if at <= since), default=0)
        return [(x, y, z) for _, x, y, z in past[first:]]
