"""Pipeline from claims through their procedures to rulings. `Referee` is its public face."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from tinclock.core.combat.connections import Connection
from tinclock.core.combat.flights import Flights
from tinclock.core.combat.ledger import Ledger
from tinclock.core.combat.receipts import Outcome, Receipt
from tinclock.core.combat.roster import HeldTrigger, Participant, Roster
from tinclock.core.combat.weapons import Weapon
from tinclock.core.errors import BadNumberError, RulesError
from tinclock.core.findings import Finding
from tinclock.core.kernels.dtypes import FOUND, RULES
from tinclock.core.plain import Fields
from tinclock.core.rules.actions import actions_of
from tinclock.core.rules.contradictions import contradictions
from tinclock.core.rules.game import PhaseRules
from tinclock.core.rules.numbers import RuleNumbers, limits_of
from tinclock.core.ruling.beside import follow_its_client
from tinclock.core.ruling.changing import change_rules, require_changeable
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.checking import Begun, Checking
from tinclock.core.ruling.checks.form import is_count, misfit
from tinclock.core.ruling.checks.sender import actor_named
from tinclock.core.ruling.claims import (
    UNREADABLE,
    Claim,
    ImpactClaim,
    ShotClaim,
    TriggerClaim,
    as_claim,
    exact,
    read_claim,
)
from tinclock.core.ruling.flying import end_flight, fly_all
from tinclock.core.ruling.many import Together
from tinclock.core.ruling.outcome import named, ruling_on
from tinclock.core.ruling.procedures import (
    FIRED,
    FIRED_LAUNCH,
    HOUSE,
    NOT_COUNTED,
    PROCEDURES,
    WITH_GAME_CHECK,
    Procedure,
    procedure_of,
)
from tinclock.core.ruling.quick import PACKS, Quick
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.relative import in_world
from tinclock.core.ruling.short_way import Numbering, ShortWay
from tinclock.core.ruling.trigger import next_shot_at
from tinclock.core.ruling.work import DamageWork, Work, World
from tinclock.core.text import excerpt
from tinclock.core.timeline.cover import Cover
from tinclock.core.timeline.instants import CATCH_UP_S
from tinclock.core.timeline.views import Interpolation, View

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.timeline.history import PoseHistory


_STATE: Final = (
    "history", "ledger", "roster", "flights", "numbers", "limits", "_next_rules", "_house", "_fired", "_numbering"
)  # fmt: skip
"""State of a match, besides its rules and its level; everything else is put together from these."""


class ClaimPipeline:
    """Everything of one match that claims are held against, and the way they take.

    history : makes an empty one for these rules, see `histories`
    """

    def __init__(self, rules: Rules, level: Level | None, seed: int, history: Callable[[], PoseHistory]) -> None:
        problems = contradictions(rules)
        if problems:
            raise RulesError("rules", problems)
        enforced = rules.match.mode == "live"
        weapons = {name: Weapon(name, table, enforced=enforced) for name, table in rules.weapons.items()}
        self.history = history()
        self.ledger = Ledger(
            rules.match.health, rules.damage, rules.score, enforces=enforced, counters=rules.counters
        )  # fmt: skip
        self.ledger.phase = rules.match.phase or ""
        self.roster = Roster(rules, weapons, seed)
        self.flights = Flights(self.history, level)
        self.numbers = RuleNumbers(rules)
        self.limits = {of: RuleNumbers(limits) for of, limits in limits_of(rules).items()}
        zones = self.history.columns.zones
        for weapon in weapons.values():
            weapon.aim_at(zones)
        self.numbers.cover([rules.rigs[rig] for rig in self.history.columns.rigs], zones)
        self._next_rules: Rules | None = None
        self._house: dict[int, Connection] = {}
        self._fired: list[Ruling] = []
        self._numbering = Numbering()
        self._work_with(rules, level)

    def _work_with(self, rules: Rules, level: Level | None) -> None:
        """Put together what claims are worked on with, from the match's state."""
        actions = actions_of(rules)
        self._world = World(
            rules, actions, self.history, level, self.ledger, self.roster, self.flights,
            Cover(self.history, level), self.numbers,
        )  # fmt: skip
        self._checking = Checking(self.history, level, self.roster, self.numbers, actions, self.limits)
        self.keep_phase()
        for actor in self.roster.actors.values():
            self._checking.enter(actor)
        self.short_way = ShortWay(self._world, self._checking, self._numbering)
        self._together: Together | None = None

    def __getstate__(self) -> Fields:
        """For a checkpoint: the match's state, and no more."""
        for ruling in self._fired:  # fields that nobody has read yet are made of rows that no checkpoint holds
            _ = ruling.checks
        state = {name: getattr(self, name) for name in _STATE}
        return {**state, "rules": self._world.rules, "level": self._world.level}

    def __setstate__(self, state: Fields) -> None:
        rules, level = state.pop("rules"), state.pop("level")
        self.__dict__.update(state)
        self._work_with(rules, level)

    def change_rules(self, rules: Rules) -> None:
        """See `Referee.change_rules`: they are checked now, and hold from the next tick on."""
        require_changeable(self._world, rules)
        self._next_rules = rules

    def begin_tick(self, now: float) -> Rules:
        """A tick is recorded: the rules that hold from now on."""
        if self._next_rules is not None:
            self._world = self.short_way.world = change_rules(self._world, self._checking, self._next_rules, now)
            for of, limits in limits_of(self._next_rules).items():
                self.limits[of].take(limits)
            self._next_rules = None
            self.keep_phase()
        return self._world.rules

    @property
    def checking(self) -> Checking:
        """Checks of this match."""
        return self._checking

    @property
    def world(self) -> World:
        """State of the match that all claims are checked against."""
        return self._world

    def keep_phase(self) -> None:
        """Tell kernels and the board what the present phase allows."""
        phase = self._world.rules.phases.get(self.ledger.phase, PhaseRules())
        row = self.numbers.numbers
        row[RULES.weapons_closed], row[RULES.moves_closed] = not phase.weapons, not phase.moves
        self.ledger.publishes_shots = self._world.rules.match.publish_shots
        row[RULES.damage_closed], self.ledger.scores.count = not phase.damage, phase.scores

    def clear_the_air(self, entity: int, now: float) -> None:
        """Remove a leaving entity's projectiles, or let them fly on and credit nobody, by their rules."""
        for one in self.flights.of(entity):
            if one.rules.when_owner_leaves == "remove":
                end_flight(self._world, one, now, "owner left")

    def enter(self, actor: Participant) -> None:
        """An entity came in, and has its place in the history."""
        self._checking.enter(actor)

    def limit(self, actor: Participant) -> None:
        """An entity moves by the limits of its rig and stance."""
        self._checking.limit(actor)

    def forget(self, entity: int) -> None:
        """An entity left."""
        self.roster.actors.pop(entity, None)
        self._house.pop(entity, None)

    # -- claims of clients ------------------------------------------------------------------------------------

    def rule(self, sender: str, claim: object, received_at: float) -> Ruling:
        """See `Referee.rule`; sender : the connection's name."""
        connection = self.roster.connections.get(sender) if type(sender) is str else None
        if type(claim) not in PROCEDURES:
            claim = as_claim(claim)
        packs = PACKS.get(type(claim))
        if not self.ledger.enforces:
            return self._rule_beside(sender, connection, claim, received_at)
        if packs is not None and connection is not None:
            quick = connection.quick
            if quick is None or not quick.fits():
                quick = self._checking.quick_of(connection)
            if (
                quick is not None
                and packs(claim, quick, received_at, self._checking.plain_row)
                and connection.is_new(claim.sequence)  # type: ignore[attr-defined]
            ):
                ruled = self.short_way.rule(quick, claim, received_at)
                return self._go_on(quick, claim, received_at, ruled) if isinstance(ruled, Begun) else ruled
        return self._rule_slowly(sender, connection, claim, received_at)

    def rule_many(self, claims: Iterable[tuple[str, object, float]], done: Callable[[Ruling], None]) -> None:
        """See `Referee.rule_many`."""
        if self.ledger.enforces:
            if self._together is None:
                self._together = Together(self._checking, self.short_way, self.rule, self._go_on)
            self._together.rule(claims, self.roster.connections, done)
            return
        for sender, claim, received_at in claims:
            done(self.rule(sender, claim, received_at))

    @property
    def world_at(self) -> int:
        """The address of what all claims are held against."""
        return self._checking.world_at

    def quick_of(self, connection: Connection) -> Quick | None:
        """Return the rows that a connection's claims are checked against in the short way."""
        return self._checking.quick_of(connection)

    def go_on(self, quick: Quick, claim: Any, now: float, call_at: int, found: Any) -> Ruling:
        """Rule on a claim that has begun in a row of its own, and turned out not to be of the usual kind."""
        begun = self.short_way.begun(quick, claim, int(found[FOUND.place]), call_at, found)
        return self._go_on(quick, claim, now, begun)

    def _rule_beside(self, sender: str, connection: Connection | None, claim: object, received_at: float) -> Ruling:
        """Rule where nothing is enforced."""
        ruling = self._rule_slowly(sender, connection, claim, received_at)
        actor = self.roster.actors.get(ruling.entity)
        if ruling.kind == "move" and actor is not None:
            follow_its_client(ruling, claim, actor)
        return ruling

    def _rule_slowly(self, sender: str, connection: Connection | None, claim: object, received_at: float) -> Ruling:
        if connection is None:
            return self._refuse(sender, "", "unknown_connection", "an admitted connection", received_at)
        actor = self.roster.actors.get(connection.entity)
        if actor is None:
            return self._refuse(sender, connection.account, "spectator", "a player", received_at)
        procedure = procedure_of(self.roster, claim, actor)
        if procedure is not None:
            claim = exact(claim)
        work: Any = (Work if procedure is None else procedure.work)(self._world, connection, actor, received_at)
        sequence = getattr(claim, "sequence", None)
        if procedure is None or not is_count(sequence) or sequence < 1:  # type: ignore[operator]
            return self._refuse_malformed(work, claim, procedure)
        work.sequence = sequence
        first = connection.receipt_of(work.sequence)
        if first is not None:
            return self._repeated(work, procedure.kind, first)
        if type(claim) is TriggerClaim:
            named = self.roster.actors.get(claim.actor) if is_count(claim.actor) else None
            if named is not None and named.connection == sender:
                self._fire_until(received_at, named)  # what was due before this claim
        elif type(claim) is ImpactClaim and self.flights.belongs(claim.projectile, actor):
            self._fly_until(received_at)
        known: Any = claim
        is_well_formed = not misfit(known, needs_view=True)
        if is_well_formed and getattr(known, "relative_to", None) is not None:
            about, _ = actor_named(known.actor, actor, connection, self.roster, received_at)
            known = in_world(self._world, known, about, received_at)
            if known is None:
                return self._refuse_place(work, claim, procedure)
        if sequence in connection.game_findings:
            procedure = WITH_GAME_CHECK[id(procedure)]
        begun = self._checking.begin(procedure, known, connection, actor, received_at, is_well_formed=is_well_formed)
        return self._remembered(connection, self._follow(procedure, known, work, begun))

    def _go_on(self, quick: Quick, claim: Any, now: float, begun: Begun) -> Ruling:
        """Put a claim that was begun in the short way through the rest of the long one."""
        procedure = PROCEDURES[type(claim)]
        work = procedure.work(self._world, quick.connection, quick.actor, now)
        work.sequence = claim.sequence
        return self._remembered(quick.connection, self._follow(procedure, claim, work, begun))

    def _remembered(self, connection: Connection, ruling: Ruling) -> Ruling:
        """A ruling whose receipt is kept for repeats, where its number counts."""
        if not (ruling.findings and ruling.findings[0].code in NOT_COUNTED):
            connection.remember(ruling.receipt())
        return ruling

    def _repeated(self, work: Work, kind: str, first: Receipt) -> Ruling:
        work.findings.append(work.find("repeated_sequence"))
        work.steps.append(Measure.SEQUENCE.step(work.sequence, verdict="reject"))
        return self._ruling(work, kind, "rejected", "", first)

    def _refuse(self, sender: object, account: str, code: str, expected: str, received_at: float) -> Ruling:
        name = sender if type(sender) is str else excerpt(sender)
        finding = Finding(code, name, account, 0, 0, received_at)
        step = Measure.SENDER.step(name, expected, verdict="reject")
        return Ruling(
            self._numbering.next(),
            "unread",
            name,
            account,
            0,
            0,
            "",
            received_at,
            "rejected",
            findings=(finding,),
            checks=(step,),
        )

    def _refuse_malformed(self, work: Work, claim: object, procedure: Procedure | None) -> Ruling:
        what, given = ("claim", claim) if procedure is None else ("sequence", getattr(claim, "sequence", None))
        work.findings.append(work.find("malformed", detail=f"{what}: {excerpt(given)}"))
        work.steps.append(Measure.FIELDS.step(f"{what} {excerpt(given)}", "well formed", verdict="reject"))
        return self._ruling(work, "unread" if procedure is None else procedure.kind, "rejected")

    def _refuse_place(self, work: Work, claim: Any, procedure: Procedure) -> Ruling:
        work.findings.append(work.find("not_its_vehicle", detail=f"relative to entity {claim.relative_to}"))
        work.steps.append(Measure.FIELDS.step(f"relative to {claim.relative_to}", "its vehicle", verdict="reject"))
        return self._ruling(work, procedure.kind, "rejected")

    # -- what the server does itself --------------------------------------------------------------------------

    def act(self, actor: Participant, claim: object, server_time: float) -> Ruling:
        """See `Referee.act`."""
        try:
            if isinstance(claim, dict):
                claim = read_claim(Claim, {"sequence": 1, "actor": actor.entity, **claim})
            elif type(claim) in HOUSE:
                claim = exact(claim)
        except UNREADABLE as error:
            raise BadNumberError("claim", f"the fields of its kind ({error})", claim) from None
        procedure = HOUSE.get(type(claim))
        if procedure is None:
            raise BadNumberError("claim", "one of the claims, or a dictionary with its kind and fields", claim)
        connection = self._connection_of(actor)
        connection.highest_sequence += 1
        if isinstance(claim, TriggerClaim):
            self._fire_until(server_time, actor)
        elif isinstance(claim, ImpactClaim) and self.flights.belongs(claim.projectile, actor):
            self._fly_until(server_time)
        said: Any = claim
        if getattr(said, "relative_to", None) is not None:
            raise BadNumberError("claim", "places in the world's frame", claim)
        work = procedure.work(self._world, connection, actor, server_time)
        work.sequence = connection.highest_sequence
        is_well_formed = not misfit(said, needs_view=bool(connection.name))
        begun = self._checking.begin(procedure, claim, connection, actor, server_time, is_well_formed=is_well_formed)
        ruling = self._follow(procedure, claim, work, begun)
        for finding in ruling.findings:
            if finding.code in ("malformed", "direction_not_unit"):
                raise BadNumberError("claim", "well-formed fields and a unit direction", finding.detail or claim)
        return ruling

    def _connection_of(self, actor: Participant) -> Connection:
        """The connection that acts for an entity; the server's own has no name."""
        if actor.connection:
            return self.roster.connections[actor.connection]
        connection = self._house.get(actor.entity)
        if connection is None:
            connection = self._house[actor.entity] = Connection("", "", actor.entity, Interpolation(), b"")
        return connection

    def advance(self, now: float) -> list[Ruling]:
        """See `Referee.advance`."""
        self._fire_until(now)
        self._fly_until(now)
        self.ledger.advance(now)
        fired, self._fired = self._fired, []
        return fired

    def _fly_until(self, now: float) -> None:
        """Fly what is in the air, and keep the rulings of what it did."""
        for work in fly_all(self._world, now):
            self._rule_flight(work)

    def _rule_flight(self, work: DamageWork) -> None:
        self._fired.append(self._ruling(work, "projectile", "adjusted" if work.findings else "accepted", work.used))

    def _fire_until(self, now: float, only: Participant | None = None) -> None:
        """Fire held triggers at their instants up to now, in order of time and then of entity."""
        if not self.roster.triggers:
            return
        actors = [only] if only is not None else self._holding()
        while True:
            for actor in actors:
                if actor.entity in self.ledger.dead:
                    actor.held_trigger = None  # the dead let go
            due = [
                (next_shot_at(actor, now), actor.entity, actor) for actor in actors if actor.held_trigger is not None
            ]
            first = min(due, key=lambda item: item[:2], default=None)
            if first is None or first[0] > now or first[2].held_trigger is None:
                return
            if first[0] < now - CATCH_UP_S:
                self._fired.append(self._lapse(first[2], first[2].held_trigger, now - first[0], now))
                continue
            self._fly_until(first[0])
            self.ledger.advance(first[0])
            self._fired.append(self._fire(first[2], first[2].held_trigger, first[0]))

    def _holding(self) -> list[Participant]:
        """Return the entities whose trigger is held."""
        roster = self.roster
        found = [actor for actor in map(roster.actors.get, sorted(roster.triggers)) if actor is not None]
        holding = [actor for actor in found if actor.held_trigger is not None]
        roster.triggers = {actor.entity for actor in holding}
        return holding

    def _fire(self, actor: Participant, held_trigger: HeldTrigger, at: float) -> Ruling:
        """One shot of a held trigger. What can't be fired any more lets go of the trigger."""
        connection, history, held = self._connection_of(actor), self.history, actor.weapons[actor.wielded]
        procedure = FIRED_LAUNCH if held.weapon.rules.kind == "projectile" else FIRED
        work: Any = procedure.work(self._world, connection, actor, at)
        work.sequence, work.direction = held_trigger.sequence, held_trigger.aim
        work.held, work.weapon = held, held.weapon
        work.view = view = self._view_for(at, held_trigger.lag_s if connection.name else None)
        work.view_time = history.time_of(view)
        work.slots = (history.slot_of(view.from_tick), history.slot_of(view.to_tick))
        work.origin = history.eye_now(actor.entity) or (0.0, 0.0, 0.0)
        claim = ShotClaim(held_trigger.sequence, actor.entity, actor.wielded, work.origin, held_trigger.aim, view)
        begun = self._checking.begin(procedure, claim, connection, actor, at, is_well_formed=True)
        ruling = self._follow(procedure, claim, work, begun)
        if ruling.outcome == "rejected":
            actor.held_trigger = None
        elif held_trigger.left is not None:
            held_trigger.left -= 1
        return ruling

    def _lapse(self, actor: Participant, held_trigger: HeldTrigger, behind: float, now: float) -> Ruling:
        """Let go of a trigger whose shots were due before a leap of the server's clock."""
        actor.held_trigger = None
        work = Work(self._world, self._connection_of(actor), actor, now)
        work.sequence = held_trigger.sequence
        work.steps.append(Measure.BEHIND_THE_SERVERS_CLOCK_BY.step(behind, CATCH_UP_S, verdict="reject"))
        return self._ruling(work, "trigger", "rejected", actor.wielded)

    def _view_for(self, at: float, lag_s: float | None) -> View:
        """Return the view of a shooter's screen at a time: its lag ago, or (None) the newest tick."""
        history = self.history
        if lag_s is None or not history.snapshots:
            return View(history.newest_tick, history.newest_tick, 0.0)
        return history.view_at(max(at - lag_s, history.first_snapshot_time))

    # -- the way of a claim -----------------------------------------------------------------------------------

    def _follow(self, procedure: Procedure, claim: object, work: Work, begun: Begun) -> Ruling:
        """Put a claim that was begun through the rest of its procedure."""
        name = getattr(claim, "weapon", None)
        if not self._checking.passes(procedure, claim, work, begun):
            return self._ruling(work, procedure.kind, "rejected", named(name, work))
        procedure.commit(claim, work)
        return self._ruling(
            work, procedure.kind, self._checking.compare(procedure.compares, claim, work), named(name, work)
        )

    def _ruling(
        self, work: Work, kind: str, outcome: Outcome, weapon: str = "", first: Receipt | None = None
    ) -> Ruling:
        return ruling_on(work, self._numbering.next(), kind, outcome, weapon, first)
