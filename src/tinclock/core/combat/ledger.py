"""The ledger: health, armour, effects and scores, and the only place where they change. Every change is an event."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.accounts import EFFECTS, NEVER, Account, Blow, Departed, HealthSince, Lasting, Wound
from tinclock.core.combat.bulletin import Bulletin
from tinclock.core.combat.events import (
    ArmourEvent,
    CounterEvent,
    DeathEvent,
    EffectEvent,
    HealthEvent,
    LeftEvent,
    MaxHealthEvent,
    SpawnEvent,
    TeamEvent,
)
from tinclock.core.combat.ledger_reading import LedgerReader
from tinclock.core.combat.scores import Scores
from tinclock.core.errors import AlreadyKnownError, only_by
from tinclock.core.kernels.damage import take_points_of
from tinclock.core.kernels.dtypes import BODY
from tinclock.core.packed import Row
from tinclock.core.rules.ruleset import DamageRules, ScoreRules
from tinclock.core.timeline.instants import CATCH_UP_S

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.rules.game import CounterRules
    from tinclock.core.rules.tables import EffectName
    from tinclock.core.rules.weapons import DamageOverTimeRules


class Ledger(LedgerReader):
    """Health, armour and score of everybody in the match, in points."""

    def __init__(
        self, full_health: float, damage: DamageRules | None = None, score: ScoreRules | None = None, *,
        enforces: bool = True, counters: Mapping[str, CounterRules] | None = None,
    ) -> None:  # fmt: skip
        self.full_health, self.enforces = full_health, enforces
        self.counter_rules = dict(counters or {})
        self.damage, self.points = damage or DamageRules(), score or ScoreRules()
        self.bulletin = Bulletin()
        self.scores = Scores(self.bulletin, self.points.leader)
        self._accounts: dict[int, Account] = {}
        self._lasting: list[Lasting] = []
        self.publishes_shots = False
        """True if shots are events."""
        self.phase = ""
        """Phase of the match, "" for none."""
        self.dead: set[int] = set()
        """Entities that died and have not begun another life."""

    # -- coming and going -------------------------------------------------------------------------------------

    def open(
        self,
        entity: int,
        full_health: float | None = None,
        *,
        name: str | None = None,
        team: str = "",
        kill_score: float | None = None,
        body: Row | None = None,
    ) -> None:
        """Start the books of a new entity, not yet alive. With a name (even an empty one) it has a row on the board.

        body : its row of numbers, where it has one already
        """
        if entity in self._accounts:
            raise AlreadyKnownError("entity", entity)
        account = self._accounts[entity] = Account(
            body or Row(len(BODY)), full_health or self.full_health, team,
            self.points.kill if kill_score is None else kill_score,
        )  # fmt: skip
        account.counters = {counter: rules.start for counter, rules in self.counter_rules.items()}
        if name is not None:
            self.scores.open(entity, name, team)

    def close(self, entity: int, server_time: float) -> Departed:
        """Close the books of one that left, and return them for `reopen`.

        Damage over time that it began on others continues, and credits nobody.
        """
        account = self._account(entity)
        effects = {what: effect for what, effect in self.effects(entity).items() if effect[0] > server_time}
        row = self.scores.rows.get(entity)
        lasting = [item for item in self._lasting if item.entity == entity]
        account.end_effects()
        if row is not None:
            row.totals = account.totals()
        del self._accounts[entity]
        self.dead.discard(entity)
        self._lasting = [item for item in self._lasting if item.entity != entity]
        self.bulletin.tell(LeftEvent(self.bulletin.next, server_time, entity))
        if not self.points.keep_disconnected:
            self.scores.close(entity, server_time)
        return Departed(account, row, lasting, effects, server_time)

    def reopen(self, entity: int, departed: Departed, name: str, team: str, server_time: float) -> None:
        """Continue the books of an entity that comes back: its health, effects, counters and row of the board."""
        account, row, lasting, effects, left_at = departed
        self._accounts[entity], account.team = account, team
        if account.dead:
            self.dead.add(entity)
        away = server_time - left_at
        self._lasting += [item._replace(at=item.at + away) for item in lasting]
        if account.regenerates_at < NEVER:
            account.regenerates_at += away
        account.past.clear()
        self._note(account, server_time)
        for what, (until, amount) in effects.items():
            if until > server_time:
                self.grant(entity, what, until, amount, server_time, "rejoin")
        if account.max_health is not None:
            self.bulletin.tell(MaxHealthEvent(self.bulletin.next, server_time, entity, account.max_health))
        account.changed.clear()
        for counter, value in account.counters.items():
            if value != self.counter_rules[counter].start:
                account.changed.add(counter)
                self.bulletin.tell(
                    CounterEvent(self.bulletin.next, server_time, entity, counter, value, "rejoin")
                )  # fmt: skip
        if row is not None:
            row.name, row.team = name, team
            self.scores.reopen(entity, row, server_time)

    def spawn(self, entity: int, server_time: float) -> int:
        """Begin a life with full health; returns its number."""
        account = self._account(entity)
        account.health, account.armour, account.alive = account.full, self.damage.armour, True
        account.life += 1
        account.end_effects()
        account.damaged.clear()
        account.past.clear()
        self._note(account, server_time)
        account.dead = False
        self.dead.discard(entity)
        self._lasting = [item for item in self._lasting if item.entity != entity]
        account.regenerates_at = NEVER
        self.bulletin.tell(SpawnEvent(self.bulletin.next, server_time, entity, account.life, account.health))
        if account.armour > 0.0:
            self._changed(ArmourEvent, entity, Blow("spawn"), server_time, 0.0, account.armour)
        if self.damage.spawn_shield_s > 0.0:
            self.grant(entity, "shield", server_time + self.damage.spawn_shield_s, 0.0, server_time, "spawn")
        return account.life

    def _changed(
        self, kind: type[HealthEvent | ArmourEvent], entity: int, blow: Blow, server_time: float,
        before: float, after: float,
    ) -> None:  # fmt: skip
        """Tell that health or armour changed, by what."""
        self.bulletin.tell(
            kind(
                self.bulletin.next, server_time, entity, blow.cause, blow.actor, blow.weapon, blow.part,
                abs(after - before), before, after,
            )
        )  # fmt: skip

    def _note(self, account: Account, server_time: float) -> None:
        account.past.append(HealthSince(server_time, account.health, account.armour))

    # -- damage and help ----------------------------------------------------------------------------------------

    def wound(self, entity: int, amount: float, server_time: float, blow: Blow) -> Wound:
        """Take `amount` points from an entity, armour first; nothing happens to one that is dead or shielded."""
        account = self._accounts.get(entity) or self._account(entity)
        wound = Wound(*take_points_of(account.body.at, float(amount), blow.covered, server_time))
        points = wound.before - wound.after + wound.armour_before - wound.armour_after
        account.numbers[BODY.taken] += points
        giver = self._accounts.get(blow.actor)
        if giver is not None and blow.actor != entity:
            giver.numbers[BODY.given] += points
        self.wounded(entity, wound, server_time, blow)
        return wound

    def wounded(self, entity: int, wound: Wound, server_time: float, blow: Blow) -> None:
        """Keep and tell what follows from points that a kernel took."""
        before, after, armour_before, armour_after = wound
        if after == before and armour_after == armour_before:
            return
        account = self._accounts[entity]
        if armour_after < armour_before:
            self._changed(ArmourEvent, entity, blow, server_time, armour_before, armour_after)
        self._credit(account, server_time, blow.actor, before - after + armour_before - armour_after)
        account.past.append(HealthSince(server_time, after, armour_after))
        again = self.damage.regeneration
        account.regenerates_at = NEVER if again is None or wound.lethal else server_time + again.delay_s
        if after < before:
            self._changed(HealthEvent, entity, blow, server_time, before, after)
        if wound.lethal:
            self.dead.add(entity)
            self.bulletin.tell(
                DeathEvent(
                    self.bulletin.next, server_time, entity, blow.cause, blow.actor, blow.weapon, blow.part,
                    blow.position, blow.direction, blow.force_n_s,
                )
            )  # fmt: skip
            self._settle(entity, account, blow.actor, server_time)

    def linger(self, entity: int, rules: DamageOverTimeRules, server_time: float, blow: Blow) -> None:
        """Begin damage that goes on, at fixed instants from now."""
        self._lasting.append(Lasting(server_time + rules.every_s, entity, blow, rules, rules.times))

    def advance(self, server_time: float) -> None:
        """Apply what was due up to a server time, in order of time, then of entity."""
        while True:
            due = min(self._lasting, key=lambda item: (item.at, item.entity), default=None)
            if self.damage.regeneration is not None and self._regenerate(server_time if due is None else due.at):
                continue
            if due is None or due.at > server_time:
                return
            self._lasting.remove(due)
            late, every = server_time - CATCH_UP_S - due.at, due.rules.every_s
            times = 1 if late < 0.0 else min(due.left, int(late / every) + 1)  # a leap of the clock: at once
            at = due.at + (times - 1) * every
            self.wound(due.entity, times * due.rules.damage, at, due.blow)
            if due.left > times and self.alive(due.entity):
                self._lasting.append(due._replace(at=at + every, left=due.left - times))

    def _regenerate(self, until: float) -> bool:
        """Give back the next points that are due by a server time; returns whether any were."""
        rules = self.damage.regeneration
        waiting = [
            (one.regenerates_at, entity) for entity, one in self._accounts.items() if one.regenerates_at <= until
        ]
        if not waiting or rules is None:
            return False
        at, entity = min(waiting)
        account = self._accounts[entity]
        late = until - CATCH_UP_S - at
        times = 1 if late < 0.0 else int(late / rules.every_s) + 1  # a leap of the clock: at once
        at += (times - 1) * rules.every_s
        self.repair(entity, times * rules.health, at, 0, "regeneration")
        missing = self.damage.armour - account.armour
        self.reinforce(entity, min(times * rules.armour, max(0.0, missing)), at, 0, "regeneration")
        is_full = rules.health == 0.0 or account.health >= account.full
        is_full = is_full and (rules.armour == 0.0 or account.armour >= self.damage.armour)
        account.regenerates_at = NEVER if is_full or not account.alive else at + rules.every_s
        return True

    def repair(self, entity: int, amount: float, server_time: float, actor: int, cause: str) -> float:
        """Give back health, up to what a life begins with; returns how much."""
        account = self._account(entity)
        before = account.health
        if not account.alive or before >= account.full or amount == 0.0:
            return 0.0
        account.health = min(account.full, before + amount)
        self._note(account, server_time)
        self._changed(HealthEvent, entity, Blow(cause, actor), server_time, before, account.health)
        return account.health - before

    def reinforce(self, entity: int, amount: float, server_time: float, actor: int, cause: str) -> float:
        """Give armour, up to `damage.max_armour`; returns how much."""
        account = self._account(entity)
        before = account.armour
        if not account.alive or before >= self.damage.max_armour or amount == 0.0:
            return 0.0
        account.armour = min(self.damage.max_armour, before + amount)
        self._note(account, server_time)
        self._changed(ArmourEvent, entity, Blow(cause, actor), server_time, before, account.armour)
        return account.armour - before

    def set_points(
        self, entity: int, health: float | None, armour: float | None, server_time: float, cause: str
    ) -> None:
        """Set health and armour of a living entity, in points; health 0 kills it. Nothing happens to a dead one."""
        account, blow = self._account(entity), Blow(cause)
        if not account.alive:
            return
        before, armour_before = account.health, account.armour
        account.health = before if health is None else min(account.full, health)
        account.armour = armour_before if armour is None else armour
        if account.health == 0.0:
            account.health = before
            if account.armour != armour_before:
                self._changed(ArmourEvent, entity, blow, server_time, armour_before, account.armour)
            if self.shielded(entity, server_time):
                self.grant(entity, "shield", server_time, 0.0, server_time, cause)
            self.wound(entity, before, server_time, blow)
            return
        self._note(account, server_time)
        if account.armour != armour_before:
            self._changed(ArmourEvent, entity, blow, server_time, armour_before, account.armour)
        if account.health != before:
            self._changed(HealthEvent, entity, blow, server_time, before, account.health)

    def set_max_health(self, entity: int, points: float, server_time: float) -> None:
        """Set the health at the start of a life, in points; a living entity keeps no more than that."""
        account = self._account(entity)
        account.full = account.max_health = points
        self.bulletin.tell(MaxHealthEvent(self.bulletin.next, server_time, entity, points))
        if account.health > points:
            self.set_points(entity, points, None, server_time, "max_health")

    def set_team(self, entity: int, team: str, server_time: float) -> None:
        """Let an entity, and its row of the board, be of another team; points that the old team has stay with it."""
        self._account(entity).team = team
        row = self.scores.rows.get(entity)
        if row is not None:
            row.team = team
        self.bulletin.tell(TeamEvent(self.bulletin.next, server_time, entity, team))

    def count(self, entity: int, counter: str, value: float, server_time: float, cause: str) -> None:
        """Set a counter of an entity, within its limits, and tell a change."""
        rules, counters = self.counter_rules[counter], self._account(entity).counters
        value = max(rules.min_value, value if rules.max_value is None else min(rules.max_value, value))
        if counters[counter] != value:
            counters[counter] = value
            self._accounts[entity].changed.add(counter)
            self.bulletin.tell(CounterEvent(self.bulletin.next, server_time, entity, counter, value, cause))

    def reset(self, entity: int, server_time: float) -> None:
        """Set the counters of an entity to their start, and begin a new life."""
        for counter, rules in self.counter_rules.items():
            self.count(entity, counter, rules.start, server_time, "round")
        self.spawn(entity, server_time)

    def grant(self, entity: int, what: EffectName, until: float, amount: float, server_time: float, cause: str) -> None:
        """Begin an effect, or change when it ends."""
        account = self._account(entity)
        if what == "speed":
            row = account.numbers
            row[BODY.speed_before] = row[BODY.speed_factor] if row[BODY.speed_until] > server_time else 1.0
            row[BODY.speed_since] = server_time
        for place, value in zip(EFFECTS[what], (until, amount), strict=True):
            account.numbers[place] = value
        self.bulletin.tell(EffectEvent(self.bulletin.next, server_time, entity, what, until, amount, cause))

    def drop_shield(self, entity: int, server_time: float) -> None:
        """End invulnerability: its owner fired."""
        if self.shielded(entity, server_time):
            self.grant(entity, "shield", server_time, 0.0, server_time, "fired")

    # -- who gets the credit ----------------------------------------------------------------------------------

    def _credit(self, account: Account, server_time: float, actor: int, amount: float) -> None:
        """Keep who did how much, for as long as it can still count for a kill or an assist."""
        damaged, since = account.damaged, server_time - max(self.points.assist_window_s, self.points.credit_window_s)
        while damaged and damaged[0][0] < since:
            damaged.popleft()
        damaged.append((server_time, actor, amount))

    def _settle(self, victim: int, account: Account, actor: int, now: float) -> None:
        """Score a death: the killer, those who helped, and the victim."""
        points, add = self.points, self.scores.add
        add(victim, "deaths", 1, now, "death")
        add(victim, "score", points.death, now, "death")
        streak = self.scores.rows[victim].streak if victim in self.scores.rows else 0
        add(victim, "streak", -streak, now, "death")
        killer = actor
        if actor in (0, victim):
            others = [
                who for at, who, _ in account.damaged if who not in (0, victim) and now - at <= points.credit_window_s
            ]
            others = [who for who in others if not self.friends(who, victim)]
            killer = others[-1] if others else 0
        if killer == 0:
            add(victim, "score", points.self_kill, now, "self")
        elif self.friends(killer, victim):
            add(killer, "score", points.own_team_kill, now, "own team")
        else:
            add(killer, "kills", 1, now, "kill")
            add(killer, "streak", 1, now, "kill")
            add(killer, "score", account.kill_score, now, "kill")
        helped: dict[int, float] = {}
        for at, who, amount in account.damaged:
            if who not in (0, victim, killer) and now - at <= points.assist_window_s and not self.friends(who, victim):
                helped[who] = helped.get(who, 0.0) + amount
        for who in sorted(helped):
            if helped[who] >= points.min_assist_damage:
                add(who, "assists", 1, now, "assist")
                add(who, "score", points.assist, now, "assist")

    def view(self) -> LedgerView:
        """The same ledger, always as it is now, for reading alone."""
        view = LedgerView.__new__(LedgerView)
        view.__dict__ = self.__dict__  # one state for all readers
        return view


class LedgerView(Ledger):
    """A ledger that may only be read: what a referee shows of its own. Commands and claims change it."""

    open = only_by("ledger.open", "admit or place")
    close = only_by("ledger.close", "dismiss or remove")
    spawn = only_by("ledger.spawn", "spawn")
    wound = only_by("ledger.wound", "damage")
    wounded = only_by("ledger.wounded", "damage")
    linger = only_by("ledger.linger", "damage")
    advance = only_by("ledger.advance", "advance")
    repair = only_by("ledger.repair", "heal")
    reinforce = only_by("ledger.reinforce", "heal")
    grant = only_by("ledger.grant", "set_effect")
    reopen = only_by("ledger.reopen", "admit")
    set_points = only_by("ledger.set_points", "set_health")
    set_max_health = only_by("ledger.set_max_health", "set_health")
    set_team = only_by("ledger.set_team", "set_team")
    count = only_by("ledger.count", "set_counter")
    reset = only_by("ledger.reset", "reset_round")
    drop_shield = only_by("ledger.drop_shield", "act")
