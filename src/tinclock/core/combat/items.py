"""Items: how many an entity has, and when the next may be used."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.rules.weapons import ItemRules


class Stock:
    """Stock of one kind of item."""

    __slots__ = ("count", "ready_at", "rules")

    def __init__(self, rules: ItemRules) -> None:
        self.rules = rules
        self.refill()

    def refill(self) -> None:
        """As at the start of a life."""
        self.count, self.ready_at = self.rules.count, float("-inf")

    def spend(self, now: float) -> None:
        """Use one."""
        self.count -= 1
        self.ready_at = max(self.ready_at, now) + self.rules.cooldown_s
