"""The barrow run: a wheelbarrow that gardeners ride, a rain barrel that bursts, waves of spawns, and phases.

Everything here is the game's own server, which tells the referee what it decides.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.errors import UnknownNameError
from tinclock.garden.screen import GameState, drawn
from tinclock.garden.walking import Walker

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.combat.events import Event
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.vectors import Triple
    from tinclock.garden.screen import Shown
    from tinclock.garden.walking import Ground
    from tinclock.recordings.recorder import Recorder

PACE = 1.6
"""Pace of the wheelbarrow beside that of a gardener who walks."""
SEAT = (-0.1, 0.0, 0.4)
"""Place of a rider's feet in the frame of the wheelbarrow, metres."""
BOARD_M, RIDE_S, REST_S, FETCH_EVERY_S = 1.6, 6.0, 3.0, 0.5
"""Distance at which a gardener gets on, the durations of a ride and of the rest after it, and of a way to a guest."""
WAVE_S, WARM_UP_S, OVER_S, BROKEN_S = 6.0, 4.0, 3.0, 8.0
BARREL = (3.0, 4.5)
"""Place of the rain barrel, metres."""
BURST_EVERY_S, BURST_M, BURST_M_S, BURST_UP_M_S, THROWN_S = 7.0, 6.0, 5.0, 2.5, 0.6
FILL_M, FILL_EVERY_S, FULL = 2.5, 1.0, 3.0


class Wheelbarrow:
    """A clockwork wheelbarrow that roams the garden."""

    rig = "wheelbarrow"

    def __init__(self, server: Referee | Recorder, ground: Ground, rng: np.random.Generator) -> None:
        self.entity = server.add_entity(self.rig, name="wheelbarrow", server_time=0.0)
        self._walker = Walker(ground, rng)
        self._walker.haste, self._ground, self._sent_at = PACE, ground, -math.inf

    def roll(self, now: float, seconds: float, guest: tuple[float, float] | None) -> None:
        """Drive on, to somebody who may get on (a place in metres), or about the garden."""
        if guest is None:
            self._walker.release()
        elif now >= self._sent_at + FETCH_EVERY_S:
            self._sent_at = now
            self._walker.send(self._ground.nearest(*guest))
        self._walker.step(seconds, None, 0.0)

    def step(self, now: float, seconds: float, feet: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return its pose as `roll` left it.

        feet : (n, 2) float64, metres. Returns (bones, 7) float64, metres and quaternion xyzw.
        """
        half = 0.5 * self._walker.yaw
        return np.array([[self._walker.x, self._walker.y, 0.0, 0.0, 0.0, math.sin(half), math.cos(half)]])

    @property
    def place(self) -> tuple[float, float]:
        """Metres."""
        return self._walker.x, self._walker.y

    @property
    def seat(self) -> Triple:
        """Place of a rider's feet, metres."""
        return carried(SEAT, (self._walker.x, self._walker.y, 0.0), self._walker.yaw)

    def act(self, now: float, alive: bool) -> Ruling | None:
        """Return no ruling: it is armed with nothing."""


def carried(place: Triple, by: Triple, yaw: float) -> Triple:
    """Return a place, metres, in the frame of something at `by` that is turned by an angle, in the world."""
    cos, sin = math.cos(yaw), math.sin(yaw)
    return by[0] + cos * place[0] - sin * place[1], by[1] + sin * place[0] + cos * place[1], by[2] + place[2]


def relative(place: Triple, to: Triple, yaw: float) -> Triple:
    """Return the reverse of `carried`."""
    x, y, cos, sin = place[0] - to[0], place[1] - to[1], math.cos(yaw), math.sin(yaw)
    return cos * x + sin * y, cos * y - sin * x, place[2] - to[2]


def seen_vehicle(view: Shown, vehicle: int) -> tuple[Triple, float]:
    """Return where a screen shows a vehicle, metres, and its heading, radians."""
    pose = drawn(view, vehicle)
    if pose is None:
        raise UnknownNameError("vehicle on the screen", vehicle, view[0].bodies)
    x, y, z, _, _, sin, cos = pose[0].tolist()
    return (x, y, z), 2.0 * math.atan2(sin, cos)


class BarrowRun:
    """Decisions of the game's server in a barrow run.

    players : entities that may ride; rides : what each rider rides, by entity
    thrown : server time and velocity of the last push of each body
    """

    def __init__(
        self, server: Referee | Recorder, referee: Referee, barrow: Wheelbarrow, players: Sequence[int], seconds: float
    ) -> None:
        self._server, self._referee, self.barrow, self._players = server, referee, barrow, players
        self.thrown: dict[int, tuple[float, Triple]] = {}
        self._seconds = seconds
        self.rides: dict[int, int] = {}
        self.phase = "warm_up"
        self._off_at, self._free_at, self._burst_at, self._fill_at = math.inf, 0.0, BURST_EVERY_S, 0.0
        self._had: set[int] = set()

    @property
    def state(self) -> GameState:
        """Return the state that snapshots carry."""
        ledger = self._referee.ledger
        water = {entity: ledger.counters(entity)["water"] for entity in self._players}
        return GameState(self.phase, dict(self.rides), dict(self.thrown), water)

    @property
    def seats(self) -> dict[int, Triple]:
        """Return where the server has each rider's feet, metres."""
        return dict.fromkeys(self.rides, self.barrow.seat)

    def back_at(self, death: Event) -> float:
        """Return the server time at which a dead entity begins its next life: with the next wave."""
        wait = WAVE_S if death.entity in self._players else BROKEN_S
        return math.floor(death.server_time / WAVE_S + 1.0) * WAVE_S if wait == WAVE_S else death.server_time + wait

    def step(self, now: float, seconds: float, feet: dict[int, tuple[float, float]]) -> None:
        """Decide what is due. feet : where living gardeners stand, metres, by entity"""
        self._change_phase(now)
        if self._referee.ledger.alive(self.barrow.entity):
            self.barrow.roll(now, seconds, None if self.rides or now < self._free_at else self._guest(feet))
        self._ride(now, feet)
        if now >= self._burst_at:
            self._burst_at += BURST_EVERY_S
            self._burst(now, feet)
        if now >= self._fill_at:
            self._fill_at += FILL_EVERY_S
            for entity, place in feet.items():
                if math.dist(place, BARREL) < FILL_M:
                    self._server.set_counter(entity, "water", FULL, cause="rain barrel", server_time=now)

    def _change_phase(self, now: float) -> None:
        due = "warm_up" if now < WARM_UP_S else "play" if now < self._seconds - OVER_S else "over"
        if due != self.phase:
            self.phase = due
            self._server.set_phase(due, now)
            if due == "play":
                self._server.add_score(10.0, team="copper", cause="toss", server_time=now)

    def _ride(self, now: float, feet: dict[int, tuple[float, float]]) -> None:
        broken = not self._referee.ledger.alive(self.barrow.entity)
        for entity in [one for one in self.rides if now >= self._off_at or broken or one not in feet]:
            del self.rides[entity]
            self._server.set_vehicle(entity, None, now)
            self._server.set_stance(entity, "", now)
            if entity in feet:
                self._server.set_position(entity, (*self.barrow.place, 0.0), now)
            self._free_at = now + REST_S
        if self.rides or broken or now < self._free_at:
            return
        guest = self._guest(feet)
        if guest is not None and math.dist(guest, self.barrow.place) < BOARD_M:
            entity = next(one for one, place in feet.items() if place == guest)
            self.rides[entity], self._off_at = self.barrow.entity, now + RIDE_S
            self._had = {entity}
            self._server.set_vehicle(entity, self.barrow.entity, now)
            self._server.set_stance(entity, "rider", now)
            self._server.mark_teleport(entity)

    def _guest(self, feet: dict[int, tuple[float, float]]) -> tuple[float, float] | None:
        """Return the place of the nearest gardener who didn't ride last, metres."""
        others = [place for entity, place in feet.items() if entity not in self._had]
        return min(others, key=lambda place: math.dist(place, self.barrow.place), default=None)

    def _burst(self, now: float, feet: dict[int, tuple[float, float]]) -> None:
        """The rain barrel bursts: it throws everybody around it who doesn't ride, and hurts them a little."""
        for entity, (x, y) in feet.items():
            apart = math.dist((x, y), BARREL)
            if entity in self.rides or not 0.1 < apart < BURST_M:
                continue
            speed = BURST_M_S * (1.0 - 0.5 * apart / BURST_M) / apart
            velocity = (speed * (x - BARREL[0]), speed * (y - BARREL[1]), BURST_UP_M_S)
            self._server.push(entity, velocity, THROWN_S, now)
            self._server.damage(entity, 5.0, "burst", now, weapon="rain_barrel")
            self.thrown[entity] = now, velocity
