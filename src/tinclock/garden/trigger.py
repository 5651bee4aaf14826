"""A player's finger: when it fires, at what, and what its client then claims."""

from __future__ import annotations

import copy
import math
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.claims import ImpactClaim, LaunchClaim, ShotClaim, StrikeClaim
from tinclock.core.timeline.views import View
from tinclock.garden.screen import Seen
from tinclock.garden.seat import Shot
from tinclock.garden.unfair import MOST_SHIFT_M

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.claims import Triple
    from tinclock.garden.arms import Arm
    from tinclock.garden.crosshair import Crosshair
    from tinclock.garden.gardener import Gardener
    from tinclock.garden.screen import Snapshot

GRAVITY = 9.81
NUMBERS_TRIED = 8
NOBODY = Seen(0, "", "", math.inf)


class Trigger:
    """The finger of one player."""

    def __init__(self, player: Gardener, crosshair: Crosshair, rng: np.random.Generator) -> None:
        self._player, self._crosshair, self._rng = player, crosshair, rng
        self._fire_at = -math.inf
        self._before: tuple[float, NDArray[np.float64]] | None = None
        self._flying: list[tuple[int, float]] = []
        self._launches: dict[int, int] = {}

    def launched(self, sequence: int, projectiles: tuple[int, ...], now: float) -> None:
        """The server let something fly for this player; who invents impacts remembers it."""
        victim = self._launches.pop(sequence, 0)
        player = self._player
        if projectiles and victim and player.lies.now_and_then("invent_impacts"):
            place = (player.walker.x + 2.0, player.walker.y, 1.2)
            claim = ImpactClaim(player.number(), player.entity, projectiles[0], 0.2, place, victim, "head")
            player.mail.put(claim, now)

    def frame(
        self, server_time: float, now: float, seconds: float, view: tuple[Snapshot, Snapshot, float],
        eye: NDArray[np.float64], target: int, place: NDArray[np.float64], engaged: bool,
    ) -> Shot | None:  # fmt: skip
        """Aim on, and fire when it is about right."""
        player = self._player
        arm = player.arms.held
        to = self._lead(arm, now, place, eye)
        distance = float(np.linalg.norm(place - eye))
        wanted = to / max(1e-9, float(np.linalg.norm(to)))
        if not engaged:
            return None
        off = player.hand.follow(wanted, now, seconds)
        if player.lies.now_and_then("snap_aim"):
            player.hand.aim, off = wanted, 0.0
        allowed = max(0.015, min(0.15, 0.22 / max(distance, 0.1)))
        if now < self._fire_at or off > allowed or not self._may_fire(arm, now, distance):
            return None
        return self._fire(server_time, now, view, eye, target, wanted)

    def _may_fire(self, arm: Arm, now: float, distance: float) -> bool:
        lies, rules = self._player.lies, arm.rules
        if rules.kind == "reach" and distance > lies.reach_m(rules.range_m):
            return False
        if self._player.arms.ready(now):
            return True
        early = lies.dial("fast_trigger") > 0.0 and arm.magazine != 0 and now >= arm.ready_at - rules.interval_s
        return early or (arm.magazine == 0 and lies.now_and_then("endless_ammunition"))

    def _lead(self, arm: Arm, now: float, place: NDArray[np.float64], eye: NDArray[np.float64]) -> NDArray[np.float64]:
        """The way to where the target will be when what is fired gets there."""
        before, self._before = self._before, (now, place)
        flight = arm.rules.flight
        if flight is None:
            return place - eye
        moved = np.zeros(3)
        if before is not None and 0.0 < now - before[0] < 0.1:
            moved = (place - before[1]) / (now - before[0])
        speed = flight.speed_m_s
        to = place - eye
        if float(np.linalg.norm(moved)) < 8.0:
            to = to + moved * float(np.linalg.norm(to)) / speed
        level = float(np.hypot(to[0], to[1]))
        reach = speed * speed / GRAVITY
        rise = 0.5 * math.asin(min(1.0, level / reach)) + math.atan2(float(to[2]), max(level, 1e-6))
        return np.array([to[0], to[1], level * math.tan(min(rise, 1.2))])

    # -- firing -----------------------------------------------------------------------------------------------

    def _fire(
        self, server_time: float, now: float, view: tuple[Snapshot, Snapshot, float], eye: NDArray[np.float64],
        target: int, wanted: NDArray[np.float64],
    ) -> Shot:  # fmt: skip
        player, lies = self._player, self._player.lies
        arms, arm = player.arms, player.arms.held
        speed = math.hypot(player.walker.vx, player.walker.vy)
        along, number = self._aimed(arm, now, speed, wanted)
        aim: Triple = tuple(along.tolist())
        sequence = player.number()
        rays = arms.fire(aim, now, sequence, speed)
        self._fire_at = now + lies.pause_s(arm.rules.interval_s)
        if self._rng.random() > 0.7:
            self._fire_at += float(self._rng.uniform(0.05, 0.6))
        ahead = lies.ahead(view[1].tick, view[1].tick - view[0].tick or 2)
        fields: dict[str, Any] = {
            "sequence": sequence,
            "actor": lies.actor(player.entity, sorted(player.enemies)),
            "weapon": arms.name,
            "origin": self._muzzle(eye),
            "direction": aim,
            "view": View(view[0].tick + ahead, view[1].tick + ahead, view[2]),
        }
        if not arm.scatter.plain:
            fields |= {"command_time": now, "shot": number}
        if arm.rules.kind == "projectile":
            player.walker.throw()
            self._launches[sequence] = target
            claim: Any = LaunchClaim(**fields)
            shot = Shot(server_time, claim, (NOBODY,))
        else:
            shot = self._shot(server_time, arm, fields, eye, rays, view)
        player.mail.put(shot.claim, now, copies=lies.copies())
        return shot

    def _shot(
        self, server_time: float, arm: Arm, fields: dict[str, Any], eye: NDArray[np.float64], rays: list[Triple],
        view: tuple[Snapshot, Snapshot, float],
    ) -> Shot:  # fmt: skip
        """A shot or a blow, with what the client's own crosshair says it met."""
        player, rules = self._player, arm.rules
        if rules.kind == "reach":
            return Shot(server_time, StrikeClaim(**fields), (NOBODY,))
        look = self._crosshair.look
        seen = tuple(look(view, player.entity, eye, np.array(ray), rules.range_m, arm.weapon.penetration) for ray in rays)
        first = seen[0]
        if first.victim and arm.scatter.plain:
            damage = first.kept * arm.weapon.damage_at(first.distance_m, first.zone)
            fields |= {"victim": first.victim, "part": first.part, "damage": player.lies.damage(damage)}
        elif player.lies.dial("inflate_damage"):
            fields["damage"] = player.lies.damage(rules.damage * rules.pellets)
        return Shot(server_time, ShotClaim(**fields), seen)

    def _aimed(
        self, arm: Arm, now: float, speed: float, wanted: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], int | None]:
        """Where the player aims, and which number its shot claims; spread may be taken out of it, which is unfair."""
        along, lies = self._player.hand.shaken(), self._player.lies
        number = None if arm.scatter.plain else arm.shots + 1
        if lies.now_and_then("snap_aim"):
            along = wanted
        if number is None:
            return along, None
        if lies.dial("lucky_numbers") > 0.0:
            tried = range(number, number + 1 + round(NUMBERS_TRIED * lies.dial("lucky_numbers")))
            number = min(tried, key=lambda n: float(np.linalg.norm(self._stray(arm, along, now, n, speed) - wanted)))
            arm.shots = number - 1
        if lies.dial("no_spread") > 0.0:
            along = along + lies.dial("no_spread") * (along - self._stray(arm, along, now, number, speed))
            along = along / np.linalg.norm(along)
        return along, number

    def _stray(
        self, arm: Arm, along: NDArray[np.float64], now: float, number: int, speed: float
    ) -> NDArray[np.float64]:
        """Where a shot of a number would go: the stream is the client's own, so it can look ahead."""
        return np.array(copy.copy(arm.scatter).rays(tuple(along.tolist()), now, number, speed)[0])

    def _muzzle(self, eye: NDArray[np.float64]) -> Triple:
        x, y, z = eye.tolist()
        shift = MOST_SHIFT_M * self._player.lies.dial("shifted_muzzle")
        if shift == 0.0:
            return x, y, z
        a, b = self._player.hand.aim[:2].tolist()
        side = 1.0 if self._rng.random() < 0.5 else -1.0
        return x - side * b * shift, y + side * a * shift, z
