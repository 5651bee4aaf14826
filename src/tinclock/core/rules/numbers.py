"""The numbers of the rules that checks need, in a row that kernels read."""

from __future__ import annotations

from math import sqrt
from typing import TYPE_CHECKING, Final

import numpy as np
from msgspec.structs import asdict, replace

from tinclock.core.kernels.dtypes import RULES
from tinclock.core.packed import Row, address_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.plain import Fields
    from tinclock.core.rules.rigs import RigRules
    from tinclock.core.rules.ruleset import Rules


_OF_RIGS: Final = frozenset({"covers", "part_count"})
"""Fields that `cover` fills in."""


def limits_of(rules: Rules) -> dict[tuple[str, str], Rules]:
    """Return the rules with the movement of each rig and stance that has its own, by both names ("" for no stance)."""
    found = {}
    for name, rig in rules.rigs.items():
        movement = rig.movement or rules.movement
        if rig.movement is not None:
            found[name, ""] = replace(rules, movement=movement)
        for stance, limits in rig.stances.items():
            if movement is not None:
                own = {key: value for key, value in asdict(limits).items() if value is not None}
                found[name, stance] = replace(rules, movement=replace(movement, **own))
    return found


class RuleNumbers(Row):
    """The numbers of some rules."""

    __slots__ = ("_covers", "_zones")
    _covers: NDArray[np.float64]
    _zones: NDArray[np.float64]

    def __init__(self, rules: Rules) -> None:
        super().__init__(len(RULES))
        self.take(rules)

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint: the zones lie elsewhere now."""
        super().__setstate__(state)
        if self.numbers[RULES.zone_count]:
            self.numbers[RULES.zones] = address_of(self._zones)
        if self.numbers[RULES.covers]:
            self.numbers[RULES.covers] = address_of(self._covers)

    def cover(self, rigs: Sequence[RigRules], zones: Sequence[str]) -> None:
        """Tell kernels the parts that each rig's armour covers. rigs : by number; zones : of all parts, by row"""
        covered = [[not rig.armour_zones or zone in rig.armour_zones for zone in zones] for rig in rigs]
        self._covers = np.array(covered, np.float64)
        self.numbers[RULES.covers], self.numbers[RULES.part_count] = address_of(self._covers), len(zones)

    def take(self, rules: Rules) -> None:
        """Hold the numbers of other rules from now on: of keys with a field of their name, and some made of them."""
        row, damage, movement = self.numbers, rules.damage, rules.movement
        for place, name in enumerate(RULES._fields):
            if name in _OF_RIGS:
                continue
            row[place] = 0.0
            for table in (rules.match, rules.view, damage, movement):
                value = getattr(table, name, None)
                if value is not None:
                    row[place] = value
        row[RULES.fire_rate_tolerance_s] = rules.fire_rate.tolerance_s
        row[RULES.muzzle_reach_m], row[RULES.muzzle_steady_m] = rules.muzzle.reach_m, rules.muzzle.steady_m
        row[RULES.spares_friends] = damage.friendly_fire == "none" or damage.friendly_fraction == 0.0
        row[RULES.reflects], row[RULES.applies] = damage.friendly_fire == "reflected", rules.match.mode == "live"
        if movement is not None:
            row[RULES.has_movement] = 1.0
            jump_m_s = (
                movement.up_m_s if movement.jump_m is None else sqrt(2.0 * movement.gravity_m_s2 * movement.jump_m)
            )
            row[RULES.jump_m_s], row[RULES.zone_count] = jump_m_s, len(movement.free_zones)
            if movement.free_zones:
                self._zones = np.array([(*zone.low, *zone.high) for zone in movement.free_zones], np.float64)
                row[RULES.zones] = address_of(self._zones)
