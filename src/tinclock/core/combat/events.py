"""Published changes: what every client may be told, numbered without gaps, one type for each kind of change."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.combat.motion import Motion
from tinclock.core.rules.tables import EffectName
from tinclock.core.sparse import Sparse
from tinclock.core.text import printable
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    Naming = Callable[[int], str]


class _Event(Sparse, frozen=True, omit_defaults=True, gc=False, tag_field="kind"):
    """Base of all events: their number, the server time in seconds, and the entity that they are about."""

    number: int
    server_time: float
    entity: int

    @property
    def kind(self) -> str:
        """The word that stands for this kind of change in messages."""
        return str(type(self).__struct_config__.tag)

    def explain(self, names: Mapping[int, str] | None = None) -> str:
        """The change as a line of text; `names` says what to call entities."""

        def called(entity: int) -> str:
            return printable((names or {}).get(entity) or f"entity {entity}")

        return f"{self.number:>5} {self.server_time:8.3f} s  {self._words(called)}"

    def _words(self, called: Naming) -> str:
        """The change in words, without number and time."""
        return f"{self.kind} of {called(self.entity)}"


class JoinedEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="joined"):
    """An entity is there from now on.

    player : whether it is a player, with a row on the board
    life, alive, health, armour : of a player that came back; a new entity spawns with the next event
    """

    rig: str
    name: str = ""
    team: str = ""
    weapon: str = ""
    player: bool = False
    life: int = 0
    alive: bool = False
    health: float = 0.0
    armour: float = 0.0

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} joins{f' team {printable(self.team)}' if self.team else ''} as {self.rig}"


class LeftEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="left"):
    """An entity is gone for good."""

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} is gone"


class SpawnEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="spawn"):
    """A life begins, with full health and without effects."""

    life: int
    health: float

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} begins life {self.life} with health {self.health:g}"


class _Damage(_Event, frozen=True, omit_defaults=True, gc=False):
    """cause : "shot", "melee", "splash", "damage_over_time", "reflected", "use", ...; actor : its entity, 0 for none"""

    cause: str = ""
    actor: int = 0
    weapon: str = ""
    part: str = ""

    def _by(self, called: Naming) -> str:
        by = f" by {called(self.actor)}" if self.actor not in (0, self.entity) else ""
        return f"{by}{_with(self.weapon, self.part)}, {self.cause}"


class _LevelChange(_Damage, frozen=True, omit_defaults=True, gc=False):
    """amount : points, never negative; before, after : what was there and what is."""

    amount: float = 0.0
    before: float = 0.0
    after: float = 0.0

    def _words(self, called: Naming) -> str:
        return f"{self.kind} of {called(self.entity)} {self.before:g} -> {self.after:g}{self._by(called)}"


class HealthEvent(_LevelChange, frozen=True, omit_defaults=True, gc=False, tag="health"):
    """Somebody's health changed, down or up, by `amount` points."""


class ArmourEvent(_LevelChange, frozen=True, omit_defaults=True, gc=False, tag="armour"):
    """Somebody's armour changed, down or up, by `amount` points."""


class DeathEvent(_Damage, frozen=True, omit_defaults=True, gc=False, tag="death"):
    """A life ended.

    position, direction, force_n_s : place of the hit in metres, unit direction of the damage, push in newton seconds
    """

    position: Triple | None = None
    direction: Triple | None = None
    force_n_s: float | None = None

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} dies{self._by(called)}"


class EffectEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="effect"):
    """An effect began, or changed when it ends: at once where `until` isn't later than the event."""

    effect: EffectName
    until: float
    amount: float = 0.0
    cause: str = ""

    def _words(self, called: Naming) -> str:
        lasts = self.until > self.server_time
        has = f"has its {self.effect} until {self.until:.2f} s" if lasts else f"loses its {self.effect}"
        return f"{called(self.entity)} {has}, {self.cause}"


class TeamEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="team"):
    """An entity changed its team."""

    team: str = ""

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} is of {f'team {printable(self.team)}' if self.team else 'no team'}"


class VehicleEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="vehicle"):
    """An entity rides another from now on; vehicle 0: none."""

    vehicle: int = 0

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} {f'rides {called(self.vehicle)}' if self.vehicle else 'rides nothing'}"


class StanceEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="stance"):
    """The server set the stance of an entity; "" for the usual one."""

    stance: str = ""

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} takes the stance {printable(self.stance) or 'that is usual'}"


class MaxHealthEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="max_health"):
    """An entity begins its lives with another health, in points, and heals up to that."""

    health: float

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} has a maximum health of {self.health:g}"


class CounterEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="counter"):
    """A counter of the game's own changed."""

    counter: str
    value: float
    cause: str = ""

    def _words(self, called: Naming) -> str:
        return f"{self.counter} of {called(self.entity)} is {self.value:g}, {printable(self.cause)}"


class PhaseEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="phase"):
    """Another phase of the match began; "" for none. Its entity is 0."""

    phase: str = ""

    def _words(self, called: Naming) -> str:
        return f"phase {printable(self.phase) or 'none'} begins"


class PushEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="push"):
    """The server pushed a body. velocity : added to its own, metres per second; until : server time of its end"""

    velocity: Triple
    until: float

    def _words(self, called: Naming) -> str:
        x, y, z = self.velocity
        return f"{called(self.entity)} is pushed by ({x:.1f}, {y:.1f}, {z:.1f}) m/s"


class ShotEnd(Sparse, frozen=True, omit_defaults=True, gc=False):
    """End of a ray. position : metres; victim, part : the body that it met; surface : of the level or of cover"""

    position: Triple
    victim: int = 0
    part: str = ""
    surface: str = ""


class ShotEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="shot"):
    """A shot or a melee attack was committed: enough to draw it.

    sequence : the claim, of its owner's client; start : metres; ends : where each ray ended, in the order of its rays
    """

    weapon: str
    start: Triple
    ends: tuple[ShotEnd, ...] = ()
    sequence: int = 0

    def _words(self, called: Naming) -> str:
        met = {called(end.victim) if end.victim else end.surface for end in self.ends} - {""}
        return f"{called(self.entity)} fires{_with(self.weapon)}: {', '.join(sorted(met)) or 'nothing in its way'}"


class WeaponEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="weapon"):
    """Somebody took another weapon in hand."""

    weapon: str

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} holds {self.weapon}"


class ControlEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="control"):
    """Somebody else acts for an entity from now on. controller : whose player; 0 for its own, or the server."""

    controller: int = 0

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} is acted for by {called(self.controller) if self.controller else 'its own'}"


class ScoreEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="score"):
    """A column of the board changed: of an entity's row, or with entity 0 the score of a team."""

    column: str
    before: float
    after: float
    cause: str = ""
    team: str = ""

    def _words(self, called: Naming) -> str:
        who = called(self.entity) if self.entity else printable(self.team) or "nobody"
        return f"{self.column} of {who} {self.before:g} -> {self.after:g}, {self.cause}"


class LeaderEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="leader"):
    """Somebody else leads; entity 0 for nobody."""

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity) if self.entity else 'nobody'} leads"


class LaunchEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="launch"):
    """Something flies from now on, and how: enough for a client to draw all of it.

    projectile : its id; sequence : the claim that launched it, of its owner's client; position : metres;
    velocity : metres a second; until : when it ends at the latest
    """

    weapon: str
    projectile: int
    position: Triple
    velocity: Triple
    motion: Motion
    until: float
    sequence: int = 0

    def _words(self, called: Naming) -> str:
        return f"{called(self.entity)} launches projectile {self.projectile}{_with(self.weapon)}"


class HomingEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="homing"):
    """A projectile follows somebody from now on; target 0 for nobody."""

    projectile: int
    target: int = 0

    def _words(self, called: Naming) -> str:
        return f"projectile {self.projectile} of {called(self.entity)} follows {called(self.target)}"


class EndEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="end"):
    """A flight ended. victim, part : the body that it ended at; surface : of the level, where it ended at that."""

    projectile: int
    position: Triple
    cause: str
    weapon: str = ""
    victim: int = 0
    part: str = ""
    surface: str = ""

    def _words(self, called: Naming) -> str:
        at = f" of {called(self.victim)}" if self.victim else f": {self.surface}" if self.surface else ""
        whose = f"projectile {self.projectile} of {called(self.entity)}"
        return f"{whose} ends{_with(self.weapon, self.part)}, {self.cause}{at}"


class RulesEvent(_Event, frozen=True, omit_defaults=True, gc=False, tag="rules"):
    """Other rules hold from now on. digests : of the parts that clients are given, by name, as in a client's bundle"""

    digests: dict[str, str]

    def _words(self, called: Naming) -> str:
        return "other rules hold from now on"


Event = (
    JoinedEvent
    | LeftEvent
    | SpawnEvent
    | HealthEvent
    | ArmourEvent
    | DeathEvent
    | EffectEvent
    | TeamEvent
    | VehicleEvent
    | StanceEvent
    | MaxHealthEvent
    | CounterEvent
    | PhaseEvent
    | PushEvent
    | ShotEvent
    | WeaponEvent
    | ControlEvent
    | ScoreEvent
    | LeaderEvent
    | LaunchEvent
    | HomingEvent
    | EndEvent
    | RulesEvent
)
"""Any published change; `kind` says which in messages."""


def _with(*things: Any) -> str:
    said = ", ".join(filter(None, things))
    return f" ({said})" if said else ""
