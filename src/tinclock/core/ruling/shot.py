"""Act of a shot that passed its checks: rays through the level and the rewound hitboxes, and the damage."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from msgspec import Struct

from tinclock.core.kernels.dtypes import BODY, FOUND
from tinclock.core.plain import Fields
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.penetration import send_through
from tinclock.core.ruling.prices import pay
from tinclock.core.ruling.records import Hit, Ray, Stop
from tinclock.core.ruling.shot_events import along, end_of, tell_shot
from tinclock.core.ruling.work import FiringWork
from tinclock.core.ruling.wounding import apply_damage
from tinclock.core.timeline.bodies import speed_now
from tinclock.core.timeline.cover import Obstacle
from tinclock.core.timeline.history import PartHit

if TYPE_CHECKING:
    from tinclock.core.combat.accounts import Wound
    from tinclock.core.combat.held import Held
    from tinclock.core.geometry.level import LevelHit
    from tinclock.core.ruling.claims import LaunchClaim, ShotClaim
    from tinclock.core.timeline.cover import Instant
    from tinclock.core.vectors import Triple


class ShotWork(FiringWork):
    """A shot.

    rays : as ruled, one a pellet; reached_m : how far the first one went
    cast : the first wall and the first hitbox on the way of the aim, where that was looked for already
    hit, kept : the hitbox that the ray at hand met, and the share of its damage left after what it passed through
    """

    cast: tuple[LevelHit | None, PartHit | None] | None = None
    hit: PartHit | None = None
    kept = 1.0
    rays: tuple[Ray, ...] = ()
    reached_m: float | None = None

    def take(self, found: Any, claim: object) -> None:
        """Take over what checks worked out, and what is in the way."""
        super().take(found, claim)
        if found[FOUND.is_cast]:
            wall, column, level = int(found[FOUND.wall]), int(found[FOUND.column]), self.level
            met = None if wall < 0 or level is None else level.met(wall, found[FOUND.wall_m], found[FOUND.facing])
            hit = None
            if column >= 0:
                named = self.history.columns.named(column, int(found[FOUND.part]))
                hit = PartHit(*named, found[FOUND.enter_m], found[FOUND.leave_m])
            self.cast = met, hit

    def found(self) -> Fields:
        """All that a shot adds to its ruling, at once: it is the claim that comes most often."""
        known = self.__dict__.get
        view_time = known("view_time")
        rewound_s = None if view_time is None else self.received_at - view_time
        return {
            "hits": self.hits, "damage": self.damage, "view": known("view"), "view_time": view_time,
            "rewound_s": rewound_s, "origin": known("origin"), "direction": known("direction"),
            "reached_m": self.reached_m, "stopped_by": self.stopped_by, "shot": known("shot"), "aim": known("aim"),
            "rays": self.rays,
        }  # fmt: skip


def spend_shot(claim: ShotClaim | LaunchClaim, work: FiringWork) -> None:
    """Spend the shot, and work out where its rays go."""
    held, aim, now = work.held, work.direction, work.received_at
    work.aim = aim
    held.settle(now + work.early_s)
    held.spend(now, work.charge)
    work.actor.numbers[BODY.shots] += 1.0
    if work.costs():
        pay(work, work.weapon.name)
    work.ledger.drop_shield(work.actor.entity, now)
    if held.scatter.plain:
        held.shots += 1
        work.shot = held.shots
        work.ways = (aim,) * held.weapon.rules.pellets
        return
    work.shot, own = held.number(claim.shot, work.rules.fire_rate.max_skipped)
    _scatter(held, aim, claim.client_time, own, work)


def _scatter(held: Held, aim: Triple, client_time: float | None, own: bool, work: FiringWork) -> None:
    at, speed = held.pace(work.received_at, client_time), 0.0
    spread = held.weapon.rules.spread
    if spread is not None and spread.moving_deg > 0.0:
        speed = speed_now(work.history, work.actor.entity)
    if spread is not None:
        work.steps.append(Measure.SPREAD.step(held.scatter.spread_rad(at, speed)))
    key = None if own else work.actor.secret
    work.ways = tuple(held.scatter.rays(aim, at, work.shot, speed, key))


class RayHit(Struct, frozen=True, gc=False):
    """Hit of one ray."""

    hit: PartHit
    direction: Triple
    kept: float


def commit_shot(claim: ShotClaim, work: ShotWork) -> None:
    """Fire a shot that its own client claims."""
    work.keep_view(claim.view)
    commit_fired(claim, work)


def commit_fired(claim: ShotClaim, work: ShotWork) -> None:
    """Spend the shot, cast its rays and do what they do."""
    spend_shot(claim, work)
    work.start_from_the_eye()
    if work.named is not None:
        _look_where_named(work, work.named)
    met: list[RayHit] = []
    rays, ends = [], []
    for way in work.ways:
        work.direction = way
        reached, stopped_by = cast_shot(work)
        if work.hit is not None:
            met.append(RayHit(work.hit, way, work.kept))
        rays.append((way, reached, stopped_by))
        if work.ledger.publishes_shots:
            part = "" if work.hit is None else work.hit.part.name
            ends.append(end_of(along(work.origin, way, reached), stopped_by, part))
    work.direction, work.reached_m, work.stopped_by = rays[0]
    if len(rays) > 1:
        work.rays = tuple(Ray(*ray) for ray in rays)
    if len(met) == 1:
        work.hits = _strike(work, met[0].hit.entity, met)
    elif met:
        victims: dict[int, list[RayHit]] = {}
        for one in met:
            victims.setdefault(one.hit.entity, []).append(one)
        work.hits = tuple(hit for entity, mets in victims.items() for hit in _strike(work, entity, mets))
    tell_shot(work.ledger, work.received_at, work.actor.entity, work.weapon.name, work.sequence, work.origin, ends)


def _first_on(work: ShotWork, way: Triple, at: Instant) -> tuple[LevelHit | None, PartHit | None]:
    history, reach_m, entity = work.history, work.weapon.range_m, work.actor.entity
    if work.level is None:
        return None, history.nearest_along((*work.origin, *way), *at, reach_m, entity)
    return history.first_on_path(work.level, work.origin, way, at[:2], at.fraction, reach_m, entity)


def _look_where_named(work: ShotWork, at: Instant) -> None:
    """Take down the body that the shot would have hit at the view that it named. It changes nothing."""
    for way in work.ways:
        _, hit = _first_on(work, way, at)
        if hit is not None and not work.history.rig_of(hit.entity).blocks_only:
            work.steps.append(Measure.NAMED_VIEW.step(hit.entity, hit.part.name))
            return
    work.steps.append(Measure.NAMED_VIEW.step("nobody"))


def cast_shot(work: ShotWork) -> tuple[float, Stop | None]:
    """Send one ray through the level and the rewound hitboxes; returns how far it went and what stopped it.

    Works out `work.hit`: somebody's hitbox. What only stands in the way, a door or a wall, stops the shot and is
    nobody's hit.
    """
    weapon, history = work.weapon, work.history
    work.kept = 1.0
    looked = work.cast if work.direction is work.__dict__.get("aim") else None
    wall, hit = looked or _first_on(work, work.direction, work.instant())
    stop = None if wall is None else Obstacle(wall.distance_m, wall.surface.name)
    if weapon.penetration > 0.0 and _may_pass(work, wall, hit):
        reach, stop, work.hit, work.kept = send_through(work)
    else:
        reach, work.hit = weapon.range_m if stop is None else stop.distance_m, hit
        if hit is not None and history.rig_of(hit.entity).blocks_only:
            stop, work.hit = Obstacle(hit.distance_m, history.rig_of(hit.entity).name, hit.entity), None
            reach = hit.distance_m
    if work.hit is not None:
        work.steps.append(Measure.REWIND.step(work.hit.entity, work.hit.part.name))
        return work.hit.distance_m, Stop("body", entity=work.hit.entity)
    if stop is not None:
        work.cover |= {stop.entity}
        work.steps.append((Measure.COVER if stop.entity else Measure.LEVEL).step(stop.distance_m, stop.name))
        return stop.distance_m, Stop("cover" if stop.entity else "level", stop.name, stop.entity)
    work.steps.append(Measure.NOBODY_HIT_WITHIN.step(weapon.range_m))
    return reach, None


def _may_pass(work: ShotWork, wall: LevelHit | None, hit: PartHit | None) -> bool:
    """True if penetration can make a difference: something was passed already, what comes first lets shots through, or
    the shot starts inside it.
    """
    if work.paid > 0.0 or (wall is not None and wall.facing > 0.0):
        return True
    if hit is not None:
        return work.history.rig_of(hit.entity).passable
    return wall is not None and wall.surface.resistance_per_m < float("inf")


def _strike(work: ShotWork, entity: int, mets: list[RayHit]) -> tuple[Hit, ...]:
    """Apply the server's damage to one victim, in the present: one wound, and one hit for each part of it."""
    weapon, origin = work.weapon, work.origin
    first_row = work.history.columns.first_row(entity)
    rows = [first_row + one.hit.part_index for one in mets]
    points = [
        weapon.points(row, one.hit.distance_m, one.kept * work.charge) for row, one in zip(rows, mets, strict=True)
    ]
    met = [(one.hit.part, row, share) for one, row, share in zip(mets, rows, points, strict=True)]
    first = mets[0]
    position = along(origin, first.direction, first.hit.distance_m)
    amount, wound = apply_damage(work, work.roster.actors[entity], met, "shot", position, first.direction)
    work.damage += wound.before - wound.after
    if len(mets) == 1:
        return (_hit(mets[0], origin, amount, wound, 1),)
    whole = sum(points)
    share = amount / whole if whole > 0.0 else 0.0
    parts: dict[int, list[int]] = {}
    for k, one in enumerate(mets):
        parts.setdefault(one.hit.part_index, []).append(k)
    return tuple(
        _hit(mets[rows[0]], origin, share * sum([points[k] for k in rows]), wound, len(rows)) for rows in parts.values()
    )


def _hit(met: RayHit, origin: Triple, dealt: float, wound: Wound, times: int) -> Hit:
    hit, (dx, dy, dz), (ox, oy, oz) = met.hit, met.direction, origin
    part, t = hit.part, hit.distance_m
    return Hit(
        hit.entity, part.name, part.zone, part.side, t, (ox + dx * t, oy + dy * t, oz + dz * t), dealt, wound.before,
        wound.after, wound.lethal, times,
    )  # fmt: skip
