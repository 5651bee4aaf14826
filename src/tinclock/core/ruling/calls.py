"""The calls of a match by their names: each makes one command, and every taker of commands has them all."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Any

from tinclock.core.plain import Fields
from tinclock.core.ruling.commands import (
    Act,
    Admit,
    AdmitSpectator,
    Advance,
    ChangeRules,
    Cut,
    Dismiss,
    Guide,
    HandOver,
    Harm,
    OwnResult,
    Ping,
    Place,
    Pong,
    Publish,
    Put,
    Record,
    Remove,
    Rule,
    Seen,
    SetDrawing,
    Spawn,
    Wield,
)
from tinclock.core.ruling.shots import Shots

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    import numpy as np
    from numpy.typing import NDArray

    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.commands import Command
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.packed import Poses
    from tinclock.core.timeline.views import Drawing
    from tinclock.core.vectors import Triple


class MatchCalls(ABC):
    """Everything that a server does to a match. `Referee` carries it out, `Recorder` notes it first."""

    @abstractmethod
    def apply(self, command: Command) -> Any:
        """Carry out one command; returns what the call of its name returns."""

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
        return int(
            self.apply(
                Admit(
                    connection=connection,
                    account=account,
                    team=team,
                    rig=rig,
                    name=name,
                    weapon=weapon,
                    weapons=None if weapons is None else tuple(weapons),
                    drawing=drawing,
                    server_time=server_time,
                )
            )
        )

    def admit_spectator(self, connection: str, account: str) -> None:
        """Let a spectator in: it may read everything that is published, and whatever it claims is denied."""
        self.apply(AdmitSpectator(connection=connection, account=account))

    def place(
        self, rig: str, *, team: str = "", name: str = "", weapon: str = "", server_time: float | None = None
    ) -> int:
        """Bring in something that nobody plays: a door, a shield, a turret, a monster. Returns the id of its entity.

        It is recorded and rewound like any entity. Its rig says whether it takes damage, and how much. With
        a weapon the server lets it `act`; `hand_over` lets a client act for it.
        """
        return int(self.apply(Place(rig=rig, team=team, name=name, weapon=weapon, server_time=server_time)))

    def remove(self, entity: int, server_time: float | None = None) -> None:
        """Take away what `place` brought in; its past is gone at once."""
        self.apply(Remove(entity=entity, server_time=server_time))

    def dismiss(self, connection: str, server_time: float | None = None) -> None:
        """A connection left: its entity and its past are gone at once, and what else it acted for is the server's."""
        self.apply(Dismiss(connection=connection, server_time=server_time))

    def hand_over(self, entity: int, connection: str | None, server_time: float | None = None) -> None:
        """Another connection (None: the server) acts for an entity from now on: a vehicle, a turret, a possession.

        Claims are held against who had control when their screen showed it, so that one that was fired just before the
        change still counts and one by the new owner can't reach back behind it.
        """
        self.apply(HandOver(entity=entity, connection=connection, server_time=server_time))

    def spawn(self, entity: int, server_time: float | None = None) -> None:
        """Begin a new life of an entity, with full health and magazines; nothing is interpolated from the old one."""
        self.apply(Spawn(entity=entity, server_time=server_time))

    def cut(self, entity: int) -> None:
        """The entity was teleported: nothing is interpolated from where it was to where it is."""
        self.apply(Cut(entity))

    def harm(self, entity: int, damage: float, cause: str = "fall", server_time: float | None = None) -> None:
        """The world does damage to an entity: a fall, lava, the edge of the map. It is told and scored like any other.

        cause : what events name. Within `score.credit_window_s` of somebody's damage a death counts as that one's kill
        """
        self.apply(Harm(entity=entity, damage=damage, cause=cause, server_time=server_time))

    def wield(self, entity: int, weapon: str, server_time: float | None = None) -> None:
        """The entity holds another weapon from now on, ready at once."""
        self.apply(Wield(entity=entity, weapon=weapon, server_time=server_time))

    def put(self, entity: int, position: Triple, server_time: float | None = None) -> None:
        """The server puts a body somewhere, at rest. From then on its client may report moves from there."""
        self.apply(Put(entity=entity, position=position, server_time=server_time))

    def ping(self, connection: str, sent_at: float) -> int:
        """Open a ping exchange; returns the nonce to send to the client."""
        return int(self.apply(Ping(connection=connection, sent_at=sent_at)))

    def pong(self, connection: str, nonce: object, client_time: object, received_at: float) -> str:
        """Take the client's answer to a ping. Never raises for what the client sent; returns what became of it."""
        return str(
            self.apply(Pong(connection=connection, nonce=nonce, client_time=client_time, received_at=received_at))
        )

    def seen(self, connection: str, view: object, client_time: object, received_at: float) -> bool:
        """Take a client's word on what its screen is showing: two ticks and a fraction, at a time of its own clock.

        For clients that don't report moves, a few times a second: shots are held against the lag that it says. Never
        raises for what the client sent; returns whether it said anything.
        """
        command = Seen(connection=connection, view=view, client_time=client_time, received_at=received_at)
        return bool(self.apply(command))

    def set_drawing(self, connection: str, drawing: Drawing) -> None:
        """That client draws the others in another way from now on."""
        self.apply(SetDrawing(connection=connection, drawing=drawing))

    def guide(self, projectile: int, entity: int | None, server_time: float | None = None) -> None:
        """Give something that homes its target, None for none; it flies straight on until it has one.

        Raises `UnknownNameError` for a projectile that isn't in the air, or an entity that isn't here.
        """
        self.apply(Guide(projectile=projectile, entity=entity, server_time=server_time))

    def change_rules(self, rules: Rules) -> None:
        """Let other rules hold from the next recorded tick on; an event tells everybody the digests of its parts.

        Magazines, items and what is under way stay, cut down to what the new rules allow; what is in the air goes on
        as it was launched. Raises `RulesError` for rules that contradict themselves, and for what can't change while a
        match runs: rigs, rates, the length of the history, weapons and items that somebody has.
        """
        self.apply(ChangeRules(rules=rules))

    def own_result(self, connection: str, sequence: int, hits: Sequence[tuple[int, float]] = ()) -> None:
        """Say what your server made of a claim by itself: (victim, points of damage) for each that it hurt.

        It changes nothing and is kept in the recording, where `tinclock compare` holds it against the ruling. For games
        that try this out beside what they have (`match.enforce = "no"`).
        """
        self.apply(OwnResult(connection, int(sequence), tuple((int(who), float(points)) for who, points in hits)))

    def record(self, tick: int, server_time: float, entities: Sequence[int] | NDArray[np.int64], bones: Poses) -> None:
        """Store the poses of one tick (see `PoseHistory.record`). The dead are left out: nobody hits a corpse.

        entities : (n,) int64; bones : (n, bones, 7) float, metres and quaternion xyzw, or one array a body.
        """
        self.apply(Record(tick=tick, server_time=server_time, entities=entities, bones=bones))

    def published(self, tick: int, sent_at: float | None = None) -> None:
        """This tick's snapshot was sent to the clients (at `sent_at`, by default its own server time)."""
        self.apply(Publish(tick=tick, sent_at=sent_at))

    def advance(self, server_time: float) -> list[Ruling]:
        """Let time pass up to a server time: held triggers fire at their own instants, lasting damage goes on.

        Call it once a tick, after `record`. Returns the rulings of the shots that were fired.
        """
        fired: list[Ruling] = self.apply(Advance(server_time=server_time))
        return fired

    def rule(self, connection: str, claim: Claim | object, *, received_at: float) -> Ruling:
        """Decide one claim that `connection` sent and the server received at a server time.

        `claim` may be anything a client can send: what is not a claim gets a denied ruling. Raises only
        `BadNumberError` for a `received_at` that can't be seconds of a match.
        """
        ruling: Ruling = self.apply(Rule(connection, claim, received_at))
        return ruling

    def rule_many(self, claims: Iterable[tuple[str, Claim | object, float]] | Shots) -> list[Ruling]:
        """Decide many claims, as if `rule` had been called for each in turn; one kernel call takes those that it can.

        claims : of each the connection, the claim, and the server time at which it was received; or `Shots`

        Raises what `rule` raises, for the first of the times that can't be one, before anything is ruled.
        """
        many = claims.each() if isinstance(claims, Shots) else claims
        return [self.rule(connection, claim, received_at=at) for connection, claim, at in many]

    def act(self, entity: int, claim: Claim | Fields, *, server_time: float) -> Ruling:
        """Let an entity that the server acts for (see `place`) do something, by the same rules as a client's.

        The claim's sequence and actor are filled in, its view is the present. Raises `UnknownNameError` for an entity
        that a client acts for, `BadNumberError` for what is not a claim.
        """
        ruling: Ruling = self.apply(Act(entity=entity, claim=claim, server_time=server_time))
        return ruling
