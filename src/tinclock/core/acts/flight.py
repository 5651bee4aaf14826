"""What becomes of what flies: bounces, hits, bursts and ends, in order of time."""

from __future__ import annotations

import heapq
import math
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.acts.harm import apply_harm
from tinclock.core.checks.context import Context
from tinclock.core.combat.flight import rebound
from tinclock.core.combat.flights import Impact
from tinclock.core.records import Hit, Step
from tinclock.core.timeline import flown
from tinclock.core.timeline.instants import CATCH_UP_S
from tinclock.core.timeline.views import View
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.checks.context import World
    from tinclock.core.claims import Triple
    from tinclock.core.combat.flights import Contact, Projectile
    from tinclock.core.geometry.rig import Part

BACK_M = TOLERANCES.aside_m


class Met(NamedTuple):
    """What a flight ended at: a body's part, or a surface of the level; nothing in the air."""

    entity: int = 0
    part: str = ""
    surface: str = ""


NOTHING_MET = Met()
WHY = {flown.OVER: "lifetime", flown.TOO_FAR: "range"}


def end_flight(
    world: World, one: Projectile, at: float, why: str, place: Triple | None = None, met: Met = NOTHING_MET
) -> None:
    """It ends: everybody is told once, with what, where and when."""
    if one.over:
        return
    where = world.flights.place_at(one, at) if place is None else place
    world.flights.end(one, at, why)
    world.ledger.bulletin.tell(
        "end", at, one.actor.entity, why, None, one.weapon.name, met.part or None, what=met.surface,
        victim=met.entity or None, projectile=one.number, place=where,
    )  # fmt: skip


def context_of(world: World, one: Projectile, at: float) -> Context:
    """The surroundings of something that a projectile does: its owner, its weapon, the bodies as it meets them."""
    context = Context(world, one.line, one.actor, at)
    context.weapon, context.charge, context.sequence = one.weapon, one.charge, one.sequence
    history = world.history
    times, slots, held = history.ticks()
    met = world.flights.met_at(one, at)
    place = max(0, min(int(times.searchsorted(met, "right")) - 1, len(times) - 1))
    after = min(place + 1, len(times) - 1)
    span = float(times[after] - times[place])
    fraction = min(1.0, max(0.0, (met - float(times[place])) / span)) if span > 0.0 else 0.0
    context.slots = (int(slots[place]), int(slots[after]))
    context.view, context.view_time = View(int(held[place]), int(held[after]), fraction), met
    return context


def fly_all(world: World, until: float) -> list[Context]:
    """Fly everything to a server time, no further than poses are recorded; returns what happened, a context each."""
    flights = world.flights
    until = min(until, world.history.newest_time)
    if not flights.live:
        return []
    done: list[Context] = []
    for late in [one for one in flights.live.values() if until - flights.flown_to(one) > CATCH_UP_S]:
        end_flight(world, late, until, "clock leapt", flights.place_at(late, flights.flown_to(late)))
    _drop_those_of_the_dead(world, until)
    waiting = [(contact.at, one.number, contact) for one, contact in flights.fly(flights.live.values(), until)]
    heapq.heapify(waiting)
    while waiting:
        at, number, contact = heapq.heappop(waiting)
        one = flights.live.get(number)
        if one is None:
            continue
        world.ledger.advance(at)
        context = context_of(world, one, at)
        react(one, contact, context)
        done.append(context)
        _drop_those_of_the_dead(world, at)
        if not one.over:
            waiting_for = flights.fly([one], until)
            for again, then in waiting_for:
                heapq.heappush(waiting, (then.at, again.number, then))
    return done


def _drop_those_of_the_dead(world: World, at: float) -> None:
    if not world.ledger.dead:
        return
    for one in list(world.flights.live.values()):
        if one.actor.entity in world.ledger.dead and one.flight.when_owner_dies == "remove":
            end_flight(world, one, at, "owner died")


def react(one: Projectile, contact: Contact, context: Context) -> None:
    """Do what follows from one contact."""
    flights, at = context.flights, contact.at
    place = flights.place_at(one, at)
    context.origin = place
    context.steps.append(Step("flown for", at - one.started, unit="s"))
    if flights.bounced(one):
        context.steps.append(Step("bounced", float(flights.bounced(one)), unit="times"))
    if contact.kind in (flown.OVER, flown.TOO_FAR):
        fuse = contact.kind == flown.OVER and one.flight.fuse_s is not None
        _finish(one, context, place, "fuse" if fuse else WHY[contact.kind], bursts=fuse)
    elif contact.kind == flown.LEVEL:
        _meet_level(one, contact, context, place)
    else:
        _meet_body(one, contact, context, place)


def _finish(
    one: Projectile, context: Context, place: Triple, why: str, *, bursts: bool, met: Met = NOTHING_MET
) -> None:
    from tinclock.core.acts.splash import burst

    context.steps.append(Step("flight ends", why))
    context.stopped_by, at = met.surface or (f"entity {met.entity}" if met.entity else why), context.received_at
    end_flight(context.world, one, at, why, place, met)
    if bursts and one.weapon.rules.splash is not None:
        burst(one, context, place, met.entity if why == "body" else 0)


def _meet_level(one: Projectile, contact: Contact, context: Context, place: Triple) -> None:
    level, rules = context.level, one.flight
    if level is None:  # pragma: no cover - nothing meets a level that isn't there
        return
    surface = level.surface_of(contact.column).name
    one.impacts.append(Impact(contact.at, place, surface=surface))
    context.steps.append(Step("level met", surface))
    _finish(one, context, place, "level", bursts=rules.on_level == "end", met=Met(surface=surface))


def _meet_body(one: Projectile, contact: Contact, context: Context, place: Triple) -> None:
    entity, _, part = context.history.columns.named(contact.column, contact.part_row)
    rules, flights = one.flight, context.flights
    solid = context.history.rig_of(entity).blocks_only
    met = Met(entity, part.name)
    if solid:
        met = Met(surface=context.history.rig_of(entity).name)
        one.impacts.append(Impact(contact.at, place, surface=met.surface))
        context.steps.append(Step("cover met", met.surface))
    else:
        one.impacts.append(Impact(contact.at, place, entity, part.name))
        context.steps.append(Step("body met", entity, part.name, "entity"))
    if rules.near_m is not None:
        _finish(one, context, place, "near", bursts=True, met=met)
        return
    claimed = rules.impacts == "claimed" and one.line.name != "" and not solid and not one.claimed
    if solid:
        pass
    elif claimed:
        one.pending.append(one.impacts[-1])
        context.steps.append(Step("harm", "waits for its claim", rules.claim_window_s, "s"))
    else:
        harm_directly(one, context, entity, part, place)
    if rules.on_body == "pass" and not solid and one.passed + 1 < rules.passes:
        one.passed += 1
        flights.ignore(one, entity)
    elif rules.on_body == "bounce" and one.bounces < rules.bounce.most and one.passed < flown.IGNORED:
        one.bounces += 1
        one.passed += 1
        flights.ignore(one, entity)  # it hits nobody twice
        off = _off_the_body(one, contact, context, place)
        bounce = rules.bounce
        rebound(flights.rows[one.row], contact.at, off, bounce.restitution, bounce.friction, bounce.until_m_s)
        if rules.owner_after_bounce:
            flights.allow_owner(one, contact.at)
    else:
        _finish(one, context, place, "cover" if solid else "body", bursts=not claimed, met=met)


def _off_the_body(one: Projectile, contact: Contact, context: Context, place: Triple) -> Triple:
    """The direction straight off the part that was met; for a point, from a little back on its way."""
    columns, (a, b) = context.history.columns, context.slots
    fraction = 0.0 if context.view is None else context.view.fraction
    x, y, z = context.flights.velocity_at(one, contact.at)
    speed = math.sqrt(x * x + y * y + z * z) or 1.0
    back = max(0.0, BACK_M - one.motion.radius_m) / speed
    seen = (place[0] - back * x, place[1] - back * y, place[2] - back * z)
    _, *nearest = flown.part_at(
        *seen, contact.column, contact.part_row, a, b, fraction, columns.header, columns.quantum
    )
    off = [-float(v) for v in nearest]
    length = math.sqrt(sum(v * v for v in off))
    if length < 0.01 * BACK_M:
        return -x / speed, -y / speed, -z / speed
    return off[0] / length, off[1] / length, off[2] / length


def harm_directly(one: Projectile, context: Context, entity: int, part: Part, place: Triple) -> None:
    """What a projectile does to the body that it hits."""
    distance = math.dist(one.origin, place)
    points = one.charge * one.weapon.damage_at(distance, part.zone)
    amount, wound = apply_harm(context, context.roster.actors[entity], part, points, "impact")
    context.damage += wound.before - wound.after
    changed = (amount, wound.before, wound.after, wound.lethal)
    context.hits += (Hit(entity, part.name, part.zone, part.side, distance, place, *changed),)
