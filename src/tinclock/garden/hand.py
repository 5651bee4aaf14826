"""Aim of a player: a hand that follows the eyes with a delay, overshoots, and trembles."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

from tinclock.core.combat.spread_stream import turned

if TYPE_CHECKING:
    import numpy as np

    from tinclock.core.vectors import Triple

TREMOR_FADE_S = 0.25


class Hand:
    """Turns towards a target as a damped spring does.

    skill : 0 clumsy to 1 steady; rng : its own
    """

    def __init__(self, skill: float, rng: np.random.Generator) -> None:
        self._rng = rng
        self.reaction_s = (0.34 - 0.12 * skill, 0.40 - 0.14 * skill)
        """Between which a player notices something new."""
        self._eye_s = 0.11 - 0.04 * skill
        self._stiffness, self._damping = 11.0 + 5.0 * skill, 0.5 + 0.25 * skill
        self._tremor_rad = 0.014 - 0.009 * skill
        self.aim: Triple = (1.0, 0.0, 0.0)
        self._speed: Triple = (0.0, 0.0, 0.0)
        self._left = self._up = 0.0
        self._seen: deque[tuple[float, Triple]] = deque(maxlen=16)

    def reaction(self) -> float:
        """Return the time that it takes to notice something this time."""
        return float(self._rng.uniform(*self.reaction_s))

    def forget(self) -> None:
        """Something else is looked at."""
        self._seen.clear()

    def follow(self, wanted: Triple, now: float, seconds: float) -> float:
        """Turn towards a direction that the screen shows now; returns the angle still to go.

        What is aimed at is where it was a moment ago, carried on by how it moved then: who turns on the spot is
        overrun.
        """
        self._seen.append((now, wanted))
        before, moved = self._noticed(now)
        pull, brake = self._stiffness * self._stiffness, 2.0 * self._damping * self._stiffness
        speed, aim = [], []
        for a, v, b, m in zip(self.aim, self._speed, before, moved, strict=True):
            v += (pull * (b + m * self._eye_s - a) - brake * (v - m)) * seconds
            speed.append(v)
            aim.append(a + v * seconds)
        self._speed, self.aim = (speed[0], speed[1], speed[2]), unit(*aim)
        fade = math.exp(-seconds / TREMOR_FADE_S)
        spread = self._tremor_rad * math.sqrt(1.0 - fade * fade)
        left, up = self._rng.normal(0.0, spread, 2).tolist()
        self._left, self._up = fade * self._left + left, fade * self._up + up
        return math.dist(wanted, self.aim)

    def _noticed(self, now: float) -> tuple[Triple, Triple]:
        """The direction that the eyes saw last, and how fast it turned."""
        seen, latest = self._seen, now - self._eye_s
        last = len(seen) - 1
        while last >= 0 and seen[last][0] > latest:
            last -= 1
        if last < 1:
            return seen[0][1], (0.0, 0.0, 0.0)
        (at, way), (earlier, first) = seen[last], seen[max(0, last - 4)]
        span = max(at - earlier, 1e-6)
        return way, ((way[0] - first[0]) / span, (way[1] - first[1]) / span, (way[2] - first[2]) / span)

    def shaken(self) -> Triple:
        """The aim with its tremor."""
        return turned(self.aim, self._left, self._up)


def unit(x: float, y: float, z: float) -> Triple:
    """A vector, not all zero, at unit length."""
    length = math.sqrt(x * x + y * y + z * z)
    return x / length, y / length, z / length
