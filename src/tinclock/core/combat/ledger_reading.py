"""Queries of the ledger: they change nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.accounts import EFFECTS
from tinclock.core.combat.published import BoardRow
from tinclock.core.errors import UnknownNameError
from tinclock.core.kernels.dtypes import BODY

if TYPE_CHECKING:
    from tinclock.core.combat.accounts import Account, HealthSince
    from tinclock.core.combat.scores import Scores
    from tinclock.core.rules.tables import EffectName


class LedgerReader:
    """Health, armour, effects, counters and teams of everybody in the match, for reading."""

    scores: Scores
    _accounts: dict[int, Account]

    def _account(self, entity: int) -> Account:
        account = self._accounts.get(entity)
        if account is None:
            raise UnknownNameError("entity", entity, sorted(self._accounts))
        return account

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

    def effects(self, entity: int) -> dict[EffectName, tuple[float, float]]:
        """By name: until when it lasts, and its amount. What has ended may still be listed."""
        row = self._account(entity).numbers
        found = {what: (row[until], row[amount]) for what, (until, amount) in EFFECTS.items()}
        return {what: effect for what, effect in found.items() if effect[0] > float("-inf")}

    def shielded(self, entity: int, server_time: float) -> bool:
        """True if nothing damages the entity now."""
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

    def scoreboard(self) -> list[BoardRow]:
        """Return the rows of the board, the leading ones first; equal ones in the order in which they joined."""
        rows = []
        for entity, row in self.scores.rows.items():
            account = self._accounts.get(entity)
            totals = row.totals if account is None else account.totals()
            places = (row.name, row.team, row.score, row.kills, row.deaths, row.assists, row.streak)
            rows.append(BoardRow(entity, *places, *totals))
        return sorted(rows, key=lambda row: -float(getattr(row, self.scores.led_by)))

    def told_of(self, entity: int) -> tuple[float | None, dict[str, float]]:
        """Return the maximum health that the server set, and the counters that changed."""
        account = self._account(entity)
        return account.max_health, {name: account.counters[name] for name in sorted(account.changed)}

    def counters(self, entity: int) -> dict[str, float]:
        """Return the counters of the entity, by name."""
        return self._account(entity).counters
