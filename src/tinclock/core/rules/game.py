"""The tables of what a game decides beside claims: counters, phases, loadouts, teams and regeneration."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from tinclock.core.rules.tables import Interval, Name, NotNegative, Table


class CounterRules(Table, frozen=True, kw_only=True):
    """A number that the game keeps for each player, such as coins, stamina or hunger."""

    start: float = 0.0
    """Value when a player joins (default 0)."""
    min_value: float = 0.0
    """Lowest value (default 0). A claim that would go below it is rejected with `cannot_afford`."""
    max_value: float | None = None
    """Highest value (default: none)."""


class PhaseRules(Table, frozen=True, kw_only=True):
    """A phase of a match, such as warm-up, freeze or over, and what is allowed while it lasts."""

    weapons: bool = True
    """False: shots, melee attacks, triggers and items are rejected with `not_in_phase` (default true)."""
    moves: bool = True
    """False: move reports are rejected with `not_in_phase` (default true)."""
    damage: bool = True
    """False: hits are found, and take no points (default true)."""
    scores: bool = True
    """False: the board stays as it is (default true)."""


class LoadoutRules(Table, frozen=True, kw_only=True):
    """Weapons and items that an entity carries when it joins."""

    weapons: list[Name] = field(default_factory=list)
    """Names of weapons; the first is in hand."""
    items: list[Name] = field(default_factory=list)
    """Names of items."""


class GameFindingRules(Table, frozen=True, kw_only=True):
    """A finding of the game's own, which its server makes with `add_finding` or a `game_check`."""

    action: Literal["flag", "adjust", "reject"] = "reject"
    """Effect on the claim (default "reject"). It is never evidence."""
    text: str = ""
    """Sentence for explanations; write it for the game's own people, clients don't receive it."""


class TeamRules(Table, frozen=True, kw_only=True):
    """Settings of a team."""

    loadout: Name | None = None
    """Loadout of its players (default: the one of their rig)."""


class RegenerationRules(Table, frozen=True, kw_only=True):
    """Health and armour that return by themselves."""

    health: NotNegative = 0.0
    """Points of health each time (default 0)."""
    armour: NotNegative = 0.0
    """Points of armour each time, up to the armour at the start of a life (default 0)."""
    delay_s: NotNegative = 5.0
    """Time after the last damage before it begins, in seconds (default 5)."""
    every_s: Interval = 1.0
    """Time between two times, in seconds (default 1)."""
