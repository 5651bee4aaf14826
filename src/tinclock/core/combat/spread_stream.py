"""Recoil and spread of shots on top of the aim, from a keyed stream that server and client both compute.

The stream, for pellet p (from 0) of shot n (from 1) of a weapon: BLAKE2b (RFC 7693) with the entity's key, 16 bytes
long, of the weapon's name in UTF-8, a zero byte, n and p as little-endian 64-bit integers. The digest is two
little-endian 64-bit integers; each, its lowest 11 bits dropped and divided by 2**53, is a number u or v in [0, 1).
"""

from __future__ import annotations

import hashlib
import math
import struct
from typing import TYPE_CHECKING

from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.rules.weapons import SpreadRules, WeaponRules
    from tinclock.core.vectors import Triple

_NUMBERS = struct.Struct("<QQ")
_STEEP = TOLERANCES.upright


def draws(key: bytes, weapon: str, shot: int, pellet: int = 0) -> tuple[float, float]:
    """Two evenly spread numbers in [0, 1) for one pellet of one shot. key : at most 64 bytes."""
    text = weapon.encode() + b"\0" + _NUMBERS.pack(shot, pellet)
    u, v = _NUMBERS.unpack(hashlib.blake2b(text, digest_size=16, key=key).digest())
    return (u >> 11) * 2.0**-53, (v >> 11) * 2.0**-53


def _sides(x: float, y: float, z: float) -> tuple[Triple, Triple]:
    """Unit vectors to the left of a direction (level) and above it; straight up or down, left is +y."""
    level = math.hypot(x, y)
    left = (-y / level, x / level, 0.0) if level > _STEEP else (0.0, 1.0, 0.0)
    a, b, _ = left
    return left, (-z * b, z * a, x * b - y * a)


def turned(direction: Triple, left: float, up: float) -> Triple:
    """A unit direction moved by two tangents of angles, to its left and upwards."""
    (x, y, z), ((lx, ly, lz), (ux, uy, uz)) = direction, _sides(*direction)
    x, y, z = x + left * lx + up * ux, y + left * ly + up * uy, z + left * lz + up * uz
    length = math.sqrt(x * x + y * y + z * z)
    return x / length, y / length, z / length


class SpreadStream:
    """Spread and recoil of one weapon in one entity's hands. A client that keeps one draws what the server rules.

    key : the entity's, from `Referee.welcome`; weapon : the weapon's name; rules : its table
    """

    __slots__ = ("_heat", "_last_at", "_pellets", "_recoil", "_row", "_spread", "key", "weapon")

    def __init__(self, key: bytes, weapon: str, rules: WeaponRules) -> None:
        self.key, self.weapon = key, weapon
        self._spread: SpreadRules | None = rules.spread
        self._recoil, self._pellets = rules.recoil, rules.pellets
        self.rest()

    @property
    def plain(self) -> bool:
        """True if every shot goes exactly where it is aimed."""
        return self._spread is None and self._recoil is None

    def rest(self) -> None:
        """Forget earlier shots: a new life."""
        self._heat, self._last_at, self._row = 0.0, -math.inf, 0

    def continue_from(self, before: SpreadStream) -> None:
        """Take over the shots so far of one by other rules."""
        self._heat, self._last_at, self._row = before._heat, before._last_at, before._row

    def spread_rad(self, at: float, speed_m_s: float) -> float:
        """The half angle of the cone that a shot at a time would be drawn from."""
        spread = self._spread
        if spread is None:
            return 0.0
        moving = spread.moving_deg * min(1.0, speed_m_s / spread.moving_at_m_s)
        return math.radians(min(spread.base_deg + moving + self._heat_at(at), spread.max_deg))

    def _heat_at(self, at: float) -> float:
        spread = self._spread
        if spread is None or self._heat == 0.0:
            return 0.0
        return max(0.0, self._heat - spread.recovery_deg_per_s * max(0.0, at - self._last_at))

    def rays(
        self, direction: Triple, at: float, shot: int, speed_m_s: float = 0.0, key: bytes | None = None
    ) -> list[Triple]:
        """Return the directions of a shot's pellets, and remember the shot.

        direction : the aim, of unit length; at : seconds, of any clock that all shots share; shot : its number, from 1
        speed_m_s : of the shooter; key : another stream than the entity's own
        """
        if self.plain:
            return [direction] * self._pellets
        if self._recoil is not None:
            pattern = self._recoil.pattern_deg
            self._row = 0 if at - self._last_at > self._recoil.reset_s else self._row
            up, left = pattern[min(self._row, len(pattern) - 1)]
            self._row += 1
            direction = turned(direction, math.tan(math.radians(left)), math.tan(math.radians(up)))
        out = [direction] * self._pellets
        spread, widest = self._spread, self.spread_rad(at, speed_m_s)
        if spread is not None:
            if widest > 0.0:
                out = [self._stray(direction, widest, spread.flat, key, shot, p) for p in range(self._pellets)]
            self._heat = min(self._heat_at(at) + spread.per_shot_deg, spread.max_deg)
        self._last_at = max(self._last_at, at)
        return out

    def _stray(self, direction: Triple, widest: float, flat: bool, key: bytes | None, shot: int, pellet: int) -> Triple:
        u, v = draws(self.key if key is None else key, self.weapon, shot, pellet)
        if flat:
            return turned(direction, math.tan(widest * (2.0 * u - 1.0)), 0.0)
        angle, turn = widest * math.sqrt(u), 2.0 * math.pi * v
        return turned(direction, math.tan(angle) * math.cos(turn), math.tan(angle) * math.sin(turn))
