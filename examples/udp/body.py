"""A client's own body: it walks at once, and is put right where the server has it elsewhere."""

from __future__ import annotations

import math

import tinclock

STEP_S, PACE_M_S, EYE_UP_M = 1 / 32, 3.0, 1.65


class Body:
    """Where it is, and the moves that the server hasn't answered yet. place : None until a snapshot said it."""

    def __init__(self) -> None:
        self.place: list[float] | None = None
        self.moves: list[tuple[int, list[float]]] = []
        self.corrected = 0

    def step(self, angle: float) -> None:
        """Walk for a step."""
        for axis, share in enumerate((math.cos(angle), math.sin(angle))):
            self.place[axis] += PACE_M_S * STEP_S * share

    def eye(self) -> list[float]:
        """Where it looks from."""
        return [*self.place[:2], self.place[2] + EYE_UP_M]

    def answered(self, receipt: tinclock.Receipt) -> None:
        """A move was ruled. Where the server has the body elsewhere, go there and walk again what came after."""
        known = [place for number, place in self.moves if number == receipt.sequence]
        if known and receipt.state is not None and receipt.state.position is not None:
            off = [a - b for a, b in zip(receipt.state.position, known[0], strict=True)]
            if math.hypot(*off) > 1e-6:
                self.corrected += 1
                self.place = [a + b for a, b in zip(self.place, off, strict=True)]
            self.moves = [(number, place) for number, place in self.moves if number > receipt.sequence]
