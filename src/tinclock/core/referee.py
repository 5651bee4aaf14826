"""The referee: claim -> checks -> rewind -> damage -> ruling. The order of the checks stands in `procedures`."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np

from tinclock.core.combat.events import ControlEvent, HomingEvent
from tinclock.core.combat.roster import require_name
from tinclock.core.combat.welcome import Welcome, state_of
from tinclock.core.errors import AlreadyKnownError, BadArrayError, BadNumberError, UnknownNameError
from tinclock.core.ruling.admission import Entrant, come_back, enter, require_sound
from tinclock.core.ruling.calls import MatchCalls
from tinclock.core.ruling.checks.lag import display_delays as lags_of_line
from tinclock.core.ruling.checks.lag import free_views, hear
from tinclock.core.ruling.checks.view import ages
from tinclock.core.ruling.claims import as_claim
from tinclock.core.ruling.commands import KINDS, AddFinding, Dismiss
from tinclock.core.ruling.decisions import DECISIONS
from tinclock.core.ruling.histories import history_for
from tinclock.core.ruling.melee import melee_targets as targets_of
from tinclock.core.ruling.pipeline import ClaimPipeline
from tinclock.core.ruling.preview import preview as preview_of
from tinclock.core.ruling.records import DisplayDelays, ViewBounds
from tinclock.core.ruling.riding import leave as leave_vehicles
from tinclock.core.ruling.shots import ShotBatch
from tinclock.core.timeline.instants import are_seconds, seconds
from tinclock.core.timeline.packed import Packed
from tinclock.core.timeline.views import Interpolation, sound_interpolation

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.combat.accounts import Departed
    from tinclock.core.combat.events import Event
    from tinclock.core.combat.published import BoardRow, State
    from tinclock.core.combat.roster import Participant
    from tinclock.core.geometry.level import Level
    from tinclock.core.plain import Fields
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.commands import (
        Act,
        AddEntity,
        Admit,
        AdmitSpectator,
        Advance,
        Change,
        ChangeRules,
        Command,
        HandOver,
        Ping,
        Pong,
        Record,
        Remove,
        ReportServerResult,
        ReportView,
        Rule,
        SetHomingTarget,
        SetInterpolation,
        SnapshotSent,
    )
    from tinclock.core.ruling.game_checks import GameCheck
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.bodies import ReachedHitbox
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.packed import Poses
    from tinclock.core.vectors import Triple


class Referee(MatchCalls):
    """Rules on the claims of one match.

    rules : the match's rules
    level : what doesn't move; None for open ground
    seed : keys everything random, so that the same input gives the same rulings. Anybody who knows it can work out
        everybody's spread: give each match one of its own (`secrets.randbits(64)`), keep it with the recording, tell
        no client
    storage : how poses are kept, see `PoseHistory`
    game_check : check of the game's own, called with each claim and its `preview`; it returns `GameFinding`s. A
        recording keeps its findings, so a replay doesn't call it

    Raises `RulesError` where tables contradict each other. Claims never raise, whatever is in them.
    """

    def __init__(
        self, rules: Rules, *, level: Level | None = None, seed: int = 0, storage: Literal["full", "half"] = "full",
        game_check: GameCheck | None = None,
    ) -> None:  # fmt: skip
        self.rules, self.level, self.seed = rules, level, seed
        self.game_check = game_check
        self._take_up(ClaimPipeline(rules, level, seed, lambda: history_for(rules, storage)))

    def _take_up(self, pipeline: ClaimPipeline) -> None:
        self._pipeline = pipeline
        self._history, self._ledger = self._pipeline.history, self._pipeline.ledger
        self.history, self.ledger = self._history.view(), self._ledger.view()
        self._roster = self._pipeline.roster

    def __getstate__(self) -> Fields:
        """For a checkpoint, see `core.checkpoint`."""
        return {"rules": self.rules, "level": self.level, "seed": self.seed, "pipeline": self._pipeline}

    def __setstate__(self, state: Fields) -> None:
        pipeline = state.pop("pipeline")
        self.__dict__.update(state)
        self.game_check = None
        self._take_up(pipeline)

    def apply(self, command: Command) -> Any:
        """Carry out one command: the only way in which anything changes. The calls of `MatchCalls` make them.

        Returns what the call of the same name returns. Raises what that call raises, and `BadNumberError` for what is
        no command.
        """
        decide = DECISIONS.get(type(command))
        if decide is not None:
            decided: Any = command
            decide(self._pipeline, decided, self._time(getattr(command, "server_time", None)))
            return None
        do = _DOING.get(type(command))
        if do is None:
            raise BadNumberError(
                "command", f"one of tinclock.core.ruling.commands ({', '.join(sorted(KINDS))})", command
            )
        return do(self, command)

    # -- who takes part ---------------------------------------------------------------------------------------

    def _admit(self, command: Admit) -> int:
        now = self._time(command.server_time)
        interpolation = sound_interpolation(Interpolation() if command.interpolation is None else command.interpolation)
        require_name("account", command.account)
        self._roster.refuse_known(command.connection)
        entrant = Entrant(
            command.rig, command.team, command.name, command.connection, command.weapons, command.weapon,
            command.loadout,
        )  # fmt: skip
        require_sound(self._pipeline, entrant)
        self._take_over(command.account, now)
        actor = come_back(self._pipeline, command.account, entrant, now) or enter(self._pipeline, entrant, now)
        self._roster.connect(command.connection, command.account, actor.entity, interpolation, now)
        return actor.entity

    def _take_over(self, account: str, now: float) -> None:
        """Dismiss an account's other connection where the rules say so, or raise `AlreadyKnownError`."""
        other, says = self._roster.player_of(account), self.rules.match.second_connection
        if other is None or not account or says == "allow":
            return
        if says == "refuse":
            raise AlreadyKnownError("account that plays", account)
        self._dismiss(Dismiss(other.name, now))

    def _admit_spectator(self, command: AdmitSpectator) -> None:
        require_name("account", command.account)
        self._roster.refuse_known(command.connection)
        self._roster.connect(command.connection, command.account, 0, Interpolation(), self._time(None))

    def _add_entity(self, command: AddEntity) -> int:
        if command.weapon and command.rig in self.history.rigs and not self.history.rigs[command.rig].has_eye:
            raise BadNumberError("rig", "one with an eye, for something that fires from it", command.rig)
        carried = (command.weapon,) if command.weapon else ()
        entrant = Entrant(command.rig, command.team, command.name, "", carried, command.weapon)
        require_sound(self._pipeline, entrant)
        return enter(self._pipeline, entrant, self._time(command.server_time)).entity

    def _remove(self, command: Remove) -> None:
        actor, now = self._roster.require(command.entity), self._time(command.server_time)
        if actor.home:
            placed = (e for e, a in self._roster.actors.items() if not a.home)
            raise UnknownNameError("placed entity", command.entity, placed)
        self._leave(actor.entity, now)

    def _dismiss(self, command: Dismiss) -> None:
        line, now = self._roster.require_connection(command.connection), self._time(command.server_time)
        self._roster.disconnect(command.connection, now)
        for actor in self._roster.actors.values():
            if actor.connection == command.connection and actor.entity != line.entity:
                self._give(actor, "", now)
        if line.entity:
            own = self._roster.actors[line.entity]
            departed = self._leave(line.entity, now)
            if line.account and self.rules.match.rejoin == "restore":
                self._roster.part(own, line.account, departed)

    def _leave(self, entity: int, now: float) -> Departed:
        self._pipeline.clear_the_air(entity, now)
        leave_vehicles(self._pipeline, self._roster.actors[entity], now)
        self._history.remove(entity)
        departed = self._ledger.close(entity, now)
        self._pipeline.forget(entity)
        return departed

    def _hand_over(self, command: HandOver) -> None:
        actor, now = self._roster.require(command.entity), self._time(command.server_time)
        if command.connection is not None and not self._roster.require_connection(command.connection).entity:
            playing = (name for name, one in self._roster.connections.items() if one.entity)
            raise UnknownNameError("playing connection", command.connection, playing)
        if (command.connection or "") != actor.connection:
            self._give(actor, command.connection or "", now)

    def _give(self, actor: Participant, connection: str, now: float) -> None:
        actor.hand_over(connection, now)
        bulletin = self._ledger.bulletin
        bulletin.tell(ControlEvent(bulletin.next, now, actor.entity, self._roster.controller_of(actor)))

    def _change_rules(self, command: ChangeRules) -> None:
        self._pipeline.change_rules(command.rules)

    def _report_server_result(self, command: ReportServerResult) -> None:
        self._roster.require_connection(command.connection)

    def has_connection(self, connection: str) -> bool:
        """True if a connection is admitted, to play or to watch."""
        return connection in self._roster.connections

    @property
    def connections(self) -> tuple[str, ...]:
        """The names of all that are admitted, in the order in which they came."""
        return tuple(self._roster.connections)

    def account_of(self, connection: str) -> str:
        """The account of a connection; "" for one that isn't admitted."""
        line = self._roster.connections.get(connection)
        return "" if line is None else line.account

    def position(self, entity: int) -> Triple | None:
        """Return the accepted position of the entity; None before `set_position`."""
        accepted = self._roster.require(entity).accepted
        return None if accepted is None else accepted.position

    def welcome(self, connection: str) -> Welcome:
        """Return the answer to a client that joined: its own entity, the key of its spread, the published state."""
        line = self._roster.require_connection(connection)
        actor = self._roster.actors.get(line.entity)
        return Welcome(
            line.entity,
            actor.key.hex() if actor else "",
            line.highest_sequence + 1,
            self.rules.match.tick_rate_hz,
            self.rules.match.snapshot_every,
            self.state(),
        )

    def scoreboard(self) -> list[BoardRow]:
        """Return the board with shots, hits, accuracy and damage of each player, the leading one first."""
        return self._ledger.scoreboard()

    def spread_key(self, entity: int) -> str:
        """The key of an entity's spread, hexadecimal, for the client that acts for it: see `SpreadStream`."""
        return self._roster.require(entity).key.hex()

    def state(self) -> State:
        """Everything that clients may read, complete, as it is after the last event; later events continue from it."""
        return state_of(self._roster, self.ledger, self._pipeline.flights)

    def _time(self, server_time: float | None) -> float:
        return max(self.history.newest_time, 0.0) if server_time is None else seconds("server_time", server_time)

    # -- what happens -----------------------------------------------------------------------------------------

    def _record(self, command: Record) -> None:
        now, entities, bones = seconds("server_time", command.server_time), command.entities, command.bones
        if self.ledger.dead:
            entities, bones = self._without_the_dead(entities, bones)
        self._history.record(command.tick, now, entities, bones)
        self.rules = self._pipeline.begin_tick(now)

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
        if isinstance(bones, Packed):
            alive = np.array([entity not in self.ledger.dead for entity in ids], bool)
            return np.array(ids, np.int64)[alive], bones.only(alive)
        kept = [row for row, entity in enumerate(ids) if entity not in self.ledger.dead]
        poses = bones[kept] if isinstance(bones, np.ndarray) else [bones[row] for row in kept]
        return [ids[row] for row in kept], poses

    def _snapshot_sent(self, command: SnapshotSent) -> None:
        self._history.publish(command.tick, None if command.sent_at is None else seconds("sent_at", command.sent_at))

    def _advance(self, command: Advance) -> list[Ruling]:
        return self._pipeline.advance(seconds("server_time", command.server_time))

    def _ping(self, command: Ping) -> int:
        return self._roster.require_connection(command.connection).clock.ping(seconds("sent_at", command.sent_at))

    def _pong(self, command: Pong) -> str:
        at = seconds("received_at", command.received_at)
        return self._roster.require_connection(command.connection).clock.pong(command.nonce, command.client_time, at)

    def _report_view(self, command: ReportView) -> bool:
        connection = self._roster.require_connection(command.connection)
        at = seconds("received_at", command.received_at)
        return hear(self._history, connection, command.view, command.client_time, at)

    def _set_interpolation(self, command: SetInterpolation) -> None:
        self._roster.require_connection(command.connection).draw_by(
            sound_interpolation(command.interpolation), self._time(None)
        )

    def clock(self, connection: str) -> ClockEstimate:
        """State of a connection's clock and path."""
        return self._roster.require_connection(connection).clock

    def view_bounds(self, connection: str) -> ViewBounds:
        """Return the ages that this connection's views may have on arrival now."""
        line = self._roster.require_connection(connection)
        youngest, oldest = ages(line, self._pipeline.numbers, self.history.snapshot_spacing_s)
        return ViewBounds(youngest, oldest, self.rules.view.max_rewind_s)

    def view_window(self, connection: str, sequence: int, received_at: float) -> tuple[float, float]:
        """Between which server times, oldest first, a claim may show the others without a finding, as things stand.

        An honest client has no use for the choice: its screen shows one of them. `fairness` says what others could
        gain by it. Unstamped claims have less of it where a lag is tracked.
        """
        line, bounds = self._roster.require_connection(connection), self.view_bounds(connection)
        oldest, newest = received_at - min(bounds.oldest_s, bounds.rewind_limit_s), received_at - bounds.newest_s
        free = free_views(line, self._pipeline.numbers, self._history, sequence, received_at)
        return max(oldest, free[0]), min(newest, free[1])

    def display_delays(self, connection: str, received_at: float) -> DisplayDelays:
        """Return how old the views of that connection's fastest messages are on arrival, as things stand."""
        line = self._roster.require_connection(connection)
        return DisplayDelays(*lags_of_line(line, self._pipeline.numbers, self._history, received_at))

    def events(self, since: int | None = None) -> list[Event]:
        """Return the events since the last call; or all events after a number, for a client that missed some.

        Raises `OutOfHistoryError` for a number whose successors are no longer kept: send the `state` instead.
        """
        bulletin = self._ledger.bulletin
        return bulletin.take() if since is None else bulletin.since(since)

    def _set_homing_target(self, command: SetHomingTarget) -> None:
        flights = self._pipeline.flights
        one = flights.live.get(command.projectile)
        if one is None:
            raise UnknownNameError("projectile", command.projectile, flights.live)
        target, now = (
            0 if command.entity is None else self._roster.require(command.entity).entity,
            self._time(command.server_time),
        )
        flights.guide(one, target)
        bulletin = self._ledger.bulletin
        bulletin.tell(HomingEvent(bulletin.next, now, one.actor.entity, command.projectile, target))

    def melee_targets(
        self, entity: int, weapon: str | None = None, direction: Triple | None = None
    ) -> list[ReachedHitbox]:
        """Return the entities that a blow would reach now, nearest first: for a client that shows if a blow would land.

        weapon : a melee weapon, by default the one it holds; direction : its aim, by default where its eye looks
        """
        actor = self._roster.require(entity)
        name = self._roster.require_weapon(weapon or actor.wielded)
        return targets_of(self._pipeline.world, actor, self._roster.weapons[name], direction)

    # -- ruling -----------------------------------------------------------------------------------------------

    def rule(self, connection: str, claim: object, *, received_at: float) -> Ruling:
        """See `MatchCalls.rule`: what `apply` does with a `Rule`, without making one; nothing is called as often."""
        if self.game_check is not None:
            for finding in self.game_findings(connection, claim, received_at):
                self.apply(finding)
        return self._pipeline.rule(connection, claim, seconds("received_at", received_at))

    def preview(self, connection: str, claim: object, *, received_at: float) -> Ruling | None:
        """Return the ruling that a claim's checks lead to as things stand, without hits; nothing changes.

        For checks of the game's own, before `add_finding`. Its number is 0. None where there is nothing to check: a
        connection that doesn't play, a malformed claim, or one that was ruled before.
        """
        return preview_of(self._pipeline, connection, claim, seconds("received_at", received_at))

    def game_findings(self, connection: str, claim: object, received_at: float) -> list[Change]:
        """Return the commands for what `game_check` finds about a claim; empty without a `game_check`."""
        if self.game_check is None:
            return []
        ruling = self.preview(connection, claim, received_at=received_at)
        if ruling is None:
            return []
        found = self.game_check(as_claim(claim), ruling)
        return [
            AddFinding(connection, ruling.sequence, one.code, one.observed, one.limit, one.unit, one.detail)
            for one in found
        ]

    def rule_many(
        self, claims: Iterable[tuple[str, Claim | object, float]] | ShotBatch, told: list[int] | None = None
    ) -> list[Ruling]:
        """See `MatchCalls.rule_many`: here they share kernel calls.

        told : is filled with the number of the last event after each of them
        """
        many = list(claims.each() if isinstance(claims, ShotBatch) else claims)
        if self.game_check is not None:
            return [self.rule(name, claim, received_at=at) for name, claim, at in many]
        if not are_seconds([at for _, _, at in many]):
            many = [(name, claim, seconds("received_at", at)) for name, claim, at in many]
        rulings: list[Ruling] = []
        numbers, bulletin = told, self._ledger.bulletin
        if numbers is None:
            self._pipeline.rule_many(many, rulings.append)
            return rulings

        def done(ruling: Ruling) -> None:
            rulings.append(ruling)
            numbers.append(bulletin.number)

        self._pipeline.rule_many(many, done)
        return rulings

    def _rule(self, command: Rule) -> Ruling:
        return self._pipeline.rule(command.connection, command.claim, seconds("received_at", command.received_at))

    def _act(self, command: Act) -> Ruling:
        now, actor = seconds("server_time", command.server_time), self._roster.require(command.entity)
        if actor.connection:
            own = (e for e, a in self._roster.actors.items() if not a.connection)
            raise UnknownNameError("entity of the server's own", command.entity, own)
        return self._pipeline.act(actor, command.claim, now)


_DOING: Final[dict[type, Callable[[Referee, Any], Any]]] = {
    kind: getattr(Referee, f"_{name}") for name, kind in KINDS.items() if kind not in DECISIONS
}
