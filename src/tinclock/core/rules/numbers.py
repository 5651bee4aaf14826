"""The numbers of the rules that checks need, in a row that kernels read."""

from __future__ import annotations

from math import sqrt
from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.kernels.dtypes import RULES
from tinclock.core.packed import Row, address_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.plain import Fields
    from tinclock.core.rules.rigs import RigRules
    from tinclock.core.rules.ruleset import Rules


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
        """Hold the numbers of other rules from now on."""
        row, view = self.numbers, rules.view
        for place in range(len(RULES)):
            if place not in (RULES.covers, RULES.part_count):
                row[place] = 0.0
        row[RULES.max_rewind_s] = view.max_rewind_s
        row[RULES.early_allowance_s], row[RULES.late_allowance_s] = view.early_allowance_s, view.late_allowance_s
        row[RULES.order_allowance_s], row[RULES.jitter_factor] = view.order_allowance_s, view.jitter_factor
        row[RULES.lag_allowance_s], row[RULES.sends_every_s] = view.lag_allowance_s, view.sends_every_s
        row[RULES.two_faced_s] = view.two_faced_s
        row[RULES.tick_rate_hz], row[RULES.snapshot_every] = rules.match.tick_rate_hz, rules.match.snapshot_every
        row[RULES.cadence_allowance_s] = rules.cadence.allowance_s
        row[RULES.muzzle_reach_m], row[RULES.muzzle_steady_m] = rules.muzzle.reach_m, rules.muzzle.steady_m
        row[RULES.trade_window_s] = rules.harm.trade_window_s
        row[RULES.zone_depth_m] = rules.match.zone_depth_m
        harm = rules.harm
        row[RULES.spares_friends] = harm.friendly_fire == "none" or harm.friendly_share == 0.0
        row[RULES.reflects] = harm.friendly_fire == "reflected"
        row[RULES.friendly_share], row[RULES.self_share] = harm.friendly_share, harm.self_share
        row[RULES.armour_share], row[RULES.applies] = harm.armour_share, rules.match.enforce == "yes"
        movement = rules.movement
        if movement is not None:
            row[RULES.has_movement] = 1.0
            row[RULES.speed_m_s], row[RULES.acceleration_m_s2] = movement.speed_m_s, movement.acceleration_m_s2
            row[RULES.up_m_s], row[RULES.down_m_s] = movement.up_m_s, movement.down_m_s
            row[RULES.radius_m], row[RULES.centre_up_m] = movement.radius_m, movement.centre_up_m
            row[RULES.teleport_m], row[RULES.allowance_m] = movement.teleport_m, movement.allowance_m
            row[RULES.time_allowance_s], row[RULES.rounding_m] = movement.time_allowance_s, movement.rounding_m
            row[RULES.skin_m] = movement.skin_m
            row[RULES.gravity_m_s2], row[RULES.step_m] = movement.gravity_m_s2, movement.step_m
            jump_m_s = (
                movement.up_m_s if movement.jump_m is None else sqrt(2.0 * movement.gravity_m_s2 * movement.jump_m)
            )
            row[RULES.jump_m_s], row[RULES.zone_count] = jump_m_s, len(movement.free_zones)
            if movement.free_zones:
                self._zones = np.array([(*zone.low, *zone.high) for zone in movement.free_zones], np.float64)
                row[RULES.zones] = address_of(self._zones)
