"""Moving objects of the garden: the shed's sliding door, and sprinklers that wet nearby players."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Protocol

import numpy as np

from tinclock.core.ruling.claims import TriggerClaim
from tinclock.garden.walking import HEAD_ROOM_M

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.recorder import Recorder

DOOR_AT, DOOR_OPENS_M, DOOR_M_S = (-10.45, 9.4, 1.1), 2.3, 3.0
DOOR_HALF_M = (0.04, 1.94, 1.08)
NEAR_DOOR_M = 3.2
SPRINKLERS_AT = ((-2.5, 9.5), (6.5, -12.5))
JET, CYCLE_S, JET_S, TURN_RATE = "sprinkler_jet", 5.0, 1.5, 1.1
DRY_S = 12.0
"""Time for which a broken sprinkler stays broken."""


class Fixture(Protocol):
    """Something that the server moves."""

    entity: int
    rig: str

    def step(self, now: float, seconds: float, feet: NDArray[np.float64]) -> NDArray[np.float64]:
        """Its bones after a while; feet : (n, 2), where the players stand.

        feet : (n, 2) float64, metres. Returns (bones, 7) float64, metres and quaternion xyzw.
        """

    def act(self, now: float, alive: bool) -> Ruling | None:
        """Action, if any."""


class Door:
    """Slides up while somebody is near, out of everybody's way."""

    rig = "shed_door"

    def __init__(self, server: Referee | Recorder) -> None:
        self.entity = server.add_entity(self.rig, name="shed door", server_time=0.0)
        self._open = 0.0

    def step(self, now: float, seconds: float, feet: NDArray[np.float64]) -> NDArray[np.float64]:
        """See `Fixture`.

        feet : (n, 2) float64, metres. Returns (bones, 7) float64, metres and quaternion xyzw.
        """
        x, y, z = DOOR_AT
        near = len(feet) > 0 and float(np.hypot(feet[:, 0] - x, feet[:, 1] - y).min()) < NEAR_DOOR_M
        change = (DOOR_M_S if near else -DOOR_M_S) * seconds
        self._open = min(DOOR_OPENS_M, max(0.0, self._open + change))
        return np.array([[x, y, z + self._open, 0.0, 0.0, 0.0, 1.0]])

    @property
    def bars(self) -> tuple[float, float, float, float] | None:
        """Return the area that it closes: least and greatest x, least and greatest y; None while it is open."""
        (x, y, z), (half_x, half_y, half_z) = DOOR_AT, DOOR_HALF_M
        if z + self._open - half_z > HEAD_ROOM_M:
            return None
        return x - half_x, x + half_x, y - half_y, y + half_y

    def act(self, now: float, alive: bool) -> None:
        """A door only stands in the way."""


class Sprinkler:
    """Turns its head, and lets its jet go for a while, by the same rules as everybody's shots."""

    rig = "sprinkler"

    def __init__(self, server: Referee | Recorder, shape: Rig, place: tuple[float, float], phase: float) -> None:
        self.entity = server.add_entity(self.rig, name="sprinkler", weapon=JET, server_time=0.0)
        self._server, self._up, self._place, self._phase = server, shape.rest[:, 2].tolist(), place, phase
        self._held, self._aimed_at = False, -math.inf

    def _angle(self, now: float) -> float:
        return self._phase + TURN_RATE * now

    def step(self, now: float, seconds: float, feet: NDArray[np.float64]) -> NDArray[np.float64]:
        """See `Fixture`.

        feet : (n, 2) float64, metres. Returns (bones, 7) float64, metres and quaternion xyzw.
        """
        half, (x, y) = 0.5 * self._angle(now), self._place
        return np.array([[x, y, up, 0.0, 0.0, math.sin(half), math.cos(half)] for up in self._up])

    def act(self, now: float, alive: bool) -> Ruling | None:
        """Open and close the jet, and turn its aim along."""
        on = alive and (now + self._phase) % CYCLE_S < JET_S
        if (not on and not self._held) or (on and now - self._aimed_at < 0.1):
            return None
        self._held = on and alive
        if not alive:
            return None
        self._aimed_at = now
        aim = (math.cos(self._angle(now)), math.sin(self._angle(now)), 0.0)
        return self._server.act(self.entity, TriggerClaim(1, self.entity, JET, on, aim), server_time=now)
