"""The referee: claim -> checks -> rewind -> damage -> ruling. The order of the checks stands in `procedures`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from tinclock.core.acts.handle import wield
from tinclock.core.checks.view import latest_age, shortest_trip, sparser_by
from tinclock.core.combat.ledger import Blow
from tinclock.core.combat.roster import require_name
from tinclock.core.combat.stride import Stride
from tinclock.core.desk import Desk
from tinclock.core.errors import BadArrayError, BadNumberError, UnknownNameError
from tinclock.core.records import ViewBounds
from tinclock.core.timeline.instants import is_finite, seconds
from tinclock.core.timeline.views import Drawing, sound_drawing
from tinclock.core.welcome import Welcome, state_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.claims import Claim, Triple
    from tinclock.core.combat.published import State
    from tinclock.core.combat.roster import Participant
    from tinclock.core.geometry.level import Level
    from tinclock.core.records import Event, Ruling
    from tinclock.core.rules import Rules
    from tinclock.core.timeline.bodies import Reached
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.packed import Poses


class Referee:
    """Rules on the claims of one match.

    rules : the match's rules
    level : what doesn't move; None for open ground
    seed : keys everything random, so that the same input gives the same rulings. Who knows it can work out everybody's
        spread: give each match one of its own (`secrets.randbits(64)`), keep it with the recording, tell no client
    storage : how poses are kept, see `PoseHistory`

    Raises `RulesError` where tables contradict each other. Claims never raise, whatever is in them.
    """

    def __init__(
        self, rules: Rules, *, level: Level | None = None, seed: int = 0, storage: Literal["full", "half"] = "full"
    ) -> None:
        self._desk = Desk(rules, level, seed, storage)
        self.rules, self.level, self.seed = rules, level, seed
        self.history, self.ledger = self._desk.history, self._desk.ledger
        self._roster = self._desk.roster

    # -- who takes part ---------------------------------------------------------------------------------------

    def admit(
        self,
        *,
        connection: str,
        account: str,
        team: str = "",
        rig: str,
        name: str = "",
        weapon: str | None = None,
        weapons: Sequence[str] | None = None,
        drawing: Drawing | None = None,
        server_time: float | None = None,
    ) -> int:
        """Let a connection in; returns the id of its entity, alive from now on. Ids are never used twice.

        name : shown to everybody, and nothing else: it identifies nobody
        weapons : what it carries, by default all of the rules; weapon : what it holds, by default the first of those
        drawing : how its client draws the others

        What to tell the client is in `welcome`.
        """
        now, drawing = self._time(server_time), sound_drawing(Drawing() if drawing is None else drawing)
        require_name("account", account)
        self._roster.refuse_known(connection)
        actor = self._enter(name, team, rig, connection, weapons, weapon, now)
        self._roster.connect(connection, account, actor.entity, drawing, now)
        return actor.entity

    def watch(self, connection: str, account: str) -> None:
        """Let a spectator in: it may read everything that is published, and whatever it claims is denied."""
        require_name("account", account)
        self._roster.refuse_known(connection)
        self._roster.connect(connection, account, 0, Drawing(), self._time(None))

    def place(
        self, rig: str, *, team: str = "", name: str = "", weapon: str = "", server_time: float | None = None
    ) -> int:
        """Bring in something that nobody plays: a door, a shield, a turret, a monster. Returns the id of its entity.

        It is recorded and rewound like any entity. Whether it takes damage, and how much it stands, says its rig. With
        a weapon the server lets it `act`; `hand_over` lets a client act for it.
        """
        if weapon and rig in self.history.rigs and not self.history.rigs[rig].has_eye:
            raise BadNumberError("rig", "one with an eye, for something that fires from it", rig)
        return self._enter(name, team, rig, "", [weapon] if weapon else [], weapon, server_time).entity

    def _enter(
        self,
        name: str,
        team: str,
        rig: str,
        connection: str,
        weapons: Sequence[str] | None,
        weapon: str | None,
        server_time: float | None,
    ) -> Participant:
        now, entity = self._time(server_time), self._roster.next_entity
        require_name("name", name), require_name("team", team)
        if rig not in self.history.rigs:
            raise UnknownNameError("rig", rig, self.history.rigs)
        actor = self._roster.enter(
            name=name, team=team, rig=rig, connection=connection, carried=weapons, wielded=weapon, now=now
        )
        self.history.add(entity, rig)
        body = self.rules.rigs[rig]
        self.ledger.open(entity, body.health, name=name if connection else None, team=team, worth=body.worth)
        self.ledger.bulletin.tell(
            "joined", now, entity, name=name, team=team, rig=rig, weapon=actor.wielded or None,
            what="player" if connection else "",
        )  # fmt: skip
        self.ledger.spawn(entity, now)
        return actor

    def remove(self, entity: int, server_time: float | None = None) -> None:
        """Take away what `place` brought in; its past is gone at once."""
        actor, now = self._roster.require(entity), self._time(server_time)
        if actor.home:
            placed = (e for e, a in self._roster.actors.items() if not a.home)
            raise UnknownNameError("placed entity", entity, placed)
        self._leave(actor.entity, now)

    def dismiss(self, connection: str, server_time: float | None = None) -> None:
        """A connection left: its entity and its past are gone at once, and what else it acted for is the server's."""
        line, now = self._roster.require_line(connection), self._time(server_time)
        del self._roster.lines[connection]
        for actor in self._roster.actors.values():
            if actor.connection == connection and actor.entity != line.entity:
                self._give(actor, "", now)
        if line.entity:
            self._leave(line.entity, now)

    def _leave(self, entity: int, now: float) -> None:
        self._desk.clear_the_air(entity, now)
        self.history.remove(entity)
        self.ledger.close(entity, now)
        self._desk.forget(entity)

    def hand_over(self, entity: int, connection: str | None, server_time: float | None = None) -> None:
        """Another connection (None: the server) acts for an entity from now on: a vehicle, a turret, a possession.

        Claims are held against who had control when their screen showed it, so that one that was fired just before the
        change still counts and one by the new owner can't reach back behind it.
        """
        actor, now = self._roster.require(entity), self._time(server_time)
        if connection is not None and not self._roster.require_line(connection).entity:
            playing = (name for name, line in self._roster.lines.items() if line.entity)
            raise UnknownNameError("playing connection", connection, playing)
        if (connection or "") != actor.connection:
            self._give(actor, connection or "", now)

    def _give(self, actor: Participant, connection: str, now: float) -> None:
        actor.hand_over(connection, now)
        self.ledger.bulletin.tell("control", now, actor.entity, actor=self._roster.controller_of(actor) or None)

    def spawn(self, entity: int, server_time: float | None = None) -> None:
        """Begin a new life of an entity, with full health and magazines; nothing is interpolated from the old one."""
        actor, now = self._roster.require(entity), self._time(server_time)
        self.history.cut(actor.entity)
        actor.life_epoch = self.history.epoch_of(actor.entity)
        actor.refill()
        self.ledger.spawn(actor.entity, now)

    def harm(self, entity: int, damage: float, cause: str = "fall", server_time: float | None = None) -> None:
        """The world does damage to an entity: a fall, lava, the edge of the map. It is told and scored like any other.

        cause : what events name. Within `score.credit_window_s` of somebody's damage a death counts as that one's kill
        """
        actor, now = self._roster.require(entity), self._time(server_time)
        points = float(damage) if is_finite(damage) else -1.0
        if points < 0.0:
            raise BadNumberError("damage", "a finite number of points of at least 0", damage)
        self.ledger.wound(actor.entity, points, now, Blow(require_name("cause", cause)))

    def wield(self, entity: int, weapon: str, server_time: float | None = None) -> None:
        """The entity holds another weapon from now on, ready at once."""
        actor, now = self._roster.require(entity), self._time(server_time)
        self._roster.require_weapon(weapon)
        if weapon not in actor.weapons:
            raise UnknownNameError("carried weapon", weapon, actor.weapons)
        wield(actor, weapon, self.ledger, now, at_once=True)

    def put(self, entity: int, position: Triple, server_time: float | None = None) -> None:
        """The server puts a body somewhere, at rest. From then on its client may report moves from there."""
        actor, now = self._roster.require(entity), self._time(server_time)
        if len(position) != 3 or not all(map(is_finite, position)):
            raise BadNumberError("position", "three finite numbers, metres", position)
        here = (float(position[0]), float(position[1]), float(position[2]))
        if actor.stride is None:
            actor.stride = Stride(here, now)
        else:
            actor.stride.put(here, now)

    def knows(self, connection: str) -> bool:
        """Whether a connection is admitted, to play or to watch."""
        return connection in self._roster.lines

    def account_of(self, connection: str) -> str:
        """The account of a connection; "" for one that isn't admitted."""
        line = self._roster.lines.get(connection)
        return "" if line is None else line.account

    def position(self, entity: int) -> Triple | None:
        """Where the entity's moves were accepted to; None before `put`."""
        stride = self._roster.require(entity).stride
        return None if stride is None else stride.position

    def welcome(self, connection: str) -> Welcome:
        """What to tell a client that joined: which entity is its own, the key of its spread, the published state."""
        line = self._roster.require_line(connection)
        actor = self._roster.actors.get(line.entity)
        return Welcome(
            line.entity,
            actor.key.hex() if actor else "",
            line.highest_sequence + 1,
            self.rules.match.tick_rate_hz,
            self.rules.match.snapshot_every,
            self.state(),
        )

    def spread_key(self, entity: int) -> str:
        """The key of an entity's spread, hexadecimal, for the client that acts for it: see `Scatter`."""
        return self._roster.require(entity).key.hex()

    def state(self) -> State:
        """Everything that clients may read, complete, as it is after the last event; later events continue from it."""
        return state_of(self._roster, self.ledger, self._desk.flights)

    def _time(self, server_time: float | None) -> float:
        return max(self.history.newest_time, 0.0) if server_time is None else seconds("server_time", server_time)

    # -- what happens -----------------------------------------------------------------------------------------

    def record(
        self,
        tick: int,
        server_time: float,
        entities: Sequence[int] | NDArray[np.int64],
        bones: Poses,
    ) -> None:
        """Store the poses of one tick (see `PoseHistory.record`). The dead are left out: nobody hits a corpse."""
        now = seconds("server_time", server_time)
        if self.ledger.dead:
            entities, bones = self._without_the_dead(entities, bones)
        self.history.record(tick, now, entities, bones)

    def _without_the_dead(
        self, entities: Sequence[int] | NDArray[np.int64], bones: Poses
    ) -> tuple[Sequence[int] | NDArray[np.int64], Poses]:
        ids = [int(entity) for entity in entities]
        if self.ledger.dead.isdisjoint(ids):
            return entities, bones
        if len(bones) != len(ids):
            raise BadArrayError("bones", f"{len(ids)} poses, one an entity", f"{len(bones)} poses")
        for entity in ids:
            self.history.require(entity)
        kept = [row for row, entity in enumerate(ids) if entity not in self.ledger.dead]
        poses = bones[kept] if isinstance(bones, np.ndarray) else [bones[row] for row in kept]
        return [ids[row] for row in kept], poses

    def published(self, tick: int, sent_at: float | None = None) -> None:
        """This tick's snapshot was sent to the clients (at `sent_at`, by default its own server time)."""
        self.history.publish(tick, None if sent_at is None else seconds("sent_at", sent_at))

    def advance(self, server_time: float) -> list[Ruling]:
        """Let time pass up to a server time: held triggers fire at their own instants, lasting damage goes on.

        Call it once a tick, after `record`. Returns the rulings of the shots that were fired.
        """
        return self._desk.advance(seconds("server_time", server_time))

    def ping(self, connection: str, sent_at: float) -> int:
        """Open a ping exchange; returns the nonce to send to the client."""
        return self._roster.require_line(connection).clock.ping(seconds("sent_at", sent_at))

    def pong(self, connection: str, nonce: object, client_time: object, received_at: float) -> str:
        """Take the client's answer to a ping. Never raises for what the client sent; returns what became of it."""
        at = seconds("received_at", received_at)
        return self._roster.require_line(connection).clock.pong(nonce, client_time, at)

    def set_drawing(self, connection: str, drawing: Drawing) -> None:
        """That client draws the others in another way from now on."""
        self._roster.require_line(connection).drawing = sound_drawing(drawing)

    def clock(self, connection: str) -> ClockEstimate:
        """What is known of a connection's clock and path."""
        return self._roster.require_line(connection).clock

    def view_bounds(self, connection: str) -> ViewBounds:
        """How old that connection's views may be on arrival, as things stand."""
        line = self._roster.require_line(connection)
        return ViewBounds(
            shortest_trip(line, self.rules),
            latest_age(line, self.rules) + sparser_by(self.history, self.rules),
            self.rules.view.max_rewind_s,
        )

    def events(self, since: int | None = None) -> list[Event]:
        """What everyone is told, since the last call; or all events after a number, for one who missed some.

        Raises `OutOfHistoryError` for a number whose successors are no longer kept: send the `state` instead.
        """
        bulletin = self.ledger.bulletin
        return bulletin.take() if since is None else bulletin.since(since)

    def guide(self, projectile: int, entity: int | None, server_time: float | None = None) -> None:
        """Give something that homes its target, None for none; it flies straight on until it has one.

        Raises `UnknownNameError` for a projectile that isn't in the air, or an entity that isn't here.
        """
        flights = self._desk.flights
        one = flights.live.get(projectile)
        if one is None:
            raise UnknownNameError("projectile", projectile, flights.live)
        target, now = 0 if entity is None else self._roster.require(entity).entity, self._time(server_time)
        flights.guide(one, target)
        self.ledger.bulletin.tell("guide", now, one.actor.entity, projectile=projectile, actor=target or None)

    def in_reach(self, entity: int, weapon: str | None = None, direction: Triple | None = None) -> list[Reached]:
        """Whom a blow of the entity would reach now, nearest first: to light up a button.

        weapon : a reach weapon, by default the one it holds; direction : its aim, by default where its eye looks
        """
        actor = self._roster.require(entity)
        name = self._roster.require_weapon(weapon or actor.wielded)
        return self._desk.in_reach(actor, self._roster.weapons[name], direction)

    # -- ruling -----------------------------------------------------------------------------------------------

    def rule(self, connection: str, claim: Claim | object, *, received_at: float) -> Ruling:
        """Decide one claim that `connection` sent and the server received at a server time.

        `claim` may be anything a client can send: what is not a claim gets a denied ruling. Raises only
        `BadNumberError` for a `received_at` that can't be seconds of a match.
        """
        return self._desk.rule(connection, claim, seconds("received_at", received_at))

    def act(self, entity: int, claim: Claim | dict[str, Any], *, server_time: float) -> Ruling:
        """Let an entity that the server acts for (see `place`) do something, by the same rules as a client's.

        The claim's sequence and actor are filled in, its view is the present. Raises `UnknownNameError` for an entity
        that a client acts for, `BadNumberError` for what is not a claim.
        """
        now, actor = seconds("server_time", server_time), self._roster.require(entity)
        if actor.connection:
            own = (e for e, a in self._roster.actors.items() if not a.connection)
            raise UnknownNameError("entity of the server's own", entity, own)
        return self._desk.act(actor, claim, now)
