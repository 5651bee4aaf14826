"""The ledger: health, armour, effects and scores, and the only place where they change. Every change is an event."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING, Final, NamedTuple

from msgspec import Struct

from tinclock.core.combat.bulletin import Bulletin
from tinclock.core.combat.events import ArmourEvent, DeathEvent, EffectEvent, HealthEvent, LeftEvent, SpawnEvent
from tinclock.core.combat.scores import Scores
from tinclock.core.errors import AlreadyKnownError, UnknownNameError, only_by
from tinclock.core.kernels.damage import take_points_of
from tinclock.core.kernels.dtypes import BODY
from tinclock.core.packed import Flag, Number, Row
from tinclock.core.rules.ruleset import HarmRules, ScoreRules
from tinclock.core.timeline.instants import CATCH_UP_S

if TYPE_CHECKING:
    from typing import Literal

    from tinclock.core.rules.weapons import LastingRules

REMEMBERED_CHANGES = 64


class Blow(Struct, frozen=True, gc=False):
    """Source of damage. `covered` is the fraction of the damage that armour may take."""

    cause: str
    actor: int = 0
    weapon: str = ""
    part: str = ""
    covered: float = 0.0


class Wound(NamedTuple):
    """Health and armour of a body before and after a hit, in points; equal where nothing was taken."""

    before: float
    after: float
    armour_before: float = 0.0
    armour_after: float = 0.0

    @property
    def lethal(self) -> bool:
        """True if the hit killed."""
        return self.after == 0.0 < self.before


class HealthSince(Struct, frozen=True, gc=False):
    """Health and armour from a time on."""

    since: float
    health: float
    armour: float


class _Lasting(NamedTuple):
    at: float
    entity: int
    blow: Blow
    rules: LastingRules
    left: int


class _Account:
    __slots__ = ("body", "full", "harmed", "life", "numbers", "past", "team", "worth")

    health = Number(BODY.health)
    armour = Number(BODY.armour)
    alive = Flag(BODY.alive)
    dead = Flag(BODY.dead)
    died_at = Number(BODY.died_at)

    def __init__(self, body: Row, full: float, team: str, worth: float) -> None:
        self.body, self.numbers = body, body.numbers
        self.full, self.team, self.worth = full, team, worth
        self.health = self.armour = 0.0
        self.alive, self.dead = False, False
        self.life, self.died_at = 0, float("-inf")
        self.end_effects()
        self.harmed: deque[tuple[float, int, float]] = deque()  # when, attacker, how much
        self.past: deque[HealthSince] = deque(maxlen=REMEMBERED_CHANGES)

    def end_effects(self) -> None:
        """Set all effects as if there had been none."""
        for until, amount in _EFFECTS.values():
            self.numbers[until], self.numbers[amount] = float("-inf"), 0.0


_EFFECTS: Final = {
    "shield": (BODY.shield_until, BODY.shield_amount),
    "boost": (BODY.boost_until, BODY.boost_factor),
}
"""By name: until when an effect lasts, and its amount."""


class Ledger:
    """Health, armour and score of everybody in the match, in points."""

    def __init__(
        self, full_health: float, harm: HarmRules | None = None, score: ScoreRules | None = None, *,
        enforces: bool = True,
    ) -> None:  # fmt: skip
        self.full_health, self.enforces = full_health, enforces
        self.harm, self.points = harm or HarmRules(), score or ScoreRules()
        self.bulletin = Bulletin()
        self.scores = Scores(self.bulletin)
        self._accounts: dict[int, _Account] = {}
        self._lasting: list[_Lasting] = []
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
        worth: float | None = None,
        body: Row | None = None,
    ) -> None:
        """Start the books of a new entity, not yet alive. With a name (even an empty one) it has a row on the board.

        body : its row of numbers, where it has one already
        """
        if entity in self._accounts:
            raise AlreadyKnownError("entity", entity)
        self._accounts[entity] = _Account(
            body or Row(len(BODY)), full_health or self.full_health, team,
            self.points.kill if worth is None else worth,
        )  # fmt: skip
        if name is not None:
            self.scores.open(entity, name, team)

    def close(self, entity: int, server_time: float) -> None:
        """Close the books of one that left; what it set going on others goes on, and credits nobody."""
        self._account(entity).end_effects()
        del self._accounts[entity]
        self.dead.discard(entity)
        self._lasting = [item for item in self._lasting if item.entity != entity]
        self.bulletin.tell(LeftEvent(self.bulletin.next, server_time, entity))
        if not self.points.keep_leavers:
            self.scores.close(entity, server_time)

    def _account(self, entity: int) -> _Account:
        account = self._accounts.get(entity)
        if account is None:
            raise UnknownNameError("entity", entity, sorted(self._accounts))
        return account

    def spawn(self, entity: int, server_time: float) -> int:
        """Begin a life with full health; returns its number."""
        account = self._account(entity)
        account.health, account.armour, account.alive = account.full, self.harm.armour, True
        account.life += 1
        account.end_effects()
        account.harmed.clear()
        account.past.clear()
        self._note(account, server_time)
        account.dead = False
        self.dead.discard(entity)
        self._lasting = [item for item in self._lasting if item.entity != entity]
        self.bulletin.tell(SpawnEvent(self.bulletin.next, server_time, entity, account.life, account.health))
        if account.armour > 0.0:
            self._changed(ArmourEvent, entity, Blow("spawn"), server_time, 0.0, account.armour)
        if self.harm.spawn_shield_s > 0.0:
            self.grant(entity, "shield", server_time + self.harm.spawn_shield_s, 0.0, server_time, "spawn")
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

    def _note(self, account: _Account, server_time: float) -> None:
        account.past.append(HealthSince(server_time, account.health, account.armour))

    # -- harm and help ----------------------------------------------------------------------------------------

    def wound(self, entity: int, amount: float, server_time: float, blow: Blow) -> Wound:
        """Take `amount` points from an entity, armour first; nothing happens to one that is dead or shielded."""
        account = self._accounts.get(entity) or self._account(entity)
        wound = Wound(*take_points_of(account.body.at, float(amount), blow.covered, server_time))
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
        if after < before:
            self._changed(HealthEvent, entity, blow, server_time, before, after)
        if wound.lethal:
            self.dead.add(entity)
            self.bulletin.tell(
                DeathEvent(self.bulletin.next, server_time, entity, blow.cause, blow.actor, blow.weapon, blow.part)
            )
            self._settle(entity, account, blow.actor, server_time)

    def linger(self, entity: int, rules: LastingRules, server_time: float, blow: Blow) -> None:
        """Begin damage that goes on, at fixed instants from now."""
        self._lasting.append(_Lasting(server_time + rules.every_s, entity, blow, rules, rules.times))

    def advance(self, server_time: float) -> None:
        """Apply what was due up to a server time, in order of time, then of entity."""
        while self._lasting:
            due = min(self._lasting, key=lambda item: (item.at, item.entity))
            if due.at > server_time:
                return
            self._lasting.remove(due)
            late, every = server_time - CATCH_UP_S - due.at, due.rules.every_s
            times = 1 if late < 0.0 else min(due.left, int(late / every) + 1)  # a leap of the clock: at once
            at = due.at + (times - 1) * every
            self.wound(due.entity, times * due.rules.damage, at, due.blow)
            if due.left > times and self.alive(due.entity):
                self._lasting.append(due._replace(at=at + every, left=due.left - times))

    def repair(self, entity: int, amount: float, server_time: float, actor: int, cause: str) -> float:
        """Give back health, up to what a life begins with; returns how much."""
        account = self._account(entity)
        before = account.health
        if not account.alive or before >= account.full:
            return 0.0
        account.health = min(account.full, before + amount)
        self._note(account, server_time)
        self._changed(HealthEvent, entity, Blow(cause, actor), server_time, before, account.health)
        return account.health - before

    def reinforce(self, entity: int, amount: float, server_time: float, actor: int, cause: str) -> float:
        """Give armour, up to `harm.most_armour`; returns how much."""
        account = self._account(entity)
        before = account.armour
        if not account.alive or before >= self.harm.most_armour:
            return 0.0
        account.armour = min(self.harm.most_armour, before + amount)
        self._note(account, server_time)
        self._changed(ArmourEvent, entity, Blow(cause, actor), server_time, before, account.armour)
        return account.armour - before

    def grant(
        self, entity: int, what: Literal["shield", "boost"], until: float, amount: float, server_time: float, cause: str
    ) -> None:
        """Begin an effect, or change when it ends."""
        account = self._account(entity)
        for place, value in zip(_EFFECTS[what], (until, amount), strict=True):
            account.numbers[place] = value
        self.bulletin.tell(EffectEvent(self.bulletin.next, server_time, entity, what, until, amount, cause))

    def drop_shield(self, entity: int, server_time: float) -> None:
        """End invulnerability: its owner fired."""
        if self.shielded(entity, server_time):
            self.grant(entity, "shield", server_time, 0.0, server_time, "fired")

    # -- who gets the credit ----------------------------------------------------------------------------------

    def _credit(self, account: _Account, server_time: float, actor: int, amount: float) -> None:
        """Keep who did how much, for as long as it can still count for a kill or an assist."""
        harmed, since = account.harmed, server_time - max(self.points.assist_window_s, self.points.credit_window_s)
        while harmed and harmed[0][0] < since:
            harmed.popleft()
        harmed.append((server_time, actor, amount))

    def _settle(self, victim: int, account: _Account, actor: int, now: float) -> None:
        """Score a death: the killer, those who helped, and the victim."""
        points, add = self.points, self.scores.add
        add(victim, "deaths", 1, now, "death")
        add(victim, "score", points.death, now, "death")
        streak = self.scores.rows[victim].streak if victim in self.scores.rows else 0
        add(victim, "streak", -streak, now, "death")
        killer = actor
        if actor in (0, victim):
            others = [
                who for at, who, _ in account.harmed if who not in (0, victim) and now - at <= points.credit_window_s
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
            add(killer, "score", account.worth, now, "kill")
        helped: dict[int, float] = {}
        for at, who, amount in account.harmed:
            if who not in (0, victim, killer) and now - at <= points.assist_window_s and not self.friends(who, victim):
                helped[who] = helped.get(who, 0.0) + amount
        for who in sorted(helped):
            if helped[who] >= points.assist_least:
                add(who, "assists", 1, now, "assist")
                add(who, "score", points.assist, now, "assist")

    def friends(self, one: int, other: int) -> bool:
        """True if two are of one team. One who left is of the team that its row still shows, if it does."""
        return self.team_of(one) == self.team_of(other) != ""

    def team_of(self, entity: int) -> str:
        """An entity's team, "" for none."""
        account = self._accounts.get(entity)
        if account is not None:
            return account.team
        row = self.scores.rows.get(entity)
        return "" if row is None else row.team

    # -- reading ----------------------------------------------------------------------------------------------

    def alive(self, entity: int) -> bool:
        """True if the entity is here and alive."""
        account = self._accounts.get(entity)
        return account is not None and account.alive

    def standing(self, entity: int) -> tuple[float, float]:
        """The entity's health and armour in points."""
        account = self._accounts[entity]
        return account.health, account.armour

    def health(self, entity: int) -> float:
        """The entity's health in points."""
        return self._account(entity).health

    def armour(self, entity: int) -> float:
        """The entity's armour in points."""
        return self._account(entity).armour

    def life(self, entity: int) -> int:
        """Return the number of lives that the entity has begun."""
        return self._account(entity).life

    def full(self, entity: int) -> float:
        """The health that a life of the entity begins with."""
        return self._account(entity).full

    def died_at(self, entity: int) -> float:
        """Server time of the entity's last death, -inf before the first."""
        return self._account(entity).died_at

    def effects(self, entity: int) -> dict[str, tuple[float, float]]:
        """By name: until when it lasts, and its amount. What has ended may still be listed."""
        row = self._account(entity).numbers
        found = {what: (row[until], row[amount]) for what, (until, amount) in _EFFECTS.items()}
        return {what: effect for what, effect in found.items() if effect[0] > float("-inf")}

    def shielded(self, entity: int, server_time: float) -> bool:
        """True if nothing harms the entity now."""
        return self._account(entity).numbers[BODY.shield_until] > server_time

    def boosted(self, entity: int, server_time: float) -> float:
        """The factor of the damage that the entity does now."""
        account = self._accounts.get(entity)
        if account is None or not account.numbers[BODY.boost_until] > server_time:
            return 1.0
        return account.numbers[BODY.boost_factor]

    def levels(self, entity: int, since: float) -> list[HealthSince]:
        """Return health and armour from a time on, the level that held then included."""
        past = list(self._account(entity).past)
        first = max((k for k, level in enumerate(past) if level.since <= since), default=0)
        return past[first:]

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
    wound = only_by("ledger.wound", "harm")
    wounded = only_by("ledger.wounded", "harm")
    linger = only_by("ledger.linger", "harm")
    advance = only_by("ledger.advance", "advance")
    repair = only_by("ledger.repair", "act, with an item that repairs,")
    reinforce = only_by("ledger.reinforce", "act, with an item that gives armour,")
    grant = only_by("ledger.grant", "act, with an item that gives an effect,")
    drop_shield = only_by("ledger.drop_shield", "act")
