"""The published state of a match: all that clients may read, complete and versioned, and how events move it on."""

from __future__ import annotations

from msgspec import Struct, field
from msgspec.structs import replace

from tinclock.core.combat.events import (
    ArmourEvent,
    ControlEvent,
    CounterEvent,
    DeathEvent,
    EffectEvent,
    EndEvent,
    Event,
    HealthEvent,
    HomingEvent,
    JoinedEvent,
    LaunchEvent,
    LeaderEvent,
    LeftEvent,
    MaxHealthEvent,
    PhaseEvent,
    ScoreEvent,
    SpawnEvent,
    StanceEvent,
    TeamEvent,
    VehicleEvent,
    WeaponEvent,
)
from tinclock.core.combat.motion import Motion
from tinclock.core.sparse import Sparse
from tinclock.core.vectors import Triple


class Effect(Struct, frozen=True, gc=False):
    """Something that lasts until a server time."""

    what: str
    until: float
    amount: float


class EntityState(Sparse, frozen=True, omit_defaults=True, gc=False):
    """One entity as everybody may know it.

    controller : the entity of the player that acts for it, where that isn't its own
    max_health : points, where the server set it; counters : those that changed since the start
    vehicle : the entity that it rides, 0 for none; stance : as the server set it
    """

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
    max_health: float | None = None
    counters: dict[str, float] = field(default_factory=dict)
    vehicle: int = 0
    stance: str = ""


class ScoreRow(Sparse, frozen=True, omit_defaults=True, gc=False):
    """One row of the board."""

    entity: int
    name: str = ""
    team: str = ""
    score: float = 0.0
    kills: int = 0
    deaths: int = 0
    assists: int = 0
    streak: int = 0


class BoardRow(Struct, frozen=True, gc=False):
    """One row of the board with totals, which events don't tell.

    shots : shots, launches and melee attacks; hits : bodies that they hurt, one for each victim
    damage_given, damage_taken : points of health and armour, to others and from anything
    """

    entity: int
    name: str
    team: str
    score: float
    kills: int
    deaths: int
    assists: int
    streak: int
    shots: int
    hits: int
    damage_given: float
    damage_taken: float

    @property
    def accuracy(self) -> float:
        """Return hits divided by shots, 0 without a shot."""
        return self.hits / self.shots if self.shots else 0.0


class InFlight(Sparse, frozen=True, omit_defaults=True, gc=False):
    """Something in the air: its launch event, and its target, if it has one."""

    projectile: int
    entity: int
    weapon: str
    server_time: float
    position: Triple
    velocity: Triple
    motion: Motion
    until: float
    sequence: int = 0
    target: int = 0


class State(Struct, frozen=True, gc=False):
    """Everything that clients may read, as it was after event `number`. Rows are in order of entity.

    keep_disconnected : whether rows of those who left stay
    """

    number: int
    server_time: float
    entities: tuple[EntityState, ...] = ()
    rows: tuple[ScoreRow, ...] = ()
    teams: dict[str, float] = {}
    leader: int = 0
    keep_disconnected: bool = False
    projectiles: tuple[InFlight, ...] = ()
    phase: str = ""

    def entity(self, entity: int) -> EntityState | None:
        """One entity's state; None when it isn't here."""
        return next((each for each in self.entities if each.entity == entity), None)


def apply_event(state: State, event: Event) -> State:
    """The state after the next event: what a client does with each event that it is sent.

    An event that the state already holds changes nothing. Raises `ValueError` for one that leaves a gap.
    """
    if event.number <= state.number:
        return state
    if event.number != state.number + 1:
        raise ValueError(f"event {event.number} follows {state.number}: {event.number - state.number - 1} are missing")
    state = replace(state, number=event.number, server_time=max(state.server_time, event.server_time))
    match event:
        case JoinedEvent():
            return _joined(state, event)
        case LeftEvent():
            entities = tuple(each for each in state.entities if each.entity != event.entity)
            rows = (
                state.rows
                if state.keep_disconnected
                else tuple(row for row in state.rows if row.entity != event.entity)
            )
            return replace(state, entities=entities, rows=rows)
        case LaunchEvent() | HomingEvent() | EndEvent():
            return replace(state, projectiles=_in_the_air(state.projectiles, event))
        case LeaderEvent():
            return replace(state, leader=event.entity)
        case PhaseEvent():
            return replace(state, phase=event.phase)
        case ScoreEvent():
            return _scored(state, event)
        case TeamEvent():
            rows = tuple(replace(row, team=event.team) if row.entity == event.entity else row for row in state.rows)
            state = replace(state, rows=rows)
    entities = tuple(_moved_on(each, event) if each.entity == event.entity else each for each in state.entities)
    return replace(state, entities=entities)


def _in_the_air(flights: tuple[InFlight, ...], event: LaunchEvent | HomingEvent | EndEvent) -> tuple[InFlight, ...]:
    if isinstance(event, LaunchEvent):
        return (*flights, launched(event))
    if isinstance(event, EndEvent):
        return tuple(one for one in flights if one.projectile != event.projectile)
    return tuple(replace(one, target=event.target) if one.projectile == event.projectile else one for one in flights)


def launched(event: LaunchEvent) -> InFlight:
    """Projectile of a launch event."""
    return InFlight(
        event.projectile, event.entity, event.weapon, event.server_time, event.position, event.velocity, event.motion,
        event.until, event.sequence,
    )  # fmt: skip


def _joined(state: State, event: JoinedEvent) -> State:
    entity = EntityState(
        event.entity, event.rig, event.name, event.team, event.weapon, 0, event.alive, event.life, event.health,
        event.armour,
    )  # fmt: skip
    rows = tuple(
        replace(row, name=event.name, team=event.team) if row.entity == event.entity else row for row in state.rows
    )
    if event.player and all(row.entity != event.entity for row in rows):
        rows = (*rows, ScoreRow(event.entity, event.name, event.team))
    return replace(state, entities=(*state.entities, entity), rows=rows)


def _scored(state: State, event: ScoreEvent) -> State:
    if event.entity == 0:
        return replace(state, teams={**state.teams, event.team: event.after})
    rows = tuple(
        replace(row, **{event.column: event.after}) if row.entity == event.entity else row for row in state.rows
    )
    return replace(state, rows=rows)


def _moved_on(entity: EntityState, event: Event) -> EntityState:
    match event:
        case SpawnEvent():
            return replace(entity, alive=True, life=event.life, health=event.health, armour=0.0, effects=())
        case HealthEvent():
            return replace(entity, health=event.after)
        case ArmourEvent():
            return replace(entity, armour=event.after)
        case DeathEvent():
            return replace(entity, alive=False)
        case EffectEvent():
            kept = tuple(effect for effect in entity.effects if effect.what != event.effect)
            fresh = Effect(event.effect, event.until, event.amount)
            return replace(entity, effects=tuple(sorted((*kept, fresh), key=lambda effect: effect.what)))
        case TeamEvent():
            return replace(entity, team=event.team)
        case VehicleEvent():
            return replace(entity, vehicle=event.vehicle)
        case StanceEvent():
            return replace(entity, stance=event.stance)
        case MaxHealthEvent():
            return replace(entity, max_health=event.health)
        case CounterEvent():
            return replace(entity, counters=dict(sorted({**entity.counters, event.counter: event.value}.items())))
        case WeaponEvent():
            return replace(entity, weapon=event.weapon)
        case ControlEvent():
            return replace(entity, controller=event.controller)
        case _:
            return entity
