"""The referee: claim -> checks -> rewind -> damage -> ruling. The order stands on one screen, in `SHOT_CHECKS`."""

from __future__ import annotations

import hashlib
import math
from typing import TYPE_CHECKING, Final, Literal

import msgspec
import numpy as np

from tinclock.core.checks.claimed import check_claimed_damage, check_claimed_part, check_claimed_victim
from tinclock.core.checks.consequences import consequences_of
from tinclock.core.checks.context import Context, excerpt
from tinclock.core.checks.form import check_form, is_count
from tinclock.core.checks.muzzle import check_muzzle
from tinclock.core.checks.sender import check_actor, check_sender
from tinclock.core.checks.sequence import check_sequence
from tinclock.core.checks.view import check_view, check_view_order, latest_age, shortest_trip
from tinclock.core.checks.weapon import check_cadence, check_weapon
from tinclock.core.combat.ledger import Ledger
from tinclock.core.combat.roster import Line, Participant
from tinclock.core.combat.weapons import Weapon
from tinclock.core.errors import (
    AlreadyKnownError,
    BadArrayError,
    BadNumberError,
    RulesError,
    UnknownNameError,
)
from tinclock.core.geometry.rig import Rig
from tinclock.core.records import Finding, Outcome, Ruling, ShotClaim, Step, ViewBounds
from tinclock.core.resolve import cast_shot, strike
from tinclock.core.rules import contradictions
from tinclock.core.timeline.history import PoseHistory
from tinclock.core.timeline.views import Drawing

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.records import Event, Hit
    from tinclock.core.rules import Consequence, Rules
    from tinclock.core.timeline.clock import ClockEstimate

    Check = Callable[[ShotClaim, Context], Finding | None]

SHOT_CHECKS: Final[tuple[Check, ...]] = (
    check_sequence,
    check_form,
    check_sender,
    check_actor,
    check_weapon,
    check_cadence,
    check_view,
    check_view_order,
    check_muzzle,
)
"""Before the ray is cast."""

NOT_COUNTED: Final = frozenset({"stale_sequence", "skipped_sequence"})
"""After these a claim's number doesn't count as used: one wild number must not make all the next ones look stale."""

CLAIM_CHECKS: Final[tuple[Check, ...]] = (check_claimed_damage, check_claimed_victim, check_claimed_part)
"""After it, on what the client says that it did."""


class Referee:
    """Rules on the claims of one match.

    rules : the match's rules
    level : what doesn't move; None for open ground
    seed : keys everything random, so that the same input gives the same rulings
    storage : how poses are kept, see `PoseHistory`

    Raises `RulesError` where tables contradict each other. Claims never raise, whatever is in them.
    """

    def __init__(
        self, rules: Rules, *, level: Level | None = None, seed: int = 0, storage: Literal["full", "half"] = "full"
    ) -> None:
        self.rules, self.level, self.seed = rules, level, seed
        problems = contradictions(rules)
        if problems:
            raise RulesError("rules", problems)
        self._consequences = consequences_of(rules)
        self._weapons = {name: Weapon(name, table) for name, table in rules.weapons.items()}
        self.history = PoseHistory(
            {name: Rig(name, table) for name, table in rules.rigs.items()},
            tick_rate_hz=rules.match.tick_rate_hz,
            history_s=rules.match.history_s,
            zone_depth_m=rules.match.zone_depth_m,
            storage=storage,
        )
        self.ledger = Ledger(rules.match.health)
        self._actors: dict[int, Participant] = {}
        self._lines: dict[str, Line] = {}
        self._next_entity = 1
        self._rulings = 0

    # -- who takes part ---------------------------------------------------------------------------------------

    def admit(
        self,
        *,
        connection: str,
        account: str,
        team: str,
        rig: str,
        weapon: str | None = None,
        drawing: Drawing | None = None,
        server_time: float | None = None,
    ) -> int:
        """Let a connection in; returns the id of its entity, alive from now on. Ids are never used twice.

        weapon : what it holds, by default the first of the rules
        drawing : how its client draws the others
        """
        if connection in self._lines:
            raise AlreadyKnownError("connection", connection)
        held = next(iter(self._weapons)) if weapon is None else self._require_weapon(weapon)
        entity = self._enter(connection, account, team, rig, held, server_time)
        key = hashlib.blake2b(f"{self.seed}/{entity}".encode(), digest_size=32).digest()
        self._lines[connection] = Line(connection, entity, drawing or Drawing(), key)
        return entity

    def place(self, rig: str, *, team: str = "", server_time: float | None = None) -> int:
        """Bring in something that nobody plays: a door, a shield, a lift. Returns the id of its entity.

        It is recorded and rewound like any entity. Whether it takes damage, and how much it stands, says its rig.
        """
        return self._enter("", "", team, rig, "", server_time)

    def remove(self, entity: int, server_time: float | None = None) -> None:
        """Take away what `place` brought in; its past is gone at once."""
        actor = self._require_actor(entity)
        if actor.connection:
            raise UnknownNameError("placed entity", entity, (e for e, a in self._actors.items() if not a.connection))
        self._leave(entity, server_time)

    def _enter(self, connection: str, account: str, team: str, rig: str, weapon: str, server_time: float | None) -> int:
        entity = self._next_entity
        self.history.add(entity, rig)
        self._next_entity += 1
        self._actors[entity] = Participant(entity, connection, account, team, rig, weapon)
        self.ledger.open(entity, self.rules.rigs[rig].health)
        self.ledger.spawn(entity, self._time(server_time))
        return entity

    def _leave(self, entity: int, server_time: float | None) -> None:
        self.history.remove(entity)
        self.ledger.close(entity, self._time(server_time))
        del self._actors[entity]

    def dismiss(self, connection: str, server_time: float | None = None) -> None:
        """A connection left: its entity and its past are gone at once."""
        self._leave(self._require_line(connection).entity, server_time)
        del self._lines[connection]

    def spawn(self, entity: int, server_time: float | None = None) -> None:
        """Begin a new life of an entity, with full health; nothing is interpolated from the old one."""
        actor = self._require_actor(entity)
        self.history.cut(entity)
        actor.life_epoch = self.history.epoch_of(entity)
        self.ledger.spawn(entity, self._time(server_time))

    def wield(self, entity: int, weapon: str) -> None:
        """The entity holds another weapon from now on."""
        self._require_actor(entity).wielded = self._require_weapon(weapon)

    def _time(self, server_time: float | None) -> float:
        return max(self.history.newest_time, 0.0) if server_time is None else server_time

    def _require_line(self, connection: str) -> Line:
        line = self._lines.get(connection)
        if line is None:
            raise UnknownNameError("connection", connection, self._lines)
        return line

    def _require_actor(self, entity: int) -> Participant:
        actor = self._actors.get(entity)
        if actor is None:
            raise UnknownNameError("entity", entity, self._actors)
        return actor

    def _require_weapon(self, weapon: str) -> str:
        if weapon not in self._weapons:
            raise UnknownNameError("weapon", weapon, self._weapons)
        return weapon

    # -- what happens -----------------------------------------------------------------------------------------

    def record(
        self,
        tick: int,
        server_time: float,
        entities: Sequence[int] | NDArray[np.int64],
        bones: NDArray[np.floating] | Sequence[NDArray[np.floating]],
    ) -> None:
        """Store the poses of one tick (see `PoseHistory.record`). The dead are left out: nobody hits a corpse."""
        if self.ledger.dead:
            entities, bones = self._without_the_dead(entities, bones)
        self.history.record(tick, server_time, entities, bones)

    def _without_the_dead(
        self, entities: Sequence[int] | NDArray[np.int64], bones: NDArray[np.floating] | Sequence[NDArray[np.floating]]
    ) -> tuple[list[int], NDArray[np.floating] | list[NDArray[np.floating]]]:
        ids = [int(entity) for entity in entities]
        if len(bones) != len(ids):
            raise BadArrayError("bones", f"{len(ids)} poses, one an entity", f"{len(bones)} poses")
        for entity in ids:
            self.history.require(entity)
        kept = [row for row, entity in enumerate(ids) if entity not in self.ledger.dead]
        poses = bones[kept] if isinstance(bones, np.ndarray) else [bones[row] for row in kept]
        return [ids[row] for row in kept], poses

    def published(self, tick: int, sent_at: float | None = None) -> None:
        """This tick's snapshot was sent to the clients (at `sent_at`, by default its own server time)."""
        self.history.publish(tick, sent_at)

    def ping(self, connection: str, sent_at: float) -> int:
        """Open a ping exchange; returns the nonce to send to the client."""
        return self._require_line(connection).clock.ping(sent_at)

    def pong(self, connection: str, nonce: object, client_time: object, received_at: float) -> str:
        """Take the client's answer to a ping. Never raises for what the client sent; returns what became of it."""
        return self._require_line(connection).clock.pong(nonce, client_time, received_at)

    def clock(self, connection: str) -> ClockEstimate:
        """What is known of a connection's clock and path."""
        return self._require_line(connection).clock

    def view_bounds(self, connection: str) -> ViewBounds:
        """How old that connection's views may be on arrival, as things stand."""
        line = self._require_line(connection)
        return ViewBounds(shortest_trip(line, self.rules), latest_age(line, self.rules), self.rules.view.max_rewind_s)

    def events(self) -> list[Event]:
        """What everyone is told, since the last call."""
        return self.ledger.take_events()

    # -- ruling -----------------------------------------------------------------------------------------------

    def rule(self, connection: str, claim: ShotClaim | object, *, received_at: float) -> Ruling:
        """Decide one claim that `connection` sent and the server received at a server time.

        `claim` may be anything a client can send: what is not a claim gets a denied ruling. Raises only
        `BadNumberError` for a `received_at` that is no finite number.
        """
        if not math.isfinite(received_at):
            raise BadNumberError("received_at", "a finite number of seconds", received_at)
        self._rulings += 1
        line = self._lines.get(connection)
        if line is None:
            return self._refuse_stranger(connection, received_at)
        actor = self._actors[line.entity]
        context = Context(self.rules, self.history, self.level, self.ledger, self._weapons, line, actor, received_at)
        shot = claim if type(claim) is ShotClaim else _as_shot(claim)
        if shot is None or not is_count(shot.sequence) or shot.sequence < 1:
            given = excerpt(claim if shot is None else shot.sequence)
            context.findings.append(
                context.find("malformed", detail=f"{'claim' if shot is None else 'sequence'}: {given}")
            )
            context.steps.append(Step("form", given, verdict="deny"))
            return self._ruling(context, "denied")
        context.sequence = shot.sequence
        first = line.rulings.get(shot.sequence)
        if first is not None:
            context.findings.append(context.find("repeated_sequence"))
            context.steps.append(Step("sequence", shot.sequence, verdict="deny"))
            return self._ruling(context, "denied", first.weapon, first=first)
        ruling = self._rule_shot(shot, context)
        if not (ruling.findings and ruling.findings[0].code in NOT_COUNTED):
            line.remember(ruling)
        return ruling

    def _refuse_stranger(self, connection: str, received_at: float) -> Ruling:
        name = connection if type(connection) is str else excerpt(connection)
        finding = Finding("unknown_connection", name, "", 0, 0, received_at)
        step = Step("sender", name, "an admitted connection", verdict="deny")
        return Ruling(
            self._rulings,
            "shot",
            name,
            "",
            0,
            0,
            "",
            received_at,
            "denied",
            findings=(finding,),
            steps=(step,),
        )

    def _rule_shot(self, claim: ShotClaim, context: Context) -> Ruling:
        passed = self._run(SHOT_CHECKS, claim, context)
        known = type(claim.weapon) is str and claim.weapon in self._weapons
        weapon = claim.weapon if known else excerpt(claim.weapon)
        if not passed:
            return self._ruling(context, "denied", weapon)
        findings = context.findings
        if findings and context.eye and any(finding.code in ("muzzle_far", "muzzle_blocked") for finding in findings):
            context.origin = context.eye  # a start that is forgiven is still not believed
        reached, stopped_by = cast_shot(context)
        hits = strike(context, self._actors)
        self._run(CLAIM_CHECKS, claim, context)
        amended = findings and any(self._consequences[finding.code] == "amend" for finding in findings)
        return self._ruling(context, "amended" if amended else "upheld", weapon, hits, reached, stopped_by)

    def _run(self, checks: tuple[Check, ...], claim: ShotClaim, context: Context) -> bool:
        """Run the checks in order, until one denies; returns whether none did."""
        for check in checks:
            finding = check(claim, context)
            if finding is None:
                continue
            consequence: Consequence = self._consequences[finding.code]
            context.findings.append(finding)
            context.steps[-1] = msgspec.structs.replace(context.steps[-1], verdict=consequence)
            if consequence == "deny":
                return False
        return True

    def _ruling(
        self,
        context: Context,
        outcome: Outcome,
        weapon: str = "",
        hits: tuple[Hit, ...] = (),
        reached: float | None = None,
        stopped_by: str | None = None,
        first: Ruling | None = None,
    ) -> Ruling:
        return Ruling(
            self._rulings,
            "shot",
            context.line.name,
            context.actor.account,
            context.actor.entity,
            context.sequence,
            weapon,
            context.received_at,
            outcome,
            hits,
            context.damage,
            tuple(context.findings),
            context.view,
            context.view_time,
            None if context.view_time is None else context.received_at - context.view_time,
            context.origin,
            context.direction,
            reached,
            stopped_by,
            first,
            tuple(context.steps),
        )


def _as_shot(claim: object) -> ShotClaim | None:
    """A claim from plain data (a decoded message); None when it isn't one."""
    try:
        return msgspec.convert(claim, ShotClaim)
    except (msgspec.ValidationError, RecursionError, TypeError, ValueError, OverflowError):
        return None
