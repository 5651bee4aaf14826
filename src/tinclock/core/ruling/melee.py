"""Melee attacks: whose hitboxes the swept ball or the cone meets at the view, nothing solid between."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.combat.events import ShotEnd
from tinclock.core.errors import BadNumberError
from tinclock.core.kernels.dtypes import BODY
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.prices import pay
from tinclock.core.ruling.records import Hit
from tinclock.core.ruling.shot_events import along, end_of, rounded, tell_shot
from tinclock.core.ruling.work import AimedWork
from tinclock.core.ruling.wounding import apply_damage
from tinclock.core.timeline.bodies import ReachedHitbox, facing_at, parts_in_reach
from tinclock.core.timeline.cover import Instant
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.findings import Finding
    from tinclock.core.rules.weapons import WeaponRules
    from tinclock.core.ruling.claims import MeleeClaim
    from tinclock.core.ruling.work import World
    from tinclock.core.timeline.cover import Cover
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.vectors import Triple


def angle_between(a: Triple, b: Triple) -> float:
    """The angle between two directions seen from above, in degrees; 0 where one of them is upright."""
    la, lb = math.hypot(a[0], a[1]), math.hypot(b[0], b[1])
    if la == 0.0 or lb == 0.0:
        return 0.0
    cosine = (a[0] * b[0] + a[1] * b[1]) / (la * lb)
    return math.degrees(math.acos(min(1.0, max(-1.0, cosine))))


def check_facing(claim: object, work: AimedWork) -> Finding | None:
    """Find `not_facing` when the aim lies further from where the server's own body faces than the weapon allows."""
    weapon, history = work.weapon, work.history
    if weapon.rules.facing_deg >= 180.0 or work.posthumous:
        return None
    slot = history.newest_slot
    facing = facing_at(history, work.actor.entity, (slot, slot), 0.0)
    if facing is None:
        return None
    off, limit = angle_between(facing, work.direction), weapon.rules.facing_deg
    work.steps.append(Measure.AIM_OFF_THE_BODYS_FACING.step(off, limit))
    return work.find("not_facing", off, limit) if off > limit else None


class BlowReach:
    """Conditions of a melee attack's reach, apart from the striker and the reason."""

    def __init__(self, history: PoseHistory, cover: Cover, entity: int, weapon: WeaponRules) -> None:
        self.history, self.cover, self.entity, self.weapon = history, cover, entity, weapon

    def candidates(
        self, origin: Triple, direction: Triple, slots: tuple[int, int], fraction: float
    ) -> list[ReachedHitbox]:
        """Return the hitboxes in reach, nearest first, as if nothing stood between; moving cover is left out."""
        found = parts_in_reach(
            self.history, origin, direction, slots, fraction, reach_m=self.weapon.range_m,
            radius_m=self.weapon.radius_m, cone_rad=math.radians(self.weapon.cone_deg), ignore=self.entity,
        )  # fmt: skip
        return [one for one in found if not self.history.rig_of(one.entity).blocks_only]

    def obstacle(self, origin: Triple, one: ReachedHitbox, slots: tuple[int, int], fraction: float) -> str:
        """Return the name of the obstacle between the striker's eye and the part, "" for none."""
        stop, _ = self.cover.between(origin, one.position, Instant(*slots, fraction), ignore=self.entity)
        return "" if stop is None or stop.distance_m >= one.distance_m - TOLERANCES.beyond_m else stop.name

    def turned_away(self, one: ReachedHitbox, direction: Triple, slots: tuple[int, int], fraction: float) -> bool:
        """True if the victim's back is where the weapon needs it."""
        if self.weapon.backstab_deg is None:
            return True
        facing = facing_at(self.history, one.entity, slots, fraction)
        return facing is not None and angle_between(facing, direction) <= self.weapon.backstab_deg


class MeleeWork(AimedWork):
    """A melee attack."""


def commit_melee(claim: MeleeClaim, work: MeleeWork) -> None:
    """Strike the bodies in reach, up to the weapon's number of victims."""
    weapon, view, held, now = work.weapon, work.view, work.held, work.received_at
    work.keep_view(claim.view)
    held.settle(now + work.early_s)
    held.spend(now)
    held.shots += 1
    work.actor.numbers[BODY.shots] += 1.0
    if work.costs():
        pay(work, weapon.name)
    work.ledger.drop_shield(work.actor.entity, now)
    origin, direction = work.eye, work.direction  # reach counts from the server's own eye, whatever is claimed
    work.origin = origin
    work.aim = direction
    reach = BlowReach(work.history, work.world.cover, work.actor.entity, weapon.rules)
    hits: list[Hit] = []
    for one in reach.candidates(origin, direction, work.slots, view.fraction):
        work.steps.append(Measure.IN_REACH.step(one.entity, one.part.name))
        obstacle = reach.obstacle(origin, one, work.slots, view.fraction)
        if obstacle:
            work.steps.append(Measure.MELEE_STOPPED_BY.step(obstacle))
            continue
        if not reach.turned_away(one, direction, work.slots, view.fraction):
            work.steps.append(Measure.VICTIMS_BACK.step("not turned", "turned"))
            continue
        part = one.part
        row = work.history.columns.row_of(one.entity, part)
        met = [(part, row, weapon.points(row, one.distance_m))]
        amount, wound = apply_damage(work, work.roster.actors[one.entity], met, "melee", one.position, direction)
        work.damage += wound.before - wound.after
        changed = (amount, wound.before, wound.after, wound.lethal)
        hits.append(Hit(one.entity, part.name, part.zone, part.side, one.distance_m, one.position, *changed))
        if len(hits) == weapon.rules.victims:
            break
    if not hits:
        work.steps.append(Measure.NOBODY_REACHED_WITHIN.step(weapon.rules.range_m))
    work.hits = tuple(hits)
    ends = [ShotEnd(rounded(hit.position), hit.victim, hit.part) for hit in hits]
    ends = ends or [end_of(along(origin, direction, weapon.range_m), None)]
    tell_shot(work.ledger, now, work.actor.entity, weapon.name, work.sequence, origin, ends)


def melee_targets(world: World, actor: Participant, weapon: Weapon, direction: Triple | None) -> list[ReachedHitbox]:
    """See `Referee.melee_targets`."""
    history = world.history
    eye = history.eye_now(actor.entity)
    if weapon.rules.kind != "melee":
        raise BadNumberError("weapon", "a weapon of kind 'melee'", weapon.name)
    if eye is None or actor.entity in world.ledger.dead:
        return []
    slots = (history.newest_slot,) * 2
    aim = direction or facing_at(history, actor.entity, slots, 0.0) or (1.0, 0.0, 0.0)
    reach = BlowReach(history, world.cover, actor.entity, weapon.rules)
    return [
        one
        for one in reach.candidates(eye, aim, slots, 0.0)
        if not reach.obstacle(eye, one, slots, 0.0) and reach.turned_away(one, aim, slots, 0.0)
    ]
