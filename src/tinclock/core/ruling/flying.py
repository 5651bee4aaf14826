"""Events of projectiles: bounces, hits, bursts and ends, in order of time."""

from __future__ import annotations

import heapq
import math
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.combat.events import EndEvent
from tinclock.core.combat.flights import Impact
from tinclock.core.combat.projectile_motion import rebound
from tinclock.core.kernels import sweep
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.records import Hit, Stop
from tinclock.core.ruling.splash import burst
from tinclock.core.ruling.work import DamageWork
from tinclock.core.ruling.wounding import apply_damage
from tinclock.core.timeline.instants import CATCH_UP_S
from tinclock.core.timeline.views import View
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.combat.flights import Awaited, Contact, Projectile
    from tinclock.core.geometry.rig import Part
    from tinclock.core.ruling.work import World
    from tinclock.core.vectors import Triple

BACK_M = TOLERANCES.aside_m


class FlightEnd(NamedTuple):
    """End of a flight: a body's part, or a surface of the level; empty in the air."""

    entity: int = 0
    part: str = ""
    surface: str = ""
    cover: int = 0
    """The entity that only stood in the way, whose rig is the surface."""


NOTHING_MET = FlightEnd()
WHY = {sweep.OVER: "lifetime", sweep.TOO_FAR: "range"}


def end_flight(
    world: World, one: Projectile, at: float, why: str, position: Triple | None = None, met: FlightEnd = NOTHING_MET
) -> None:
    """It ends: everybody is told once, with what, where and when."""
    if one.over:
        return
    where = world.flights.position_at(one, at) if position is None else position
    world.flights.end(one, at, why)
    bulletin = world.ledger.bulletin
    bulletin.tell(
        EndEvent(
            bulletin.next, at, one.actor.entity, one.number, where, why, one.weapon.name, met.entity, met.part,
            met.surface,
        )
    )  # fmt: skip


def work_of(world: World, one: Projectile, at: float) -> DamageWork:
    """Return the working data of a projectile's act: its owner, its weapon, the bodies as it meets them."""
    work = DamageWork(world, one.connection, one.actor, at)
    work.weapon, work.charge, work.sequence = one.weapon, one.charge, one.sequence
    history = world.history
    times, slots, held = history.ticks()
    met = world.flights.met_at(one, at)
    before = max(0, min(int(times.searchsorted(met, "right")) - 1, len(times) - 1))
    after = min(before + 1, len(times) - 1)
    span = float(times[after] - times[before])
    fraction = min(1.0, max(0.0, (met - float(times[before])) / span)) if span > 0.0 else 0.0
    work.slots = (int(slots[before]), int(slots[after]))
    work.view, work.view_time = View(int(held[before]), int(held[after]), fraction), met
    return work


def fly_all(world: World, until: float) -> list[DamageWork]:
    """Fly everything to a server time, no further than poses are recorded; returns what happened, a work each."""
    flights = world.flights
    until = min(until, world.history.newest_time)
    if not flights.live:
        return []
    done: list[DamageWork] = []
    for late in [one for one in flights.live.values() if until - flights.flown_to(one) > CATCH_UP_S]:
        end_flight(world, late, until, "clock leapt", flights.position_at(late, flights.flown_to(late)))
    _drop_those_of_the_dead(world, until)
    done += [work for one in flights.live.values() if one.awaited for work in _overdue(world, one)]
    waiting = [(contact.at, one.number, contact) for one, contact in flights.fly(flights.live.values(), until)]
    heapq.heapify(waiting)
    while waiting:
        at, number, contact = heapq.heappop(waiting)
        one = flights.live.get(number)
        if one is None:
            continue
        world.ledger.advance(at)
        work = work_of(world, one, at)
        react(one, contact, work)
        done.append(work)
        if one.over:
            done += _unmet(world, one, one.awaited)
            one.awaited.clear()
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
        if one.actor.entity in world.ledger.dead and one.rules.when_owner_dies == "remove":
            end_flight(world, one, at, "owner died")


def claimed_words(victim: int, flight_time_s: float) -> str:
    """An impact claim, in words."""
    return f"claimed entity {victim} after {flight_time_s:.3f} s"


def _overdue(world: World, one: Projectile) -> list[DamageWork]:
    """The claims of impacts at times that the flight has passed by now."""
    passed = world.flights.flown_to(one) - one.rules.claim_time_tolerance_s
    late = [claim for claim in one.awaited if claim.at < passed]
    one.awaited = [claim for claim in one.awaited if claim.at >= passed]
    return _unmet(world, one, late)


def _unmet(world: World, one: Projectile, claims: list[Awaited]) -> list[DamageWork]:
    """Return findings about claims that came before the server's flight, which then met nobody at their time."""
    out = []
    for claim in claims:
        work = work_of(world, one, min(claim.at, world.flights.flown_to(one)))
        work.sequence = claim.sequence
        work.steps.append(Measure.IMPACT_OF_THE_SERVERS_OWN.step("none", "one"))
        work.findings.append(work.find("no_impact", detail=claimed_words(claim.victim, claim.at - one.started)))
        out.append(work)
    return out


def _met_as_claimed(one: Projectile, contact: Contact, work: DamageWork, entity: int, part: str) -> bool:
    """True if the owner's client claimed this impact before the server got there; what differs is found."""
    near = [claim for claim in one.awaited if abs(claim.at - contact.at) <= one.rules.claim_time_tolerance_s]
    if not near:
        return False
    claim = min(near, key=lambda item: abs(item.at - contact.at))
    one.awaited.remove(claim)
    if claim.victim != entity:
        detail = f"claimed entity {claim.victim}, found {entity}"
        work.findings.append(work.find("victim_differs", detail=detail))
    elif claim.part is not None and claim.part != part:
        work.findings.append(work.find("part_differs", detail=f"claimed {claim.part[:40]!a}, found {part}"))
    return True


def react(one: Projectile, contact: Contact, work: DamageWork) -> None:
    """Do what follows from one contact."""
    flights, at = work.flights, contact.at
    position = flights.position_at(one, at)
    work.origin = position
    work.steps.append(Measure.FLOWN_FOR.step(at - one.started))
    if flights.bounced(one):
        work.steps.append(Measure.BOUNCED.step(float(flights.bounced(one))))
    if contact.kind in (sweep.OVER, sweep.TOO_FAR):
        fuse = contact.kind == sweep.OVER and one.rules.fuse_s is not None
        _finish(one, work, position, "fuse" if fuse else WHY[contact.kind], bursts=fuse)
    elif contact.kind == sweep.LEVEL:
        _meet_level(one, contact, work, position)
    else:
        _meet_body(one, contact, work, position)


def _finish(
    one: Projectile, work: DamageWork, position: Triple, why: str, *, bursts: bool, met: FlightEnd = NOTHING_MET
) -> None:
    work.steps.append(Measure.PROJECTILE_ENDS.step(why))
    at = work.received_at
    if met.entity:
        work.stopped_by = Stop("body", entity=met.entity)
    elif met.surface:
        work.stopped_by = Stop("cover" if why == "cover" else "level", met.surface, met.cover)
    else:
        work.stopped_by = Stop("air", why)
    end_flight(work.world, one, at, why, position, met)
    if bursts:
        burst_there(one, work, position, met.entity if why == "body" else 0)


def burst_there(one: Projectile, work: DamageWork, position: Triple, direct: int) -> None:
    """Hurt nearby bodies, then end others with a splash that lie within reach. Each ends once, so a chain ends."""
    rules, flights, at = one.weapon.rules.splash, work.flights, work.received_at
    if rules is None:
        return
    burst(one, rules, work, position, direct)
    for other in list(flights.live.values()) if rules.detonates_others else ():
        if other.over or other.weapon.rules.splash is None:
            continue
        where = flights.position_at(other, at)
        if math.dist(where, position) <= rules.radius_m:
            work.steps.append(Measure.SET_OFF.step(other.number, one.number))
            end_flight(work.world, other, at, "set off", where)
            then = work_of(work.world, other, at)
            then.origin = where
            burst_there(other, then, where, 0)
            work.hits += then.hits
            work.damage += then.damage
            work.steps += then.steps


def _meet_level(one: Projectile, contact: Contact, work: DamageWork, position: Triple) -> None:
    level, rules = work.level, one.rules
    surface = "" if level is None else level.surface_of(contact.column).name
    one.impacts.append(Impact(contact.at, position, surface=surface))
    work.steps.append(Measure.LEVEL_MET.step(surface))
    _finish(one, work, position, "level", bursts=rules.on_level == "end", met=FlightEnd(surface=surface))


def _meet_body(one: Projectile, contact: Contact, work: DamageWork, position: Triple) -> None:
    entity, _, part = work.history.columns.named(contact.column, contact.part_row)
    rules, flights = one.rules, work.flights
    solid = work.history.rig_of(entity).blocks_only
    met = FlightEnd(entity, part.name)
    if solid:
        met = FlightEnd(surface=work.history.rig_of(entity).name, cover=entity)
        one.impacts.append(Impact(contact.at, position, surface=met.surface))
        work.steps.append(Measure.COVER_MET.step(met.surface))
    else:
        one.impacts.append(Impact(contact.at, position, entity, part.name))
        work.steps.append(Measure.BODY_MET.step(entity, part.name))
    if rules.proximity_fuse_m is not None:
        _finish(one, work, position, "near", bursts=True, met=met)
        return
    expected = not solid and _met_as_claimed(one, contact, work, entity, part.name)
    claimed = rules.hit_source == "client_confirmed" and one.connection.name != "" and not solid and not expected
    if solid:
        pass
    elif claimed:
        one.pending.append(one.impacts[-1])
        work.steps.append(Measure.DAMAGE_APPLIED.step("waits for its claim", rules.claim_window_s))
    else:
        damage_directly(one, work, entity, part, position)
    if rules.on_body == "pass" and not solid and one.passed + 1 < rules.passes:
        one.passed += 1
        flights.ignore(one, entity)
    elif rules.on_body == "bounce" and one.bounces < rules.bounce.max_count and one.passed < sweep.IGNORED:
        one.bounces += 1
        one.passed += 1
        flights.ignore(one, entity)  # it hits nobody twice
        off = _off_the_body(one, contact, work, position)
        bounce = rules.bounce
        rebound(flights.rows[one.row], contact.at, off, bounce.restitution, bounce.friction, bounce.rest_below_m_s)
        if rules.owner_arms_at_bounce:
            flights.allow_owner(one, contact.at)
    else:
        _finish(one, work, position, "cover" if solid else "body", bursts=not claimed, met=met)


def _off_the_body(one: Projectile, contact: Contact, work: DamageWork, position: Triple) -> Triple:
    """The direction straight off the part that was met; for a point, from a little back on its way."""
    columns, (a, b), fraction = work.history.columns, work.slots, work.view.fraction
    x, y, z = work.flights.velocity_at(one, contact.at)
    speed = math.sqrt(x * x + y * y + z * z) or 1.0
    back = max(0.0, BACK_M - one.motion.radius_m) / speed
    seen = (position[0] - back * x, position[1] - back * y, position[2] - back * z)
    _, *nearest = sweep.part_at(*seen, contact.column, contact.part_row, (a, b, fraction), columns.stored)
    off = [-float(v) for v in nearest]
    length = math.sqrt(sum(v * v for v in off))
    if length < 0.01 * BACK_M:
        return -x / speed, -y / speed, -z / speed
    return off[0] / length, off[1] / length, off[2] / length


def damage_directly(one: Projectile, work: DamageWork, entity: int, part: Part, position: Triple) -> None:
    """Apply a projectile's damage to the body that it hits."""
    distance = math.dist(one.origin, position)
    row = work.history.columns.row_of(entity, part)
    met = [(part, row, one.weapon.points(row, distance, one.charge))]
    x, y, z = work.flights.velocity_at(one, work.received_at)
    speed = math.sqrt(x * x + y * y + z * z)
    way = None if speed == 0.0 else (x / speed, y / speed, z / speed)
    amount, wound = apply_damage(work, work.roster.actors[entity], met, "impact", position, way)
    work.damage += wound.before - wound.after
    changed = (amount, wound.before, wound.after, wound.lethal)
    work.hits += (Hit(entity, part.name, part.zone, part.side, distance, position, *changed),)
