"""Accepted position of a body, for servers that let clients report it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

from tinclock.core.kernels.checks.move import MAX_PAUSE_S
from tinclock.core.kernels.dtypes import MAX_PLACES, MOVED, PLACE_FIELDS, PLACES_FROM
from tinclock.core.packed import Number, Row

if TYPE_CHECKING:
    from tinclock.core.vectors import Triple


USUAL_S: Final = 1.0 / 16.0
"""Assumed time between a client's reports until it has sent some."""


class AcceptedPosition(Row):
    """The last accepted place of a body, its velocity, and how much of the clock its reports have used.

    `clock_at` is the server time that the client's reported time stands at: it may run ahead of the server's own by an
    allowance, never by more, so that nobody moves for more seconds than there were.
    """

    __slots__ = ()

    clock_at = Number(MOVED.clock_at)

    def __init__(self, position: Triple, now: float) -> None:
        super().__init__(PLACES_FROM + MAX_PLACES * PLACE_FIELDS)
        self.numbers[MOVED.client_time] = math.nan
        self.numbers[MOVED.interval_s], self.numbers[MOVED.silence_s] = USUAL_S, MAX_PAUSE_S
        self.numbers[MOVED.reported_at] = self.clock_at = now
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
        for field in (MOVED.velocity_x, MOVED.velocity_y, MOVED.lead_x, MOVED.lead_y, MOVED.lead_z, MOVED.owed_m):
            row[field] = 0.0
        row[MOVED.was_put], row[MOVED.has_ground], row[MOVED.stands], row[MOVED.rise_m_s] = 1.0, math.nan, 0.0, 0.0
        at = PLACES_FROM + PLACE_FIELDS * (int(row[MOVED.past]) % MAX_PLACES)
        row[at], row[at + 1], row[at + 2], row[at + 3] = now, *position
        row[MOVED.past] += 1.0

    def places(self, since: float) -> list[Triple]:
        """Return the accepted positions from a time on, the one of that time included."""
        count = int(self.numbers[MOVED.past])
        ring = self.owner[PLACES_FROM:].reshape(MAX_PLACES, PLACE_FIELDS).tolist()
        past = [ring[k % MAX_PLACES] for k in range(max(0, count - MAX_PLACES), count)]
        first = max((k for k, (at, *_) in enumerate(past) if at <= since), default=0)
        return [(x, y, z) for _, x, y, z in past[first:]]
