"""Blows with a reach weapon: whose hitboxes the swept ball or the cone meets at the view, nothing solid between."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.acts.harm import apply_harm
from tinclock.core.records import Hit, Step
from tinclock.core.timeline.bodies import Reached, facing_at, parts_in_reach
from tinclock.core.timeline.cover import Instant
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import Triple
    from tinclock.core.records import Finding
    from tinclock.core.timeline.cover import Cover
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.weapon_rules import WeaponRules


def angle_between(a: Triple, b: Triple) -> float:
    """The angle between two directions seen from above, in degrees; 0 where one of them is upright."""
    la, lb = math.hypot(a[0], a[1]), math.hypot(b[0], b[1])
    if la == 0.0 or lb == 0.0:
        return 0.0
    cosine = (a[0] * b[0] + a[1] * b[1]) / (la * lb)
    return math.degrees(math.acos(min(1.0, max(-1.0, cosine))))


def check_facing(claim: object, context: Context) -> Finding | None:
    """Find `not_facing` when the aim lies further from where the server's own body faces than the weapon allows."""
    weapon, history = context.weapon, context.history
    if weapon is None or weapon.rules.facing_deg >= 180.0 or context.posthumous:
        return None
    slot = history.newest_slot
    facing = facing_at(history, context.actor.entity, (slot, slot), 0.0)
    if facing is None or context.direction is None:  # pragma: no cover - an absent actor was denied
        return None
    off, limit = angle_between(facing, context.direction), weapon.rules.facing_deg
    context.steps.append(Step("aim off the body's facing", off, limit, "deg"))
    return context.find("not_facing", off, limit, "deg") if off > limit else None


class Reach:
    """Everything that decides whom a blow reaches, apart from who strikes and why."""

    def __init__(self, history: PoseHistory, cover: Cover, entity: int, weapon: WeaponRules) -> None:
        self.history, self.cover, self.entity, self.weapon = history, cover, entity, weapon

    def candidates(self, origin: Triple, direction: Triple, slots: tuple[int, int], fraction: float) -> list[Reached]:
        """Whom it could hit but for what stands between, nearest first; what only blocks is left out."""
        found = parts_in_reach(
            self.history, origin, direction, slots, fraction, reach_m=self.weapon.range_m,
            radius_m=self.weapon.radius_m, cone_rad=math.radians(self.weapon.cone_deg), ignore=self.entity,
        )  # fmt: skip
        return [one for one in found if not self.history.rig_of(one.entity).blocks_only]

    def obstacle(self, origin: Triple, one: Reached, slots: tuple[int, int], fraction: float) -> str:
        """What stands between the striker's eye and the part, "" for nothing."""
        stop, _ = self.cover.between(origin, one.point, Instant(*slots, fraction), ignore=self.entity)
        return "" if stop is None or stop.distance_m >= one.distance_m - TOLERANCES.beyond_m else stop.name

    def turned_away(self, one: Reached, direction: Triple, slots: tuple[int, int], fraction: float) -> bool:
        """Whether the victim's back is where the weapon needs it."""
        if self.weapon.behind_deg is None:
            return True
        facing = facing_at(self.history, one.entity, slots, fraction)
        return facing is not None and angle_between(facing, direction) <= self.weapon.behind_deg


def perform_blow(claim: object, context: Context) -> None:
    """Strike whoever the blow reaches, up to the weapon's number of victims."""
    weapon, view, held = context.weapon, context.view, context.held
    if weapon is None or view is None or held is None:  # pragma: no cover - the checks before deny
        return
    now = context.received_at
    held.settle(now + context.rules.cadence.allowance_s)
    held.spend(now)
    held.shots += 1
    context.ledger.drop_shield(context.actor.entity, now)
    if context.eye is not None and context.findings:
        context.origin = context.eye
    origin, direction = context.ray()
    context.aim = direction
    reach = Reach(context.history, context.world.cover, context.actor.entity, weapon.rules)
    hits: list[Hit] = []
    for one in reach.candidates(origin, direction, context.slots, view.fraction):
        context.steps.append(Step("in reach", one.entity, one.part.name, "entity"))
        obstacle = reach.obstacle(origin, one, context.slots, view.fraction)
        if obstacle:
            context.steps.append(Step("blow stopped by", obstacle))
            continue
        if not reach.turned_away(one, direction, context.slots, view.fraction):
            context.steps.append(Step("victim's back", "not turned", "turned"))
            continue
        part = one.part
        points = weapon.damage_at(one.distance_m, part.zone)
        amount, wound = apply_harm(context, context.roster.actors[one.entity], part, points, "strike")
        context.damage += wound.before - wound.after
        changed = (amount, wound.before, wound.after, wound.lethal)
        hits.append(Hit(one.entity, part.name, part.zone, part.side, one.distance_m, one.point, *changed))
        if len(hits) == weapon.rules.victims:
            break
    if not hits:
        context.steps.append(Step("nobody reached within", weapon.rules.range_m, unit="m"))
    context.hits = tuple(hits)
