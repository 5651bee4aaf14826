"""The ledger: health, and the only place where it changes. Every change becomes a numbered event."""

from __future__ import annotations

from typing import Literal, NamedTuple

from tinclock.core.errors import AlreadyKnownError, UnknownNameError
from tinclock.core.records import Event


class Wound(NamedTuple):
    """What a blow changed: health before and after (equal when nothing was applied), and whether it killed."""

    before: float
    after: float
    lethal: bool


class _Account:
    __slots__ = ("alive", "full", "health", "life")

    def __init__(self, full: float) -> None:
        self.full, self.health, self.alive, self.life = full, 0.0, False, 0


class Ledger:
    """Health of everybody in the match, in points."""

    def __init__(self, full_health: float) -> None:
        self.full_health = full_health
        self._accounts: dict[int, _Account] = {}
        self.dead: set[int] = set()
        """Entities that died and have not begun another life."""
        self._events: list[Event] = []
        self._next = 1

    def open(self, entity: int, full_health: float | None = None) -> None:
        """Start the books of a new entity, not yet alive."""
        if entity in self._accounts:
            raise AlreadyKnownError("entity", entity)
        self._accounts[entity] = _Account(full_health or self.full_health)

    def close(self, entity: int, server_time: float) -> None:
        """Close the books of one that left."""
        self._account(entity)
        del self._accounts[entity]
        self.dead.discard(entity)
        self._tell("left", server_time, entity)

    def _account(self, entity: int) -> _Account:
        account = self._accounts.get(entity)
        if account is None:
            raise UnknownNameError("entity", entity, sorted(self._accounts))
        return account

    def _tell(
        self,
        kind: Literal["spawn", "health", "death", "left"],
        server_time: float,
        entity: int,
        health: float | None = None,
        before: float | None = None,
        actor: int | None = None,
        weapon: str | None = None,
        part: str | None = None,
    ) -> None:
        self._events.append(Event(self._next, kind, server_time, entity, health, before, actor, weapon, part))
        self._next += 1

    def spawn(self, entity: int, server_time: float) -> int:
        """Begin a life with full health; returns its number."""
        account = self._account(entity)
        account.health, account.alive = account.full, True
        account.life += 1
        self.dead.discard(entity)
        self._tell("spawn", server_time, entity, health=account.health)
        return account.life

    def wound(self, entity: int, amount: float, server_time: float, actor: int, weapon: str, part: str) -> Wound:
        """Take `amount` points from an entity; nothing happens to one that is dead."""
        account = self._account(entity)
        before = account.health
        if not account.alive or amount <= 0.0:
            return Wound(before, before, False)
        account.health = max(0.0, before - amount)
        self._tell("health", server_time, entity, account.health, before, actor, weapon, part)
        if account.health > 0.0:
            return Wound(before, account.health, False)
        account.alive = False
        self.dead.add(entity)
        self._tell("death", server_time, entity, 0.0, before, actor, weapon, part)
        return Wound(before, 0.0, True)

    def alive(self, entity: int) -> bool:
        """Whether the entity is here and alive."""
        account = self._accounts.get(entity)
        return account is not None and account.alive

    def health(self, entity: int) -> float:
        """The entity's health in points."""
        return self._account(entity).health

    def life(self, entity: int) -> int:
        """How many lives the entity has begun."""
        return self._account(entity).life

    def take_events(self) -> list[Event]:
        """Events since the last call."""
        events, self._events = self._events, []
        return events
