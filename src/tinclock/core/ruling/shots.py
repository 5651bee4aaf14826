"""Shots as arrays, for servers that keep them so."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.arrays import require_shape, spread
from tinclock.core.ruling.claims import ShotClaim
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import ArrayLike


class ShotBatch(NamedTuple):
    """Shots with the weapon in hand, a row each, in the order in which they came.

    connections : (m,) who sent each
    weapons : (m,) what each names, or one for all
    sequences, actors : (m,) int64
    origins, directions : (m, 3) float64, metres, and unit
    from_ticks, to_ticks : (m,) int64
    fractions : (m,) float64
    received_at : (m,) float64, server time in seconds, or one for all
    """

    connections: Sequence[str]
    weapons: Sequence[str] | str
    sequences: ArrayLike
    actors: ArrayLike
    origins: ArrayLike
    directions: ArrayLike
    from_ticks: ArrayLike
    to_ticks: ArrayLike
    fractions: ArrayLike
    received_at: ArrayLike

    def each(self) -> Iterator[tuple[str, ShotClaim, float]]:
        """One by one: the connection, the claim, and when it came. Raises `BadArrayError` for wrong shapes."""
        count = len(self.connections)
        sequences, actors, from_ticks, to_ticks = (
            spread(name, getattr(self, name), count, np.int64).tolist()
            for name in ("sequences", "actors", "from_ticks", "to_ticks")
        )
        fractions, times = (
            spread(name, getattr(self, name), count, np.float64).tolist() for name in ("fractions", "received_at")
        )
        origins, directions = (
            require_shape(name, getattr(self, name), (count, 3), np.float64).tolist()
            for name in ("origins", "directions")
        )
        weapons = [self.weapons] * count if isinstance(self.weapons, str) else self.weapons
        for k, name in enumerate(self.connections):
            view = View(from_ticks[k], to_ticks[k], fractions[k])
            claim = ShotClaim(sequences[k], actors[k], weapons[k], tuple(origins[k]), tuple(directions[k]), view)
            yield name, claim, times[k]
