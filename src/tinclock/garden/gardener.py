"""One player: a body that it walks, a screen that it looks at, a finger on the trigger, and perhaps a lie."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from tinclock.core.claims import ShotClaim
from tinclock.core.timeline.views import View
from tinclock.garden.screen import Crosshair, Playout, Seen, Snapshot, drawn

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.combat.weapons import Weapon
    from tinclock.garden.network import LineQuality
    from tinclock.garden.walking import Walker

Conduct = Literal["honest", "inflates damage", "names another", "fires too fast"]

SIGHT_M = 38.0
CHOOSE_EVERY_S = 0.2
HAND_S = 0.13
"""How quickly the hand closes a gap, and how quickly it takes up a target's motion."""
FAST_TRIGGER = 0.5
INFLATION = 4.0


class Seat(NamedTuple):
    """A player's place in the scenario."""

    account: str
    team: str
    conduct: Conduct
    line: LineQuality
    delay_s: float
    tremor_rad: float

    @property
    def connection(self) -> str:
        """The connection's name."""
        return f"line-{self.account}"


class Shot(NamedTuple):
    """A shot as its shooter fired it, and what its crosshair was on: the truth about the claim."""

    fired_at: float
    claim: ShotClaim
    seen: Seen


class Gardener:
    """A simulated client. Times are of its own clock, but for `fired_at`."""

    def __init__(
        self,
        seat: Seat,
        entity: int,
        walker: Walker,
        crosshair: Crosshair,
        weapon: Weapon,
        clock_offset_s: float,
        rng: np.random.Generator,
    ) -> None:
        self.seat, self.entity, self.walker = seat, entity, walker
        self.clock_offset_s = clock_offset_s
        self.others: dict[int, str] = {}
        self.alive, self._newest = True, 0
        self.playout = Playout(seat.delay_s)
        self._crosshair, self._weapon, self._rng = crosshair, weapon, rng
        self._aim = np.array([1.0, 0.0, 0.0])
        self._wanted, self._lead, self._followed = self._aim, np.zeros(3), 0
        self._tremor = np.zeros(2)
        self._target, self._point = 0, 2
        self._choose_at = self._fire_at = -math.inf
        self._sequence = 0

    def told(self, snapshot: Snapshot, client_time: float) -> None:
        """A snapshot arrived: it shows the others, and whether this player itself is alive."""
        self.playout.take(snapshot, client_time)
        if snapshot.tick >= self._newest:
            self._newest, self.alive = snapshot.tick, self.entity in snapshot.bodies

    def move(self, seconds: float) -> None:
        """Walk on, facing the target when there is one."""
        if not self.alive:
            return
        if self._target:
            self.walker.step(seconds, math.atan2(self._aim[1], self._aim[0]), -math.asin(float(self._aim[2])))
        else:
            self.walker.step(seconds, None, 0.0)

    def act(self, server_time: float, seconds: float, eye: NDArray[np.float64]) -> Shot | None:
        """Look at the screen, aim, and fire when the crosshair is about right. `eye` is its own, as it predicts it."""
        now = server_time + self.clock_offset_s
        view = self.playout.view(now)
        if view is None or not self.alive:
            self._target = 0
            return None
        if now >= self._choose_at:
            self._choose_at = now + CHOOSE_EVERY_S
            self._choose(view, eye)
        body = drawn(view, self._target) if self._target else None
        if body is None:
            self._target = 0
            return None
        off = self._follow(body[self._point, :3] - eye, seconds)
        if now < self._fire_at or off > 0.05:
            return None
        return self._fire(server_time, now, view, eye)

    def _choose(self, view: tuple[Snapshot, Snapshot, float], eye: NDArray[np.float64]) -> None:
        """The nearest player of another team with nothing in between, and which bone to aim at."""
        best, self._target = SIGHT_M, 0
        for entity, team in self.others.items():
            body = drawn(view, entity) if team != self.seat.team else None
            if body is None:
                continue
            to = body[2, :3] - eye
            distance = float(np.linalg.norm(to))
            if distance < best and self._crosshair.passage(eye, to / distance, distance)[0] >= distance:
                best, self._target = distance, entity
        self._point = int(self._rng.choice([4, 2, 2, 1, 0, 13]))

    def _follow(self, to: NDArray[np.float64], seconds: float) -> float:
        """Turn the aim towards the target with a hand's lag and tremor; returns the angle still to go."""
        wanted = to / np.linalg.norm(to)
        if self._target == self._followed:
            self._lead += ((wanted - self._wanted) / seconds - self._lead) * min(1.0, seconds / HAND_S)
        else:
            self._lead, self._followed = np.zeros(3), self._target
        self._wanted = wanted
        self._aim += (wanted - self._aim) * min(1.0, seconds / HAND_S) + self._lead * seconds
        self._aim /= np.linalg.norm(self._aim)
        fade = math.exp(-seconds / 0.25)
        spread = self.seat.tremor_rad * math.sqrt(1.0 - fade * fade)
        self._tremor = fade * self._tremor + self._rng.normal(0.0, spread, 2)
        return float(np.linalg.norm(wanted - self._aim))

    def _shaken(self) -> NDArray[np.float64]:
        side = np.cross(self._aim, [0.0, 0.0, 1.0])
        side /= np.linalg.norm(side)
        out = self._aim + self._tremor[0] * side + self._tremor[1] * np.cross(side, self._aim)
        return np.asarray(out / np.linalg.norm(out))

    def _fire(
        self, server_time: float, now: float, view: tuple[Snapshot, Snapshot, float], eye: NDArray[np.float64]
    ) -> Shot:
        conduct, weapon = self.seat.conduct, self._weapon
        along = self._shaken()
        seen = self._crosshair.look(view, self.entity, eye, along, weapon.range_m)
        damage = seen.kept * weapon.damage_at(seen.distance_m, seen.zone) if seen.victim else None
        pause = weapon.rules.interval_s * (FAST_TRIGGER if conduct == "fires too fast" else 1.0)
        self._fire_at = now + pause + (0.0 if self._rng.random() < 0.7 else float(self._rng.uniform(0.05, 0.6)))
        self._sequence += 1
        actor = self.entity
        if conduct == "names another" and self._rng.random() < 0.6:
            actor = int(self._rng.choice(sorted(self.others)))
        if conduct == "inflates damage" and damage is not None:
            damage *= INFLATION
        claim = ShotClaim(
            self._sequence,
            actor,
            weapon.name,
            (float(eye[0]), float(eye[1]), float(eye[2])),
            (float(along[0]), float(along[1]), float(along[2])),
            View(view[0].tick, view[1].tick, view[2]),
            victim=seen.victim or None,
            part=seen.part or None,
            damage=damage,
        )
        return Shot(server_time, claim, seen)
