"""Goals of a gardener: roaming, taking cover, peeking out of it. It decides a few times per second."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from tinclock.garden.walking import Ground, Walker

HURT, COVER_WITHIN_M, PEEK_WITHIN_M = 50.0, 9.0, 4.5


class Goals:
    """The legs' part of a player."""

    def __init__(self, walker: Walker, ground: Ground, rng: np.random.Generator) -> None:
        self._walker, self._ground, self._rng = walker, ground, rng
        self.reset()

    def reset(self) -> None:
        """A new life."""
        self.mode = "roam"
        self._until = self._turn_at = 0.0
        self._hidden = self._open = -1
        self._out = False
        self._walker.release()
        self._walker.wants_crouch = self._walker.wants_lean = 0.0

    @property
    def covered(self) -> bool:
        """True if it stands in its cover."""
        return self.mode in ("hide", "peek") and not self._out and self._walker.arrived

    def decide(self, now: float, health: float, threat: np.ndarray | None) -> None:
        """Go on, or do something else. threat : where the eye of an enemy was seen last."""
        if self.mode != "roam":
            self._stay(now)
            return
        walker, luck = self._walker, self._rng.random()
        if threat is None:
            walker.wants_crouch = walker.wants_lean = 0.0
            return
        if health < HURT and luck < 0.5:
            self._take_cover(now, threat, COVER_WITHIN_M, "hide", 4.0)
        elif luck < 0.06:
            self._take_cover(now, threat, PEEK_WITHIN_M, "peek", 6.0)
        elif luck < 0.10:
            walker.jump()
        elif luck < 0.20:
            walker.wants_crouch = float(self._rng.random() < 0.5)
        elif luck < 0.30:
            walker.wants_lean = float(self._rng.choice([-1.0, 0.0, 1.0]))

    def _take_cover(self, now: float, threat: np.ndarray, within_m: float, mode: str, duration_s: float) -> None:
        walker, ground = self._walker, self._ground
        hidden = ground.hidden_near(walker.x, walker.y, threat, within_m)
        if not hidden:
            return
        self._hidden = hidden[0]
        beside = [j for j in ground.neighbours[self._hidden] if j not in hidden]
        self._open = beside[0] if beside else -1
        self.mode, self._until, self._out = mode, now + duration_s + float(self._rng.uniform(0.0, 2.0)), False
        self._turn_at = now + float(self._rng.uniform(1.0, 2.0))
        walker.send(self._hidden)

    def _stay(self, now: float) -> None:
        walker = self._walker
        if now > self._until:
            self.reset()
            return
        if self.mode == "peek" and now > self._turn_at and self._open >= 0:
            self._out = not self._out
            self._turn_at = now + float(self._rng.uniform(0.7, 1.5))
            walker.send(self._open if self._out else self._hidden)
        walker.wants_crouch = 1.0 if self.covered else 0.0
        walker.wants_lean = 0.0
