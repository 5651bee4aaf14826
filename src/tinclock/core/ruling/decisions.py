"""Decisions of the game's server: health, teams, equipment, effects, scores, phases and rounds."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final

from tinclock.core.combat.accepted_position import AcceptedPosition
from tinclock.core.combat.accounts import EFFECTS, Blow
from tinclock.core.combat.events import PhaseEvent
from tinclock.core.combat.held import Held
from tinclock.core.combat.inputs import Inputs
from tinclock.core.combat.items import Stock
from tinclock.core.combat.roster import require_name
from tinclock.core.errors import BadNumberError, UnknownNameError
from tinclock.core.findings import GameFinding
from tinclock.core.ruling.commands import (
    AddFinding,
    AddScore,
    Damage,
    GiveWeapon,
    Heal,
    MarkTeleport,
    Push,
    ResetRound,
    SetCounter,
    SetEffect,
    SetHealth,
    SetItem,
    SetPhase,
    SetPosition,
    SetStance,
    SetTeam,
    SetVehicle,
    SetWeapon,
    Spawn,
    TakeWeapon,
)
from tinclock.core.ruling.flying import end_flight
from tinclock.core.ruling.pushing import push_body
from tinclock.core.ruling.riding import get_off, set_stance, set_vehicle
from tinclock.core.ruling.weapon_action import wield
from tinclock.core.timeline.instants import is_finite

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.ruling.pipeline import ClaimPipeline
    from tinclock.core.vectors import Triple

MAX_ROUNDS: Final = 1_000_000
"""Largest number of rounds or items that a server can give."""
MAX_WAITING: Final = 256
"""Maximum number of claims of a connection whose findings may wait for them; the oldest ones are dropped."""


def _number(name: str, value: object, *, below_zero: bool = False) -> float:
    """Return a finite number, or raise `BadNumberError`."""
    if not is_finite(value) or (not below_zero and value < 0.0):  # type: ignore[operator]
        raise BadNumberError(name, "a finite number" if below_zero else "a finite number of at least 0", value)
    return float(value)  # type: ignore[arg-type]


def _count(name: str, value: object) -> int:
    """Return a whole number of rounds or items, or raise `BadNumberError`."""
    if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= MAX_ROUNDS:
        raise BadNumberError(name, f"a whole number from 0 to {MAX_ROUNDS:,}", value)
    return value


def _triple(name: str, value: Any, unit: str) -> Triple:
    if len(value) != 3 or not all(map(is_finite, value)):
        raise BadNumberError(name, f"three finite numbers, {unit}", value)
    return float(value[0]), float(value[1]), float(value[2])


def _source(match: ClaimPipeline, entity: int) -> int:
    """Return the entity that did something, also one that has left; 0 for none."""
    if entity != 0 and not 0 < entity < match.roster.next_entity:
        match.roster.require(entity)
    return int(entity)


def damage(match: ClaimPipeline, command: Damage, now: float) -> None:
    """Take points from an entity."""
    actor, points = match.roster.require(command.entity), _number("points", command.points)
    blow = Blow(
        require_name("cause", command.cause), _source(match, command.by), require_name("weapon", command.weapon)
    )
    match.ledger.wound(actor.entity, points, now, blow)


def heal(match: ClaimPipeline, command: Heal, now: float) -> None:
    """Give health and armour back."""
    actor, by = match.roster.require(command.entity), _source(match, command.by)
    health, armour = _number("health", command.health), _number("armour", command.armour)
    cause = require_name("cause", command.cause)
    match.ledger.repair(actor.entity, health, now, by, cause)
    match.ledger.reinforce(actor.entity, armour, now, by, cause)


def set_health(match: ClaimPipeline, command: SetHealth, now: float) -> None:
    """Set health, armour and maximum health."""
    actor, ledger = match.roster.require(command.entity), match.ledger
    health = None if command.health is None else _number("health", command.health)
    armour = None if command.armour is None else _number("armour", command.armour)
    cause = require_name("cause", command.cause)
    if command.max_health is not None:
        if _number("max_health", command.max_health) == 0.0:
            raise BadNumberError("max_health", "a finite number above 0", command.max_health)
        ledger.set_max_health(actor.entity, float(command.max_health), now)
    if health is not None or armour is not None:
        ledger.set_points(actor.entity, health, armour, now, cause)


def set_team(match: ClaimPipeline, command: SetTeam, now: float) -> None:
    """Move an entity to another team."""
    actor = match.roster.require(command.entity)
    match.roster.join_team(actor, require_name("team", command.team))
    match.ledger.set_team(actor.entity, command.team, now)


def set_weapon(match: ClaimPipeline, command: SetWeapon, now: float) -> None:
    """Put a weapon into an entity's hand."""
    actor = match.roster.require(command.entity)
    match.roster.require_weapon(command.weapon)
    if command.weapon not in actor.weapons:
        raise UnknownNameError("carried weapon", command.weapon, actor.weapons)
    wield(actor, command.weapon, match.ledger, now, at_once=True)


def give_weapon(match: ClaimPipeline, command: GiveWeapon, now: float) -> None:
    """Let an entity carry a weapon, with ammunition. One that it had before continues its own spread."""
    actor, name = match.roster.require(command.entity), match.roster.require_weapon(command.weapon)
    magazine = None if command.magazine is None else _count("magazine", command.magazine)
    reserve = None if command.reserve is None else _count("reserve", command.reserve)
    held = actor.weapons.get(name)
    if held is None:
        held = actor.taken.pop(name, None) or Held(match.roster.weapons[name], actor.key)
        held.take(match.roster.weapons[name])
        held.refill()
        actor.weapons[name] = held
    held.settle(now)
    rules = held.weapon.rules
    if magazine is not None and rules.magazine is not None:
        held.magazine = min(magazine, rules.magazine)
    if reserve is not None and rules.reserve is not None:
        held.reserve = reserve
    if not actor.wielded:
        wield(actor, name, match.ledger, now, at_once=True)


def take_weapon(match: ClaimPipeline, command: TakeWeapon, now: float) -> None:
    """Take a weapon from an entity."""
    actor = match.roster.require(command.entity)
    match.roster.require_weapon(command.weapon)
    if command.weapon not in actor.weapons:
        raise UnknownNameError("carried weapon", command.weapon, actor.weapons)
    left = next((name for name in actor.weapons if name != command.weapon), "")
    if actor.wielded == command.weapon:
        wield(actor, left, match.ledger, now, at_once=False)
    actor.taken[command.weapon] = actor.weapons.pop(command.weapon)


def set_item(match: ClaimPipeline, command: SetItem, now: float) -> None:
    """Set the number of an entity's items of one name."""
    actor, items = match.roster.require(command.entity), match.roster.rules.items
    if command.item not in items:
        raise UnknownNameError("item", command.item, items)
    count = _count("count", command.count)
    actor.items.setdefault(command.item, Stock(items[command.item])).count = count


def set_effect(match: ClaimPipeline, command: SetEffect, now: float) -> None:
    """Begin or end an effect."""
    actor = match.roster.require(command.entity)
    if command.effect not in EFFECTS:
        raise UnknownNameError("effect", command.effect, EFFECTS)
    duration, amount = _number("duration_s", command.duration_s), _number("amount", command.amount)
    match.ledger.grant(actor.entity, command.effect, now + duration, amount, now, require_name("cause", command.cause))


def push(match: ClaimPipeline, command: Push, now: float) -> None:
    """Push a body."""
    actor, velocity = match.roster.require(command.entity), _triple("velocity", command.velocity, "metres per second")
    push_body(match.ledger, actor, velocity, _number("duration_s", command.duration_s), now)


def add_score(match: ClaimPipeline, command: AddScore, now: float) -> None:
    """Give points to an entity or to a team."""
    points, cause = _number("points", command.points, below_zero=True), require_name("cause", command.cause)
    if command.entity:
        match.ledger.scores.add(match.roster.require(command.entity).entity, "score", points, now, cause)
    elif require_name("team", command.team):
        match.ledger.scores.add_to_team(command.team, points, now, cause)
    else:
        raise BadNumberError("entity", "an entity, or a team", command.entity)


def set_counter(match: ClaimPipeline, command: SetCounter, now: float) -> None:
    """Set a counter of an entity."""
    actor, rules = match.roster.require(command.entity), match.ledger.counter_rules
    if command.counter not in rules:
        raise UnknownNameError("counter", command.counter, rules)
    value = _number("value", command.value, below_zero=True)
    match.ledger.count(actor.entity, command.counter, value, now, require_name("cause", command.cause))


def set_phase(match: ClaimPipeline, command: SetPhase, now: float) -> None:
    """Begin a phase. Where weapons are not allowed, held triggers are released."""
    phases = match.roster.rules.phases
    if command.phase and command.phase not in phases:
        raise UnknownNameError("phase", command.phase, phases)
    match.ledger.phase = command.phase
    match.keep_phase()
    if command.phase and not phases[command.phase].weapons:
        for actor in match.roster.actors.values():
            actor.held_trigger = None
    bulletin = match.ledger.bulletin
    bulletin.tell(PhaseEvent(bulletin.next, now, 0, command.phase))


def _begin_life(match: ClaimPipeline, actor: Participant, now: float) -> None:
    get_off(match, actor, now)
    match.history.cut(actor.entity)
    actor.life_epoch = match.history.epoch_of(actor.entity)
    actor.refill()


def spawn(match: ClaimPipeline, command: Spawn, now: float) -> None:
    """Begin a new life of an entity."""
    actor = match.roster.require(command.entity)
    _begin_life(match, actor, now)
    match.ledger.spawn(actor.entity, now)


def reset_round(match: ClaimPipeline, command: ResetRound, now: float) -> None:
    """Begin a round."""
    for one in list(match.flights.live.values()):
        end_flight(match.world, one, now, "round reset")
    for actor in match.roster.actors.values():
        if not actor.blocks_only:
            _begin_life(match, actor, now)
            match.ledger.reset(actor.entity, now)
    if command.scores:
        match.ledger.scores.clear(now)


def mark_teleport(match: ClaimPipeline, command: MarkTeleport, now: float) -> None:
    """Interpolate nothing across this moment."""
    match.history.cut(match.roster.require(command.entity).entity)


def set_position(match: ClaimPipeline, command: SetPosition, now: float) -> None:
    """Put a body somewhere, at rest."""
    actor, here = match.roster.require(command.entity), _triple("position", command.position, "metres")
    if actor.accepted is None:
        actor.accepted = AcceptedPosition(here, now)
    else:
        actor.accepted.put(here, now)
    if command.input is not None:
        if actor.inputs is None:
            actor.inputs = Inputs()
        actor.inputs.acknowledge(_count("input", command.input), here)


def add_finding(match: ClaimPipeline, command: AddFinding, now: float) -> None:
    """Keep a finding for a claim that is still to be ruled."""
    known = match.roster.rules.game_findings
    if command.code not in known:
        raise UnknownNameError("game finding", command.code, known)
    connection = match.roster.require_connection(command.connection)
    if isinstance(command.sequence, bool) or not isinstance(command.sequence, int) or command.sequence < 1:
        raise BadNumberError("sequence", "a whole number of at least 1", command.sequence)
    for name, value in (("observed", command.observed), ("limit", command.limit)):
        if value is not None and not is_finite(value):
            raise BadNumberError(name, "a finite number", value)
    require_name("unit", command.unit), require_name("detail", command.detail)
    waiting = connection.game_findings
    found = GameFinding(command.code, command.observed, command.limit, command.unit, command.detail)
    waiting.setdefault(command.sequence, []).append(found)
    if len(waiting) > MAX_WAITING:
        del waiting[next(iter(waiting))]
    connection.quick = None  # the claim goes the long way


DECISIONS: Final[dict[type, Callable[[Any, Any, float], None]]] = {
    Damage: damage, Heal: heal, SetHealth: set_health, SetTeam: set_team, SetWeapon: set_weapon,
    GiveWeapon: give_weapon, TakeWeapon: take_weapon, SetItem: set_item, SetEffect: set_effect, Push: push,
    AddScore: add_score, SetCounter: set_counter, SetPhase: set_phase, Spawn: spawn, ResetRound: reset_round,
    MarkTeleport: mark_teleport, SetPosition: set_position, SetVehicle: set_vehicle, SetStance: set_stance,
    AddFinding: add_finding,
}  # fmt: skip
"""Function of each of these commands, at a server time."""
