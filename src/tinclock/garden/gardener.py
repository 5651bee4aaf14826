"""One simulated client: a body that it walks, a screen that it looks at, a hand, weapons, and perhaps lies."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal

import numpy as np

from tinclock.core.ruling.claims import MoveClaim, StatusClaim, UseClaim, WeaponActionClaim
from tinclock.core.timeline.views import View
from tinclock.garden.barrow import SEAT, carried, seen_vehicle
from tinclock.garden.goals import Goals
from tinclock.garden.hand import unit
from tinclock.garden.player import Player
from tinclock.garden.screen import GameState, Playout, SentSnapshot, Shown, point_of
from tinclock.garden.trigger import Trigger

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.combat.receipts import Receipt
    from tinclock.core.geometry.level import Level
    from tinclock.core.vectors import Triple
    from tinclock.garden.arms import Arms
    from tinclock.garden.crosshair import Crosshair
    from tinclock.garden.seat import Seat, TrueShot
    from tinclock.garden.walking import Ground, Walker

SIGHT_M, ARM_M = 38.0, 1.7
DECIDE_S, MOVE_S, STATUS_S = 0.2, 1.0 / 16.0, 2.0
SILENCE_S = 0.25
MAX_PANES, BEYOND_M = 8, 1e-4
LOOKED_AT = 6
"""Number of the nearest enemies that are looked for on the screen at a time."""
HEALTHY = 100.0
WATER_M, WATER_EVERY_S, HURT = 4.0, 2.5, 80.0
"""A team-mate with so little health, and so near, is watered so often."""
BODY_POINTS = (4, 2, 2, 2, 1, 0, 13)
"""Bones that are aimed at: head, chest, abdomen, pelvis, a thigh."""


class Gardener(Player):
    """A player and its client. Times are of its own clock, but for those named server_time."""

    def __init__(
        self, seat: Seat, entity: int, ground: Ground, walker: Walker, crosshair: Crosshair, level: Level, arms: Arms,
        rng: np.random.Generator,
    ) -> None:  # fmt: skip
        super().__init__(seat, entity, walker, arms, rng)
        self.goals = Goals(walker, ground, rng)
        self.playout = Playout(seat.delay_s)
        self.alive, self.health = True, HEALTHY
        self._newest, self._life = -1, 1
        self._level, self._rng, self._ground = level, rng, ground
        self._corrected = 0
        self._reported: dict[int, Triple] = {}
        self.trigger = Trigger(self, crosshair, self.playout, rng)
        self._cans, self._can_at = 2, -math.inf
        self._heard_at = self._thrown_at = -math.inf
        self.phase, self._litres, self._water_at = "", 0.0, -math.inf
        self._decide_at = self._move_at = self._status_at = -math.inf
        self._target, self._point, self._engage_at = 0, 2, math.inf
        self._threat: NDArray[np.float64] | None = None

    # -- what comes in ----------------------------------------------------------------------------------------

    def shown(self, snapshot: SentSnapshot, client_time: float) -> None:
        """A snapshot arrived: it shows the others, and how this player itself is."""
        self.playout.take(snapshot, client_time)
        self._heard_at = client_time
        if snapshot.tick <= self._newest:
            return
        self._newest = snapshot.tick
        here = snapshot.bodies.get(self.entity)
        if snapshot.game is not None:
            self._take_game(snapshot.game, here)
        self.alive, self.health = here is not None, snapshot.health.get(self.entity, 0.0)
        if here is not None and here[0] != self._life:
            self._life = here[0]
            self.arms.refill()
            self.goals.reset()
            self._target, self._threat = 0, None

    def told(self, receipt: Receipt, client_time: float) -> None:
        """A receipt arrived."""
        self.mail.answered(receipt.sequence)
        told = receipt.state
        if told is None or told.entity != self.entity:
            return
        if receipt.sequence == self.handling:
            self.arms.handled(client_time - self.seat.line.round_trip_s)
        self.arms.told(told, told.last_sequence >= self.handling and not self.mail.waits_for(self.handling))
        self._cans = told.items_left if told.item else self._cans
        self.trigger.launched(receipt.sequence, told.projectiles, client_time)
        claimed = self._reported.pop(receipt.sequence, None)
        if claimed is None or told.position is None or receipt.outcome != "adjusted":
            return
        if receipt.sequence > self._corrected:  # the server knows better where it stands
            self.walker.x += told.position[0] - claimed[0]
            self.walker.y += told.position[1] - claimed[1]
            self._corrected = self._sequence

    def _take_game(self, game: GameState, here: tuple[int, NDArray[np.float64]] | None) -> None:
        """Follow what the server decided: get on or off, be thrown, stop shooting when the match is over."""
        riding, walker = game.rides.get(self.entity, 0), self.walker
        if self.riding and not riding:
            walker.sits, walker.lift = False, 0.0
            if here is not None:
                walker.x, walker.y = here[1][0, :2].tolist()
        self.riding, self.phase, self._litres = riding, game.phase, game.water.get(self.entity, 0.0)
        at, velocity = game.thrown.get(self.entity, (-math.inf, (0.0, 0.0, 0.0)))
        if at > self._thrown_at and not riding:
            walker.vx, walker.vy = walker.vx + velocity[0], walker.vy + velocity[1]
            walker.rise = max(walker.rise, velocity[2])
        self._thrown_at = max(at, self._thrown_at)

    def _sit(self, view: Shown, eye: Triple) -> Triple:
        """Stand on the vehicle where the screen shows it; returns the eye there, metres."""
        at, yaw = seen_vehicle(view, self.riding)
        x, y, z = carried(SEAT, at, yaw)
        walker = self.walker
        moved = x - walker.x, y - walker.y, z - walker.lift
        walker.x, walker.y, walker.lift, walker.sits = x, y, z, True
        return eye[0] + moved[0], eye[1] + moved[1], eye[2] + moved[2]

    # -- a frame ----------------------------------------------------------------------------------------------

    def move(self, seconds: float) -> None:
        """Walk on, facing the target when there is one."""
        if not self.alive:
            return
        self.walker.haste = 1.0 + 1.5 * self.lies.strength("speed")
        if self._target:
            aim = self.hand.aim
            self.walker.step(seconds, math.atan2(aim[1], aim[0]), -math.asin(max(-1.0, min(1.0, aim[2]))))
        else:
            self.walker.step(seconds, None, 0.0)

    def frame(self, server_time: float, seconds: float, eye: Triple) -> TrueShot | None:
        """Look at the screen, decide, report, aim, and perhaps fire. `eye` is its own, as it predicts it."""
        now = self.seat.clock(server_time)
        view = self.playout.view(now)
        if view is None or not self.alive:
            self._target = 0
            return None
        if self.riding and self.riding in view[0].bodies:
            eye = self._sit(view, eye)
        self._report(now, view)
        if now - self._heard_at > SILENCE_S:  # the screen says that the connection is in trouble, and nobody shoots
            self._target = 0
            return None
        if self.phase == "over" or (self.riding and not self.walker.sits):
            self._target = 0
            return None
        if now >= self._decide_at:
            self._decide_at = now + DECIDE_S
            self._decide(now, view, eye)
        if self._target not in view[0].bodies:
            self._target = 0
            return None
        place = point_of(view, self._target, self._point if self.enemies[self._target] == "gardener" else 1)
        if self.lies.strength("shifted_muzzle"):
            eye = self.trigger.muzzle(eye, self.trigger.side)
        return self.trigger.frame(server_time, now, seconds, view, eye, self._target, place, now >= self._engage_at)

    def _report(self, now: float, view: tuple[SentSnapshot, SentSnapshot, float]) -> None:
        """Send its move, and now and then its own state."""
        walker = self.walker
        shown = View(view[0].tick, view[1].tick, view[2])
        if now >= self._move_at:
            self._move_at = now + MOVE_S
            place = (walker.x, walker.y, walker.lift)
            sequence = self.number()
            if walker.sits:
                move = MoveClaim(sequence, self.entity, SEAT, now, view=shown, relative_to=self.riding)
            else:
                self._reported[sequence] = place
                move = MoveClaim(sequence, self.entity, place, now, view=shown)
            self.mail.put(move, now, answered=False)
            if len(self._reported) > 64:
                del self._reported[next(iter(self._reported))]
        if now >= self._status_at:
            self._status_at = now + STATUS_S
            health = HEALTHY if self.lies.now_and_then("frozen_health") else self.health
            place = (walker.x, walker.y, walker.lift)
            self.mail.put(
                StatusClaim(self.number(), self.entity, health, None, None, place, now, shown), now, answered=False
            )
        for _ in range(self.lies.spam(1.0 / 64.0)):
            self.mail.put(StatusClaim(self.number(), self.entity), now, answered=False)

    def _decide(self, now: float, view: tuple[SentSnapshot, SentSnapshot, float], eye: Triple) -> None:
        before, self._target = self._target, 0
        self.trigger.side = 0.0
        found = self._enemy_in_sight(view, eye)
        if found:
            distance, self._target = found
            self._threat = np.array(point_of(view, self._target, 0)) + (0.0, 0.0, 0.6)
            if self._target != before:
                self.hand.forget()
                self._engage_at = now + self.lies.reaction_s(self.hand.reaction())
                self._point = int(self._rng.choice(BODY_POINTS))
            self._choose_weapon(now, distance)
        elif self._rng.random() < 0.02:
            self._threat = None
        self.goals.decide(now, self.health, self._threat)
        if self.lies.now_and_then("teleport") and self._rng.random() < 0.1:
            place = self._ground.places[self._ground.random_place(self._rng)]
            self.walker.x, self.walker.y = (float(v) for v in place)
        if self._litres >= 1.0 and now >= self._water_at:
            self._water(now, view)
        held = self.arms.held
        if (self.health < 55.0 and not self._target) or self.goals.covered:
            self._mend(now)
            if held.magazine is not None and held.magazine < (held.rules.magazine or 0) and held.reserve != 0:
                self._reload(now)
        elif held.magazine == 0 and held.reserve != 0:
            self._reload(now)

    def _enemy_in_sight(self, view: tuple[SentSnapshot, SentSnapshot, float], eye: Triple) -> tuple[float, int] | None:
        """The nearest enemy that nothing hides, and how far it is."""
        x, y, z = eye
        through = self.lies.now_and_then("aim_through_walls")
        near = []
        for entity in view[0].bodies:
            if entity in self.enemies:
                u, v, w = point_of(view, entity, 2 if self.enemies[entity] == "gardener" else 1)
                apart = math.sqrt((u - x) ** 2 + (v - y) ** 2 + (w - z) ** 2)
                if 1e-6 < apart < SIGHT_M:
                    near.append((apart, entity, ((u - x) / apart, (v - y) / apart, (w - z) / apart)))
        for apart, entity, way in sorted(near)[:LOOKED_AT]:
            if through or self._clear((x, y, z), way, apart) or self._round_the_corner(eye, way, apart):
                return apart, entity
        return None

    def _clear(self, start: Triple, way: Triple, apart: float) -> bool:
        """True if nothing that blocks sight lies on the way: panes are looked through, not what is behind them."""
        at = 0.0
        for _ in range(MAX_PANES):
            x, y, z = (a + at * b for a, b in zip(start, way, strict=True))
            wall = self._level.first((x, y, z), way, apart - at)
            if wall is None:
                return True
            if wall.surface.blocks_sight:
                return False
            at += wall.distance_m + BEYOND_M
            if at >= apart:
                return True
        return False

    def _round_the_corner(self, eye: Triple, way: Triple, apart: float) -> bool:
        """True if a muzzle that is moved aside sees what the eye doesn't; it is then moved there."""
        if not self.lies.strength("shifted_muzzle"):
            return False
        there = [a + apart * b for a, b in zip(eye, way, strict=True)]
        for side in (1.0, -1.0):
            start = self.trigger.muzzle(eye, side)
            to = [a - b for a, b in zip(there, start, strict=True)]
            if self._clear(start, unit(*to), math.hypot(*to)):
                self.trigger.side = side
                return True
        return False

    def _choose_weapon(self, now: float, distance: float) -> None:
        """Return a weapon that suits the distance and isn't empty; the favourite if it does."""
        arms, taste = self.arms, self.seat.favourite
        if distance < ARM_M + 3.0 * self.lies.strength("long_reach"):
            wanted = "trowel"
        elif distance < 7.0:
            wanted = taste if taste in ("gravel_scatter", "hose") else arms.name
        else:
            wanted = taste if taste in ("pebble_sling", "clod_mortar") and distance < 20.0 else "grit_rifle"
        if wanted == "trowel" and distance > arms.all["trowel"].rules.range_m and not self.lies.strength("long_reach"):
            wanted = arms.name
        if arms.all[wanted].dry or (wanted == "trowel" and distance > 5.0):
            wanted = "grit_rifle"
        if arms.held.dry and wanted == arms.name:
            wanted = "grit_rifle"
        if wanted != arms.name and now >= arms.held.ready_at:
            arms.draw(wanted, now)
            self._handle(wanted, "draw", now)

    def _reload(self, now: float) -> None:
        if self.arms.held.reloaded_at == math.inf and now >= self.arms.held.ready_at:
            self.arms.reload(now)
            self._handle(self.arms.name, "reload", now)

    def _handle(self, weapon: str, action: Literal["draw", "reload"], now: float) -> None:
        self.handling = self.number()
        self.mail.put(WeaponActionClaim(self.handling, self.entity, weapon, action), now)

    def _water(self, now: float, view: Shown) -> None:
        """Water the team-mate that needs it most, where one is near."""
        here = (self.walker.x, self.walker.y, 0.0)
        hurt = [
            (view[0].health.get(mate, 0.0), mate)
            for mate in self.mates
            if mate in view[0].bodies and math.dist(here, point_of(view, mate, 0)) < WATER_M
        ]
        if hurt and min(hurt)[0] < HURT:
            self._water_at = now + WATER_EVERY_S
            self.mail.put(UseClaim(self.number(), self.entity, "watering_can", min(hurt)[1]), now)

    def _mend(self, now: float) -> None:
        if self.health < 65.0 and self._cans > 0 and now >= self._can_at:
            self._can_at, self._cans = now + 4.2, self._cans - 1
            self.mail.put(UseClaim(self.number(), self.entity, "oil_can"), now)
