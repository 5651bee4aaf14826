"""How a player aims: a hand that follows what the eyes saw a moment ago, overshoots, and trembles."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

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
        self.aim: NDArray[np.float64] = np.array([1.0, 0.0, 0.0])
        self._speed = np.zeros(3)
        self._tremor = np.zeros(2)
        self._seen: deque[tuple[float, NDArray[np.float64]]] = deque(maxlen=32)

    def reaction(self) -> float:
        """How long it takes this time to notice something."""
        return float(self._rng.uniform(*self.reaction_s))

    def forget(self) -> None:
        """Something else is looked at."""
        self._seen.clear()

    def follow(self, wanted: NDArray[np.float64], now: float, seconds: float) -> float:
        """Turn towards a direction that the screen shows now; returns the angle still to go.

        What is aimed at is where it was a moment ago, carried on by how it moved then: who turns on the spot is
        overrun.
        """
        self._seen.append((now, wanted))
        before, moved = self._noticed(now)
        goal = before + moved * self._eye_s
        pull = self._stiffness * self._stiffness * (goal - self.aim)
        brake = 2.0 * self._damping * self._stiffness * (self._speed - moved)
        self._speed = self._speed + (pull - brake) * seconds
        self.aim = self.aim + self._speed * seconds
        self.aim /= np.linalg.norm(self.aim)
        fade = math.exp(-seconds / TREMOR_FADE_S)
        spread = self._tremor_rad * math.sqrt(1.0 - fade * fade)
        self._tremor = fade * self._tremor + self._rng.normal(0.0, spread, 2)
        return float(np.linalg.norm(wanted - self.aim))

    def _noticed(self, now: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The direction that the eyes saw last, and how fast it turned."""
        old = [(at, way) for at, way in self._seen if at <= now - self._eye_s]
        if len(old) < 2:
            return self._seen[0][1], np.zeros(3)
        (at, way), (earlier, first) = old[-1], old[max(0, len(old) - 5)]
        return way, (way - first) / max(at - earlier, 1e-6)

    def shaken(self) -> NDArray[np.float64]:
        """The aim with its tremor."""
        side = np.array([self.aim[1], -self.aim[0], 0.0])
        side /= max(1e-9, float(np.linalg.norm(side)))
        up = np.array([-self.aim[2] * side[1], self.aim[2] * side[0], self.aim[0] * side[1] - self.aim[1] * side[0]])
        out = self.aim + self._tremor[0] * side + self._tremor[1] * up
        return np.asarray(out / np.linalg.norm(out))
