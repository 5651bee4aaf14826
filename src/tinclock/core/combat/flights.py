"""Everything that is in the air: rows for the kernels, who launched what, and what became of it."""

from __future__ import annotations

import math
from collections import OrderedDict
from typing import TYPE_CHECKING, Final, NamedTuple

import msgspec
import numpy as np
from msgspec import Struct

from tinclock.core.combat.projectile_motion import NO_LEVEL, ProjectilePath, motion_of, row_of
from tinclock.core.kernels import layout, sweep, trajectory

if TYPE_CHECKING:
    from collections.abc import Iterable

    from tinclock.core.combat.connections import Connection
    from tinclock.core.combat.motion import Motion
    from tinclock.core.combat.roster import Participant
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.projectiles import ProjectileRules
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.vectors import Triple

REMEMBERED_FLIGHTS = 1024
WAY_S, WAY_STEPS = 4.0, 33
"""For how long after a launch, and how finely, a claimed place is held against the way of what was launched."""


class Contact(NamedTuple):
    """Next contact of a projectile: time, kind (see `flown`), the body's column or the level's row, the part."""

    at: float
    kind: int
    column: int
    part_row: int


class Awaited(NamedTuple):
    """An impact that a client claimed of what the server has not flown so far yet.

    sequence : of the claim; at : server time of the impact; victim, part : as it names them
    """

    sequence: int
    at: float
    victim: int
    part: str | None


class Impact(Struct, frozen=True, gc=False):
    """Impact of a projectile: server time, position, victim (0: the level) and part."""

    server_time: float
    position: tuple[float, float, float]
    victim: int = 0
    part: str = ""
    surface: str = ""


class Projectile:
    """One projectile. `over` says why it ended, "" while it flies."""

    __slots__ = (
        "actor",
        "awaited",
        "bounces",
        "charge",
        "connection",
        "ended_at",
        "impacts",
        "motion",
        "number",
        "origin",
        "over",
        "passed",
        "pending",
        "row",
        "sequence",
        "started",
        "target",
        "velocity",
        "weapon",
    )

    def __init__(self, number: int, actor: Participant, connection: Connection, weapon: Weapon, row: int) -> None:
        self.number, self.actor, self.connection, self.weapon, self.row = number, actor, connection, weapon, row
        self.motion: Motion = motion_of(self.rules)
        self.sequence, self.charge = 0, 1.0
        self.started = self.ended_at = 0.0
        self.origin: Triple = (0.0, 0.0, 0.0)
        self.velocity: Triple = (0.0, 0.0, 0.0)
        self.bounces = self.passed = self.target = 0
        self.impacts: list[Impact] = []
        self.pending: list[Impact] = []
        self.awaited: list[Awaited] = []
        """Impacts that its owner's client claimed before the server had flown so far."""
        self.over = ""

    def __getstate__(self) -> tuple[Participant, Connection, Weapon, bytes]:
        """For a checkpoint: a thousand of them are remembered, so their numbers are packed."""
        waiting = [place for place, one in enumerate(self.impacts) if any(one is pending for pending in self.pending)]
        packed = _ENCODE([*[getattr(self, name) for name in _PACKED], waiting])
        return self.actor, self.connection, self.weapon, packed

    def __setstate__(self, state: tuple[Participant, Connection, Weapon, bytes]) -> None:
        self.actor, self.connection, self.weapon, packed = state
        *values, waiting = _DECODE(packed)
        for name, value in zip(_PACKED, values, strict=True):
            setattr(self, name, value)
        self.pending = [self.impacts[place] for place in waiting]
        self.motion = motion_of(self.rules)

    @property
    def rules(self) -> ProjectileRules:
        """Its table."""
        return self.weapon.projectile


_PACKED: Final = (
    "number", "row", "sequence", "charge", "started", "ended_at", "origin", "velocity", "bounces", "passed", "target",
    "awaited", "over", "impacts",
)  # fmt: skip
_Place = tuple[float, float, float]
_ENCODE: Final = msgspec.msgpack.Encoder().encode
_DECODE: Final = msgspec.msgpack.Decoder(
    tuple[
        int, int, int, float, float, float, _Place, _Place, int, int, int, list[Awaited], str, list[Impact], list[int]
    ]
).decode  # fmt: skip


class Flights:
    """The projectiles of one match."""

    def __init__(self, history: PoseHistory, level: Level | None) -> None:
        self.history, self.level = history, level
        self.live: dict[int, Projectile] = {}
        self.past: OrderedDict[int, Projectile] = OrderedDict()
        self.issued = 0
        self._free: list[int] = []
        self.rows = np.empty((0, layout.FLIGHT_FIELDS))
        self._owners, self._targets = np.empty(0, np.int64), np.empty(0, np.int64)
        self._ignored = np.empty((0, sweep.IGNORED), np.int64)
        """Entities, 0 for none: a column will be somebody else's once its entity has left."""
        self._grow(64)

    def _grow(self, count: int) -> None:
        """Make room for so many at once."""
        old = len(self.rows)
        self._free += range(count - 1, old - 1, -1)
        self.rows = np.concatenate([self.rows, np.zeros((count - old, layout.FLIGHT_FIELDS))])
        self._owners = np.concatenate([self._owners, np.zeros(count - old, np.int64)])
        self._targets = np.concatenate([self._targets, np.zeros(count - old, np.int64)])
        self._ignored = np.concatenate([self._ignored, np.zeros((count - old, sweep.IGNORED), np.int64)])

    # -- beginning and end ------------------------------------------------------------------------------------

    def launch(
        self, actor: Participant, connection: Connection, weapon: Weapon, position: Triple, velocity: Triple,
        started: float, age_s: float,
    ) -> Projectile:  # fmt: skip
        """Let something fly; ids count from 1 and are never used twice.

        started : server time of its first instant; age_s : how old the shooter's view was, for what fades
        """
        if not self._free:
            self._grow(2 * len(self.rows))
        self.issued += 1
        one = Projectile(self.issued, actor, connection, weapon, self._free.pop())
        rules = one.rules
        one.started, one.origin, one.velocity = started, position, velocity
        last = started + _life_s(rules)
        row = row_of(one.motion, started, position, velocity, last, weapon.rules.range_m)
        if rules.proximity_fuse_m is not None:
            row[layout.NEAR] = rules.proximity_fuse_m
        if rules.compensation == "blend" and age_s > 0.0:
            row[layout.AGE], row[layout.FADE] = age_s, rules.blend_s
        if rules.on_level != "end":
            row[layout.ON_LEVEL] = 1.0 if rules.on_level == "bounce" else 2.0
            row[layout.KEEPS], row[layout.LOSES] = rules.bounce.restitution, rules.bounce.friction
            row[layout.SLOW], row[layout.BOUNCES_LEFT] = rules.bounce.rest_below_m_s, float(rules.bounce.max_count)
            row[layout.OWNER_AFTER_BOUNCE] = float(rules.owner_arms_at_bounce)
        if rules.owner_arm_s is not None:
            row[layout.OWNER_FROM] = started + rules.owner_arm_s
        self.rows[one.row] = row
        self._owners[one.row], self._targets[one.row], self._ignored[one.row] = actor.entity, 0, 0
        nowhere = (math.nan,) * 3
        trajectory.start_leg(self.rows[one.row], started, position, velocity, nowhere)
        self.live[one.number] = one
        return one

    def end(self, one: Projectile, server_time: float, why: str) -> None:
        """It is no longer in the air."""
        one.over, one.ended_at = why, server_time
        if self.live.pop(one.number, None) is not None:
            self._free.append(one.row)
            self.past[one.number] = one
            if len(self.past) > REMEMBERED_FLIGHTS:
                self.past.popitem(last=False)

    def belongs(self, number: object, actor: Participant) -> bool:
        """True if a number is that of something in the air that an entity launched."""
        one = self.live.get(number) if isinstance(number, int) else None
        return one is not None and one.actor is actor

    def of(self, entity: int) -> list[Projectile]:
        """Return an entity's projectiles in flight, oldest first."""
        return [one for one in self.live.values() if one.actor.entity == entity]

    def last_of(self, one: Projectile) -> float:
        """Server time after which nothing of it is left."""
        return float(self.rows[one.row, layout.LAST])

    def flown_to(self, one: Projectile) -> float:
        """The server time up to which it was flown."""
        return float(self.rows[one.row, layout.DONE])

    def guide(self, one: Projectile, entity: int) -> None:
        """Give what homes its target; 0 for none."""
        one.target = entity
        self._targets[one.row] = entity

    # -- flying -----------------------------------------------------------------------------------------------

    def fly(self, some: Iterable[Projectile], until: float) -> list[tuple[Projectile, Contact]]:
        """Fly them to a server time, each as far as the first thing that it meets; returns those that met something."""
        flying = list(some)
        if not flying:
            return []
        count = len(flying)
        which = np.array([one.row for one in flying], np.int64)
        kinds, at = np.empty(count, np.int64), np.empty(count)
        columns, parts = np.empty(count, np.int64), np.empty(count, np.int64)
        times, slots, _ = self.history.ticks()
        level, of = self.level, self.history.columns.lookup
        sweep.fly(
            (self.rows, of[self._owners], of[self._targets], of[self._ignored]), which, float(until), (times, slots),
            self.history.columns.stored, NO_LEVEL if level is None else level.packed, level is not None,
            (kinds, at, columns, parts),
        )  # fmt: skip
        return [
            (flying[k], Contact(float(at[k]), int(kinds[k]), int(columns[k]), int(parts[k])))
            for k in np.flatnonzero(kinds).tolist()
        ]

    def position_at(self, one: Projectile, server_time: float) -> Triple:
        """Return its position at a time of its present leg."""
        position: Triple = trajectory.position_at(self.rows[one.row], server_time)
        return position

    def off_its_way(self, one: Projectile, position: Triple, at: float, give_s: float) -> float | None:
        """Return the distance of a place from the way flown around a time, as its own client can draw it.

        None for what homes, long after its launch, and after its first bounce: that may have been off a body or a door.
        """
        if one.motion.turn_deg_per_s > 0.0 or at > one.started + WAY_S:
            return None
        last = one.started + _life_s(one.rules)
        way = ProjectilePath(one.motion, one.started, one.origin, one.velocity, level=self.level, last=last)
        first = max(at - give_s, one.started)
        places = way.path(np.linspace(first, max(at + give_s, first), WAY_STEPS))
        if way.bounces and way.bounces[0].server_time <= at + give_s:
            return None
        return float(np.linalg.norm(places - position, axis=1).min())

    def velocity_at(self, one: Projectile, server_time: float) -> Triple:
        """Return its velocity at a time of its present leg."""
        velocity: Triple = trajectory.velocity_at(self.rows[one.row], server_time)
        return velocity

    def bounced(self, one: Projectile) -> int:
        """Number of its bounces off the level."""
        return int(self.rows[one.row, layout.BOUNCED])

    def met_at(self, one: Projectile, server_time: float) -> float:
        """The server time at which it meets bodies when its own time is this."""
        return float(sweep.met_at(self.rows[one.row], server_time))

    def ignore(self, one: Projectile, entity: int) -> None:
        """It doesn't meet that body again."""
        self._ignored[one.row, min(one.passed, sweep.IGNORED) - 1] = entity

    def allow_owner(self, one: Projectile, server_time: float) -> None:
        """From now on it may hit who launched it."""
        self.rows[one.row, layout.OWNER_FROM] = min(self.rows[one.row, layout.OWNER_FROM], server_time)


def _life_s(rules: ProjectileRules) -> float:
    """Lifetime: after it the projectile ends by itself."""
    return rules.lifetime_s if rules.fuse_s is None else min(rules.lifetime_s, rules.fuse_s)
