"""Weapons as the server knows them: damage by distance and zone."""

from __future__ import annotations

from bisect import bisect_right
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.rules.flights import FlightRules
    from tinclock.core.rules.weapons import WeaponRules


class Weapon:
    """One weapon's numbers, ready for use; `rules` is its table."""

    __slots__ = (
        "_distances",
        "_factors",
        "_zones",
        "damage",
        "encumbered",
        "flight",
        "most_damage",
        "name",
        "penetration",
        "range_m",
        "rules",
    )

    flight: FlightRules
    """How its shots fly; only weapons of kind "projectile" have it."""

    def __init__(self, name: str, rules: WeaponRules) -> None:
        self.name, self.rules = name, rules
        if rules.flight is not None:
            self.flight = rules.flight
        self.damage = rules.damage
        self.range_m = rules.range_m
        self.penetration = rules.penetration
        self.encumbered = rules.magazine is not None or rules.draw_s > 0.0 or rules.charge_s > 0.0
        """Whether anything but its cadence can keep it from firing."""
        self._distances = [float(distance) for distance, _ in rules.falloff]
        self._factors = [float(factor) for _, factor in rules.falloff]
        self._zones = dict(rules.zones)
        best = max([1.0, *self._zones.values()]) * max(self._factors, default=1.0)
        self.most_damage = self.damage * rules.pellets * best

    def falloff(self, distance_m: float) -> float:
        """The damage factor at a distance: straight lines between the table's points, level beyond its ends."""
        row = bisect_right(self._distances, distance_m)
        if not self._distances:
            return 1.0
        if row == 0:
            return self._factors[0]
        if row == len(self._distances):
            return self._factors[-1]
        a, b = self._distances[row - 1], self._distances[row]
        share = (distance_m - a) / (b - a)
        return self._factors[row - 1] + share * (self._factors[row] - self._factors[row - 1])

    def zone(self, zone: str) -> float:
        """The damage factor of a zone."""
        return self._zones.get(zone, 1.0)

    def damage_at(self, distance_m: float, zone: str) -> float:
        """What one ray or blow does to a zone at a distance, in points."""
        return self.damage * self.falloff(distance_m) * self.zone(zone)
