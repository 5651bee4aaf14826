"""Inputs of a body that the server moves: predictions of its client, until the server has simulated them."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    from tinclock.core.vectors import Triple

REMEMBERED_INPUTS: Final = 128
"""Number of inputs whose predictions are kept."""


class Inputs:
    """Inputs that a client sent for one body.

    acknowledged : sequence of the newest input that the server simulated, 0 for none
    """

    __slots__ = ("_off_m", "_predicted", "acknowledged")

    def __init__(self) -> None:
        self.acknowledged = 0
        self._predicted: dict[int, Triple] = {}
        self._off_m = 0.0

    def note(self, sequence: int, position: Triple) -> None:
        """Keep the position, metres, that a client predicts after an input."""
        self._predicted[sequence] = position
        if len(self._predicted) > REMEMBERED_INPUTS:
            del self._predicted[min(self._predicted)]

    def acknowledge(self, sequence: int, position: Triple) -> None:
        """Compare the prediction after an input with the position, metres, that the server simulated."""
        predicted = self._predicted.get(sequence)
        if predicted is not None:
            self._off_m = max(self._off_m, math.dist(predicted, position))
        self.acknowledged = max(self.acknowledged, sequence)
        self._predicted = {number: place for number, place in self._predicted.items() if number > sequence}

    @property
    def off_m(self) -> float:
        """Greatest distance of a prediction from the simulated position since `seen`, metres."""
        return self._off_m

    def seen(self) -> None:
        """Begin to measure anew."""
        self._off_m = 0.0
