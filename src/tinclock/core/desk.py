"""The desk: where claims are put through their procedures and become rulings. `Referee` is its public face."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

import msgspec

from tinclock.core.acts.blow import Reach
from tinclock.core.acts.flight import end_flight, fly_all
from tinclock.core.acts.trigger import next_shot_at
from tinclock.core.checks.consequences import consequences_of
from tinclock.core.checks.context import Context, World, excerpt
from tinclock.core.checks.form import is_count, is_usual
from tinclock.core.checks.weapon import excerpt_name
from tinclock.core.claims import UNREADABLE, Claim, ImpactClaim, ShotClaim, TriggerClaim, exact, read_claim
from tinclock.core.combat.flights import Flights
from tinclock.core.combat.held import NEVER
from tinclock.core.combat.ledger import Ledger
from tinclock.core.combat.roster import Line, Participant, Roster, Squeeze
from tinclock.core.combat.weapons import Weapon
from tinclock.core.contradictions import contradictions
from tinclock.core.errors import BadNumberError, RulesError
from tinclock.core.geometry.rig import Rig
from tinclock.core.procedures import FIRED, FIRED_LAUNCH, HOUSE, NOT_COUNTED, PROCEDURES, Check, Procedure
from tinclock.core.records import Finding, Outcome, Receipt, Ruling, Step, Told
from tinclock.core.timeline.bodies import facing_at
from tinclock.core.timeline.cover import Cover
from tinclock.core.timeline.history import PoseHistory
from tinclock.core.timeline.instants import CATCH_UP_S
from tinclock.core.timeline.views import Drawing, View

if TYPE_CHECKING:
    from tinclock.core.claims import Triple
    from tinclock.core.geometry.level import Level
    from tinclock.core.rules import Rules
    from tinclock.core.timeline.bodies import Reached


class Desk:
    """Everything of one match that claims are held against, and the way they take."""

    def __init__(self, rules: Rules, level: Level | None, seed: int, storage: Literal["full", "half"]) -> None:
        problems = contradictions(rules)
        if problems:
            raise RulesError("rules", problems)
        weapons = {name: Weapon(name, table) for name, table in rules.weapons.items()}
        self.history = PoseHistory(
            {name: Rig(name, table) for name, table in rules.rigs.items()},
            tick_rate_hz=rules.match.tick_rate_hz,
            history_s=rules.match.history_s,
            zone_depth_m=rules.match.zone_depth_m,
            storage=storage,
        )
        self.ledger = Ledger(rules.match.health, rules.harm, rules.score)
        self.roster = Roster(rules, weapons, seed)
        self._consequences = consequences_of(rules)
        self.flights = Flights(self.history, level)
        self._world = World(
            rules, self._consequences, self.history, level, self.ledger, self.roster, self.flights,
            Cover(self.history, level),
        )  # fmt: skip
        self._house: dict[int, Line] = {}
        self._fired: list[Ruling] = []
        self._rulings = 0

    def clear_the_air(self, entity: int, now: float) -> None:
        """What an entity that leaves has in the air goes with it, or flies on and credits nobody, by its rules."""
        for one in self.flights.of(entity):
            if one.flight.when_owner_leaves == "remove":
                end_flight(self._world, one, now, "owner left")

    def forget(self, entity: int) -> None:
        """An entity left."""
        self.roster.actors.pop(entity, None)
        self._house.pop(entity, None)

    # -- claims of clients ------------------------------------------------------------------------------------

    def rule(self, connection: str, claim: object, received_at: float) -> Ruling:
        """See `Referee.rule`."""
        line = self.roster.lines.get(connection) if type(connection) is str else None
        if line is None:
            return self._refuse(connection, "", "unknown_connection", "an admitted connection", received_at)
        actor = self.roster.actors.get(line.entity)
        if actor is None:
            return self._refuse(connection, line.account, "spectator", "a player", received_at)
        context = Context(self._world, line, actor, received_at)
        procedure = PROCEDURES.get(type(claim))
        if procedure is None:
            claim = _as_claim(claim)
            procedure = PROCEDURES.get(type(claim))
        elif not (type(claim) is ShotClaim and is_usual(claim)):
            claim = exact(claim)
        sequence = getattr(claim, "sequence", None)
        if procedure is None or not is_count(sequence) or sequence < 1:  # type: ignore[operator]
            return self._refuse_malformed(context, claim, procedure)
        context.sequence = sequence  # type: ignore[assignment]
        first = line.receipt_of(context.sequence)
        if first is not None:
            context.findings.append(context.find("repeated_sequence"))
            context.steps.append(Step("sequence", context.sequence, verdict="deny"))
            return self._ruling(context, procedure.kind, "denied", "", first)
        if type(claim) is TriggerClaim:
            named = self.roster.actors.get(claim.actor) if is_count(claim.actor) else None
            if named is not None and named.connection == connection:
                self._fire_until(received_at, named)  # what was due before this claim
        elif type(claim) is ImpactClaim and self.flights.belongs(claim.projectile, actor):
            self._fly_until(received_at)
        ruling = self._follow(procedure, claim, context)
        if not (ruling.findings and ruling.findings[0].code in NOT_COUNTED):
            line.remember(ruling.receipt())
        return ruling

    def _refuse(self, connection: object, account: str, code: str, expected: str, received_at: float) -> Ruling:
        name = connection if type(connection) is str else excerpt(connection)
        finding = Finding(code, name, account, 0, 0, received_at)
        step = Step("sender", name, expected, verdict="deny")
        self._rulings += 1
        return Ruling(
            self._rulings, "unread", name, account, 0, 0, "", received_at, "denied", findings=(finding,), steps=(step,)
        )

    def _refuse_malformed(self, context: Context, claim: object, procedure: Procedure | None) -> Ruling:
        what, given = ("claim", claim) if procedure is None else ("sequence", getattr(claim, "sequence", None))
        context.findings.append(context.find("malformed", detail=f"{what}: {excerpt(given)}"))
        context.steps.append(Step("fields", f"{what} {excerpt(given)}", "well formed", verdict="deny"))
        return self._ruling(context, "unread" if procedure is None else procedure.kind, "denied")

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
        line = self._line_of(actor)
        line.highest_sequence += 1
        if isinstance(claim, TriggerClaim):
            self._fire_until(server_time, actor)
        elif isinstance(claim, ImpactClaim) and self.flights.belongs(claim.projectile, actor):
            self._fly_until(server_time)
        context = Context(self._world, line, actor, server_time)
        context.sequence = line.highest_sequence
        ruling = self._follow(procedure, claim, context)
        for finding in ruling.findings:
            if finding.code in ("malformed", "direction_not_unit"):
                raise BadNumberError("claim", "well-formed fields and a unit direction", finding.detail or claim)
        return ruling

    def _line_of(self, actor: Participant) -> Line:
        """The line of whoever acts for an entity; the server's own has no name."""
        if actor.connection:
            return self.roster.lines[actor.connection]
        line = self._house.get(actor.entity)
        if line is None:
            line = self._house[actor.entity] = Line("", "", actor.entity, Drawing(), b"")
        return line

    def advance(self, now: float) -> list[Ruling]:
        """See `Referee.advance`."""
        self._fire_until(now)
        self._fly_until(now)
        self.ledger.advance(now)
        fired, self._fired = self._fired, []
        return fired

    def _fly_until(self, now: float) -> None:
        """Fly what is in the air, and keep the rulings of what it did."""
        for context in fly_all(self._world, now):
            self._rule_flight(context)

    def _rule_flight(self, context: Context) -> None:
        name = "" if context.weapon is None else context.weapon.name
        self._fired.append(self._ruling(context, "flight", "upheld", name))

    def _fire_until(self, now: float, only: Participant | None = None) -> None:
        """Fire held triggers at their instants up to now, in order of time and then of entity."""
        actors = [only] if only is not None else [a for a in self.roster.actors.values() if a.squeeze is not None]
        while True:
            for actor in actors:
                if actor.entity in self.ledger.dead:
                    actor.squeeze = None  # the dead let go
            due = [(next_shot_at(actor, now), actor.entity, actor) for actor in actors if actor.squeeze is not None]
            first = min(due, key=lambda item: item[:2], default=None)
            if first is None or first[0] > now or first[2].squeeze is None:
                return
            if first[0] < now - CATCH_UP_S:
                self._fired.append(self._lapse(first[2], first[2].squeeze, now - first[0], now))
                continue
            self._fly_until(first[0])
            self.ledger.advance(first[0])
            self._fired.append(self._fire(first[2], first[2].squeeze, first[0]))

    def _fire(self, actor: Participant, squeeze: Squeeze, at: float) -> Ruling:
        """One shot of a held trigger. What can't be fired any more lets go of the trigger."""
        line = self._line_of(actor)
        context = Context(self._world, line, actor, at)
        context.sequence, context.direction = squeeze.sequence, squeeze.aim
        context.held = held = actor.weapons[actor.wielded]
        context.weapon = held.weapon
        context.view = view = self._view_for(at, squeeze.lag_s if line.name else None)
        context.view_time = self.history.time_of(view)
        context.slots = (self.history.slot_of(view.from_tick), self.history.slot_of(view.to_tick))
        context.origin = self.history.eye_now(actor.entity) or (0.0, 0.0, 0.0)
        claim = ShotClaim(squeeze.sequence, actor.entity, actor.wielded, context.origin, squeeze.aim, view)
        flies = held.weapon.rules.kind == "projectile"
        ruling = self._follow(FIRED_LAUNCH if flies else FIRED, claim, context)
        if ruling.outcome == "denied":
            actor.squeeze = None
        elif squeeze.left is not None:
            squeeze.left -= 1
        return ruling

    def _lapse(self, actor: Participant, squeeze: Squeeze, behind: float, now: float) -> Ruling:
        """Let go of a trigger whose shots were due before a leap of the server's clock."""
        actor.squeeze = None
        context = Context(self._world, self._line_of(actor), actor, now)
        context.sequence = squeeze.sequence
        context.steps.append(Step("behind the server's clock by", behind, CATCH_UP_S, "s", "deny"))
        return self._ruling(context, "trigger", "denied", actor.wielded)

    def _view_for(self, at: float, lag_s: float | None) -> View:
        """What a shooter's screen shows at an instant: so much ago, or (None) the newest tick."""
        history = self.history
        if lag_s is None or not history.snapshots:
            return View(history.newest_tick, history.newest_tick, 0.0)
        return history.view_at(max(at - lag_s, history.first_snapshot_time))

    def in_reach(self, actor: Participant, weapon: Weapon, direction: Triple | None) -> list[Reached]:
        """See `Referee.in_reach`."""
        history = self.history
        eye = history.eye_now(actor.entity)
        if weapon.rules.kind != "reach":
            raise BadNumberError("weapon", "a weapon of kind 'reach'", weapon.name)
        if eye is None or actor.entity in self.ledger.dead:
            return []
        slots = (history.newest_slot,) * 2
        aim = direction or facing_at(history, actor.entity, slots, 0.0) or (1.0, 0.0, 0.0)
        reach = Reach(history, self._world.cover, actor.entity, weapon.rules)
        return [
            one
            for one in reach.candidates(eye, aim, slots, 0.0)
            if not reach.obstacle(eye, one, slots, 0.0) and reach.turned_away(one, aim, slots, 0.0)
        ]

    # -- the way of a claim -----------------------------------------------------------------------------------

    def _follow(self, procedure: Procedure, claim: Any, context: Context) -> Ruling:
        """Put a claim through its procedure."""
        name = getattr(claim, "weapon", None)
        if not self._run(procedure.checks, claim, context):
            return self._ruling(context, procedure.kind, "denied", _named(name, context))
        for spend in procedure.spends:
            spend(claim, context)
        procedure.act(claim, context)
        if procedure.compares:
            self._run(procedure.compares, claim, context)
        findings, consequences = context.findings, self._consequences
        amended = findings and any(consequences[finding.code] == "amend" for finding in findings)
        return self._ruling(context, procedure.kind, "amended" if amended else "upheld", _named(name, context))

    def _run(self, checks: tuple[Check, ...], claim: Any, context: Context) -> bool:
        """Run the checks in order, until one denies; returns whether none did."""
        for check in checks:
            finding = check(claim, context)
            if finding is None:
                continue
            consequence = self._consequences[finding.code]
            context.findings.append(finding)
            context.steps[-1] = msgspec.structs.replace(context.steps[-1], verdict=consequence)
            if consequence == "deny":
                return False
        return True

    def _ruling(
        self, context: Context, kind: str, outcome: Outcome, weapon: str = "", first: Receipt | None = None
    ) -> Ruling:
        line, view_time, received_at = context.line, context.view_time, context.received_at
        self._rulings += 1
        return Ruling(
            self._rulings, kind, line.name, line.account, context.actor.entity, context.sequence, weapon, received_at,
            outcome, context.hits, context.damage, tuple(context.findings), context.view, view_time,
            None if view_time is None else received_at - view_time, context.origin, context.direction,
            context.reached_m, context.stopped_by, first, tuple(context.steps),
            None if kind == "flight" else self._told(context), context.shot,
            context.aim, context.rays, context.position,
        )  # fmt: skip

    def _told(self, context: Context) -> Told:
        actor, now, line = context.actor, context.received_at, context.line
        if actor.connection != line.name:  # it no longer acts for that one: what it may know is its own
            actor = self.roster.actors.get(line.entity, actor)
        held = actor.weapons.get(actor.wielded)
        counted = not (context.findings and context.findings[0].code in NOT_COUNTED)
        last = context.sequence if counted and context.sequence > line.highest_sequence else line.highest_sequence
        health, armour = self.ledger.standing(actor.entity)
        position = None if actor.stride is None else actor.stride.position
        if held is None:
            return Told(actor.entity, last, health, armour, position=position)
        wait, (magazine, reserve) = held.ready_at() - now, held.rounds_at(now)
        told = Told(
            actor.entity, last, health, armour, actor.wielded, magazine, reserve, held.shots,
            wait if 0.0 < wait < NEVER else 0.0, position=position,
        )  # fmt: skip
        if context.projectiles:
            return msgspec.structs.replace(told, projectiles=context.projectiles)
        stock = actor.items.get(context.item)
        if stock is None:
            return told
        ready_in = max(0.0, stock.ready_at - now)
        return msgspec.structs.replace(told, item=context.item, items_left=stock.count, item_ready_in_s=ready_in)


def _named(name: object, context: Context) -> str:
    """The weapon of a ruling: as the claim names it where that is known, else a short piece of it."""
    if context.weapon is not None and name == context.weapon.name:
        return context.weapon.name
    if name is None:
        return context.item
    return excerpt_name(name) if type(name) is str else excerpt(name)


def _as_claim(claim: object) -> Claim | object:
    """A claim from plain data (a decoded message); the data itself when it isn't one."""
    try:
        known: Claim = msgspec.convert(claim, Claim)
        return known
    except UNREADABLE:
        return claim
