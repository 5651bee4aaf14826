"""Weapons as the server knows them: damage by distance and zone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from tinclock.core.kernels.damage import points_by, points_of
from tinclock.core.kernels.dtypes import HITSCAN, PELLETS, PROJECTILE, REACH, WEAPON
from tinclock.core.packed import Row

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.plain import Fields
    from tinclock.core.rules.projectiles import ProjectileRules
    from tinclock.core.rules.weapons import WeaponRules


_KINDS: Final = {"hitscan": HITSCAN, "pellets": PELLETS, "projectile": PROJECTILE, "melee": REACH}


class Weapon(Row):
    """One weapon's numbers, ready for use; `rules` is its table."""

    __slots__ = (
        "_factors",
        "_table",
        "_table_at",
        "_zones",
        "damage",
        "encumbered",
        "max_damage",
        "name",
        "penetration",
        "projectile",
        "range_m",
        "rules",
    )

    projectile: ProjectileRules
    """Flight of its shots; only weapons of kind "projectile" have it."""

    def __init__(self, name: str, rules: WeaponRules, *, enforced: bool = True) -> None:
        super().__init__(len(WEAPON))
        self.name, self.rules = name, rules
        if rules.projectile is not None:
            self.projectile = rules.projectile
        self.damage = rules.damage
        self.range_m = rules.range_m
        self.penetration = rules.penetration
        self.encumbered = rules.magazine is not None or rules.draw_s > 0.0 or rules.charge_s > 0.0
        """True if anything but its fire_rate can keep it from firing."""
        self._table = np.array(rules.falloff, dtype=np.float64).reshape(-1, 2)
        self._table_at = int(self._table.ctypes.data)
        self._zones, self._factors = dict(rules.zones), np.ones(1)
        best = max([1.0, *self._zones.values()]) * max((float(factor) for _, factor in rules.falloff), default=1.0)
        self.max_damage = self.damage * rules.pellets * best
        self._tell_kernels()
        if not enforced:
            self.numbers[WEAPON.is_usual] = 0.0  # kernels apply what they commit

    def _tell_kernels(self) -> None:
        """Put the numbers that checks need into the row."""
        rules, row = self.rules, self.numbers
        for place, name in enumerate(WEAPON._fields):
            value = getattr(rules, name, None)
            if isinstance(value, (bool, int, float)):
                row[place] = value
        row[WEAPON.kind], row[WEAPON.encumbered] = _KINDS[rules.kind], self.encumbered
        row[WEAPON.has_costs] = bool(rules.costs or rules.requires or rules.blocked_by)
        row[WEAPON.is_plain] = rules.spread is None and rules.recoil is None
        row[WEAPON.magazine] = -1.0 if rules.magazine is None else rules.magazine
        row[WEAPON.falloff], row[WEAPON.falloff_count] = self._table_at, len(self._table)
        plain = rules.spread is None and rules.recoil is None and rules.damage_over_time is None
        row[WEAPON.is_usual] = plain and rules.kind == "hitscan" and rules.pellets == 1

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        super().__setstate__(state)
        self._table_at = int(self._table.ctypes.data)
        self.numbers[WEAPON.falloff], self.numbers[WEAPON.zones] = self._table_at, int(self._factors.ctypes.data)

    def aim_at(self, zones: Sequence[str]) -> None:
        """Let kernels know the zones of all parts that there are, by the parts' rows."""
        self._factors = np.array([self.zone(zone) for zone in zones])
        self.numbers[WEAPON.zones] = int(self._factors.ctypes.data)

    def zone(self, zone: str) -> float:
        """The damage factor of a zone."""
        return self._zones.get(zone, 1.0)

    def damage_at(self, distance_m: float, zone: str) -> float:
        """Return the points of one ray or blow to a zone at a distance, as `kernels.damage` has them."""
        return float(points_by(self.at, self.zone(zone), distance_m, 1.0))

    def points(self, part_row: int, distance_m: float, share: float = 1.0) -> float:
        """Return the points of one hit on a part, by its row in the history's table, before armour.

        share : fraction of the damage that charge and penetration leave
        """
        return float(points_of(self.at, part_row, distance_m, share))
