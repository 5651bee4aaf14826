"""A player's finger: when it fires, at what, and what its client then claims."""

from __future__ import annotations

import copy
import math
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.plain import Fields
from tinclock.core.ruling.claims import ImpactClaim, LaunchClaim, MeleeClaim, ShotClaim
from tinclock.core.timeline.views import View
from tinclock.garden.cheats import MAX_SHIFT_M
from tinclock.garden.hand import unit
from tinclock.garden.screen import OnCrosshair
from tinclock.garden.seat import TrueShot

if TYPE_CHECKING:
    from tinclock.core.vectors import Triple
    from tinclock.garden.arms import Arm
    from tinclock.garden.crosshair import Crosshair
    from tinclock.garden.player import Player
    from tinclock.garden.screen import Playout, SentSnapshot

GRAVITY = 9.81
NUMBERS_TRIED = 8
FINGER_S, FINGER_SD_S = 0.08, 0.03
"""Time of a finger to pull again once a single-shot weapon is ready, and its variation."""
NOBODY = OnCrosshair(0, "", "", math.inf)


class Trigger:
    """The finger of one player."""

    def __init__(self, player: Player, crosshair: Crosshair, playout: Playout, rng: np.random.Generator) -> None:
        self._player, self._crosshair, self._playout, self._rng = player, crosshair, playout, rng
        self._fire_at = -math.inf
        self._before: tuple[float, Triple] | None = None
        self._launches: dict[int, tuple[int, Triple, float]] = {}
        self._snaps = self._overdraws = False
        """True if the next shot is to be snapped, and fired from an empty magazine: decided once a shot."""
        self.side = 0.0
        """To which side its muzzle is moved, 1 left, -1 right: where the target can be seen from."""

    def launched(self, sequence: int, projectiles: tuple[int, ...], now: float) -> None:
        """The server let something fly for this player; who invents impacts remembers it."""
        player, launch = self._player, self._launches.pop(sequence, None)
        if projectiles and launch is not None and player.lies.now_and_then("invent_impacts"):
            victim, place, flight_time_s = launch
            claim = ImpactClaim(player.number(), player.entity, projectiles[0], flight_time_s, place, victim, "head")
            player.mail.put(claim, now)

    def frame(
        self, server_time: float, now: float, seconds: float, view: tuple[SentSnapshot, SentSnapshot, float],
        eye: Triple, target: int, place: Triple, engaged: bool,
    ) -> TrueShot | None:  # fmt: skip
        """Aim on, and fire when it is about right."""
        player = self._player
        arm = player.arms.held
        wanted = self._lead(arm, now, place, eye)
        distance = math.dist(place, eye)
        if not engaged:
            return None
        off = player.hand.follow(wanted, now, seconds)
        if self._snaps and now >= self._fire_at:
            player.hand.aim, off = wanted, 0.0
        allowed = max(0.015, min(0.15, 0.22 / max(distance, 0.1)))
        if now < self._fire_at or off > allowed or not self._may_fire(arm, now, distance):
            return None
        return self._fire(server_time, now, view, eye, (target, place), wanted)

    def _may_fire(self, arm: Arm, now: float, distance: float) -> bool:
        lies, rules = self._player.lies, arm.rules
        if rules.kind == "melee" and distance > lies.reach_m(rules.range_m):
            return False
        if self._player.mail.waits_for(self._player.handling):
            return False
        if self._player.arms.ready(now):
            return True
        early = lies.strength("fast_trigger") > 0.0 and arm.magazine != 0 and now >= arm.ready_at - rules.interval_s
        return early or (arm.magazine == 0 and self._overdraws)

    def _lead(self, arm: Arm, now: float, place: Triple, eye: Triple) -> Triple:
        """The way to where the target will be when what is fired gets there."""
        before, self._before = self._before, (now, place)
        x, y, z = place[0] - eye[0], place[1] - eye[1], place[2] - eye[2]
        flight = arm.rules.projectile
        if flight is None:
            return unit(x, y, z + 1e-9)
        if before is not None and 0.0 < now - before[0] < 0.1:
            moved = [(a - b) / (now - before[0]) for a, b in zip(place, before[1], strict=True)]
            if math.hypot(*moved) < 8.0:
                ahead = math.hypot(x, y, z) / flight.speed_m_s
                x, y, z = x + moved[0] * ahead, y + moved[1] * ahead, z + moved[2] * ahead
        level = math.hypot(x, y)
        reach = flight.speed_m_s**2 / GRAVITY
        rise = 0.5 * math.asin(min(1.0, level / reach)) + math.atan2(z, max(level, 1e-6))
        return unit(x, y, level * math.tan(min(rise, 1.2)) + 1e-9)

    # -- firing -----------------------------------------------------------------------------------------------

    def _fire(
        self, server_time: float, now: float, view: tuple[SentSnapshot, SentSnapshot, float], eye: Triple,
        target: tuple[int, Triple], wanted: Triple,
    ) -> TrueShot:  # fmt: skip
        player, lies = self._player, self._player.lies
        arms, arm = player.arms, player.arms.held
        speed = math.hypot(player.walker.vx, player.walker.vy)
        aim, number = self._aimed(arm, now, speed, wanted)
        sequence = player.number()
        rays = arms.fire(aim, now, sequence, speed)
        view = self._shopped(now, view, eye, rays[0], arm)
        self._fire_at = now + lies.pause_s(arm.rules.interval_s)
        if not arm.rules.automatic:
            self._fire_at += lies.finger_s(max(0.0, float(self._rng.normal(FINGER_S, FINGER_SD_S))))
        if self._rng.random() > 0.7:
            self._fire_at += float(self._rng.uniform(0.05, 0.6))
        ahead = lies.ahead(view[1].tick - view[0].tick or 2)
        fields: Fields = {
            "sequence": sequence,
            "actor": lies.actor(player.entity, sorted(player.enemies)),
            "weapon": arms.name,
            "origin": eye,
            "direction": aim,
            "view": View(view[0].tick + ahead, view[1].tick + ahead, view[2]),
        }
        fields["client_time"] = now
        if player.riding:
            fields |= player.on_vehicle(view, eye)
        if not arm.scatter.plain:
            fields["shot"] = number
        if arm.rules.kind == "projectile":
            player.walker.throw()
            flight = arm.rules.projectile
            flight_time_s = 0.0 if flight is None else math.dist(target[1], eye) / flight.speed_m_s
            self._launches[sequence] = (*target, flight_time_s)
            claim: Any = LaunchClaim(**fields)
            shot = TrueShot(server_time, claim, (NOBODY,))
        else:
            shot = self._shot(server_time, arm, fields, eye, rays, view)
        player.mail.put(shot.claim, now, copies=lies.copies())
        self._snaps, self._overdraws = lies.now_and_then("snap_aim"), lies.now_and_then("endless_ammunition")
        return shot

    def _shot(
        self, server_time: float, arm: Arm, fields: Fields, eye: Triple, rays: list[Triple],
        view: tuple[SentSnapshot, SentSnapshot, float],
    ) -> TrueShot:  # fmt: skip
        """A shot or a blow, with what the client's own crosshair says it met."""
        player, rules = self._player, arm.rules
        if rules.kind == "melee":
            return TrueShot(server_time, MeleeClaim(**fields), (NOBODY,))
        look, start = self._crosshair.look, np.array(eye)
        seen = tuple(
            look(view, player.entity, start, np.array(ray), rules.range_m, arm.weapon.penetration, player.riding)
            for ray in rays
        )
        first = seen[0]
        if first.victim and arm.scatter.plain:
            damage = first.kept * arm.weapon.damage_at(first.distance_m, first.zone)
            fields |= {"victim": first.victim, "part": first.part, "damage": player.lies.damage(damage)}
        elif player.lies.strength("inflate_damage"):
            fields["damage"] = player.lies.damage(rules.damage * rules.pellets)
        return TrueShot(server_time, ShotClaim(**fields), seen)

    def _shopped(
        self, now: float, view: tuple[SentSnapshot, SentSnapshot, float], eye: Triple, ray: Triple, arm: Arm
    ) -> tuple[SentSnapshot, SentSnapshot, float]:
        """The view that it claims: its screen's, or for one who shops the best of the last while at which it hits."""
        player = self._player
        best, most = view, -1.0
        for back in (0.0, *player.lies.shopped_s()):
            older = view if back == 0.0 else self._playout.view(now - back)
            if older is None:
                break
            seen = self._crosshair.look(older, player.entity, np.array(eye), np.array(ray), arm.rules.range_m, 0.0)
            worth = arm.weapon.damage_at(seen.distance_m, seen.zone) if seen.victim in player.enemies else 0.0
            if worth > most:
                best, most = older, worth
            if not player.lies.shopped_s():
                break
        return best

    def _aimed(self, arm: Arm, now: float, speed: float, wanted: Triple) -> tuple[Triple, int | None]:
        """Return the player's aim, and its shot's number; spread may be taken out of it, which is unfair."""
        along, lies = self._player.hand.shaken(), self._player.lies
        number = None if arm.scatter.plain else arm.shots + 1
        if self._snaps:
            along = wanted
        if number is None:
            return along, None
        if lies.strength("spread_number_picking") > 0.0:
            tried = range(number, number + 1 + round(NUMBERS_TRIED * lies.strength("spread_number_picking")))
            number = min(tried, key=lambda n: math.dist(self._stray(arm, along, now, n, speed), wanted))
            arm.shots = number - 1
        if lies.strength("no_spread") > 0.0:
            stray, strength = self._stray(arm, along, now, number, speed), lies.strength("no_spread")
            x, y, z = (a + strength * (a - b) for a, b in zip(along, stray, strict=True))
            along = unit(x, y, z)
        return along, number

    def _stray(self, arm: Arm, along: Triple, now: float, number: int, speed: float) -> Triple:
        """Return the direction of a shot by its number: the stream is the client's own, so it can look ahead."""
        return copy.copy(arm.scatter).rays(along, now, number, speed)[0]

    def muzzle(self, eye: Triple, side: float) -> Triple:
        """Return the start of its shots: its eye, or a point beside it, which is unfair."""
        shift = side * MAX_SHIFT_M * self._player.lies.strength("shifted_muzzle")
        a, b, _ = self._player.hand.aim
        level = max(1e-9, math.hypot(a, b))
        return eye[0] - shift * b / level, eye[1] + shift * a / level, eye[2]
