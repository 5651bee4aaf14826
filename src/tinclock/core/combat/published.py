"""The published state of a match: all that clients may read, complete and versioned, and how events move it on."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from tinclock.core.motion import Motion

if TYPE_CHECKING:
    from tinclock.core.records import Event


class Effect(Struct, frozen=True, gc=False):
    """Something that lasts until a server time."""

    what: str
    until: float
    amount: float


class EntityState(Struct, frozen=True, omit_defaults=True, gc=False):
    """One entity as everybody may know it. `controller` is whose player acts for it, where that isn't its own."""

    entity: int
    rig: str
    name: str = ""
    team: str = ""
    weapon: str = ""
    controller: int = 0
    alive: bool = False
    life: int = 0
    health: float = 0.0
    armour: float = 0.0
    effects: tuple[Effect, ...] = ()


class ScoreRow(Struct, frozen=True, omit_defaults=True, gc=False):
    """One row of the board."""

    entity: int
    name: str = ""
    team: str = ""
    score: float = 0.0
    kills: int = 0
    deaths: int = 0
    assists: int = 0
    streak: int = 0


class InFlight(Struct, frozen=True, omit_defaults=True, gc=False):
    """Something in the air: what its launch event told, and whom it follows, if it does."""

    projectile: int
    entity: int
    weapon: str
    server_time: float
    place: tuple[float, float, float]
    velocity: tuple[float, float, float]
    motion: Motion
    until: float
    sequence: int = 0
    target: int = 0


class State(Struct, frozen=True, gc=False):
    """Everything that clients may read, as it was after event `number`. Rows are in order of entity.

    keep_leavers : whether rows of those who left stay
    """

    number: int
    server_time: float
    entities: tuple[EntityState, ...] = ()
    rows: tuple[ScoreRow, ...] = ()
    teams: dict[str, float] = {}
    leader: int = 0
    keep_leavers: bool = False
    projectiles: tuple[InFlight, ...] = ()

    def entity(self, entity: int) -> EntityState | None:
        """One entity's state; None when it isn't here."""
        return next((each for each in self.entities if each.entity == entity), None)


def follow(state: State, event: Event) -> State:
    """The state after the next event: what a client does with each event that it is sent.

    An event that the state already holds changes nothing. Raises `ValueError` for one that leaves a gap.
    """
    if event.number <= state.number:
        return state
    if event.number != state.number + 1:
        raise ValueError(f"event {event.number} follows {state.number}: {event.number - state.number - 1} are missing")
    state = replace(state, number=event.number, server_time=max(state.server_time, event.server_time))
    if event.kind == "joined":
        return _joined(state, event)
    if event.kind == "left":
        entities = tuple(each for each in state.entities if each.entity != event.entity)
        rows = state.rows if state.keep_leavers else tuple(row for row in state.rows if row.entity != event.entity)
        return replace(state, entities=entities, rows=rows)
    if event.kind in ("launch", "guide", "end"):
        return replace(state, projectiles=_in_the_air(state.projectiles, event))
    if event.kind == "leader":
        return replace(state, leader=event.entity)
    if event.kind == "score":
        return _scored(state, event)
    entities = tuple(_moved_on(each, event) if each.entity == event.entity else each for each in state.entities)
    return replace(state, entities=entities)


def _in_the_air(flights: tuple[InFlight, ...], event: Event) -> tuple[InFlight, ...]:
    if event.kind == "launch":
        return (*flights, launched(event))
    if event.kind == "end":
        return tuple(one for one in flights if one.projectile != event.projectile)
    target = event.actor or 0
    return tuple(replace(one, target=target) if one.projectile == event.projectile else one for one in flights)


def launched(event: Event) -> InFlight:
    """What a launch event puts into the air."""
    nowhere = (0.0, 0.0, 0.0)
    return InFlight(
        event.projectile or 0, event.entity, event.weapon or "", event.server_time, event.place or nowhere,
        event.velocity or nowhere, event.motion or Motion(), event.until or 0.0, event.sequence or 0,
    )  # fmt: skip


def _joined(state: State, event: Event) -> State:
    entity = EntityState(event.entity, event.rig, event.name, event.team, event.weapon or "")
    rows = state.rows
    if event.what == "player":
        rows = (*rows, ScoreRow(event.entity, event.name, event.team))
    return replace(state, entities=(*state.entities, entity), rows=rows)


def _scored(state: State, event: Event) -> State:
    if event.entity == 0:
        return replace(state, teams={**state.teams, event.team: event.after or 0.0})
    rows = tuple(replace(row, **{event.what: event.after}) if row.entity == event.entity else row for row in state.rows)
    return replace(state, rows=rows)


def _moved_on(entity: EntityState, event: Event) -> EntityState:
    after = event.after or 0.0
    match event.kind:
        case "spawn":
            return replace(entity, alive=True, life=event.life, health=after, armour=0.0, effects=())
        case "health":
            return replace(entity, health=after)
        case "armour":
            return replace(entity, armour=after)
        case "death":
            return replace(entity, alive=False)
        case "effect":
            kept = tuple(effect for effect in entity.effects if effect.what != event.what)
            fresh = Effect(event.what, event.until or 0.0, event.amount or 0.0)
            return replace(entity, effects=tuple(sorted((*kept, fresh), key=lambda effect: effect.what)))
        case "weapon":
            return replace(entity, weapon=event.weapon or "")
        case "control":
            return replace(entity, controller=event.actor or 0)
        case _:
            return entity
