"""Poses of bodies with different rigs, end to end in one array: how a recording hands them over, a tick at a time."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Union

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray


class Packed:
    """flat : (rows, 7) float64, contiguous; starts : (n + 1,) int64, where each body's rows begin, and their number."""

    __slots__ = ("flat", "starts")

    def __init__(self, flat: NDArray[np.float64], starts: NDArray[np.int64]) -> None:
        self.flat, self.starts = flat, starts

    def __len__(self) -> int:
        """Number of bodies."""
        return len(self.starts) - 1

    def __iter__(self) -> Iterator[NDArray[np.float64]]:
        """The bodies' bones, one after another."""
        return (self[row] for row in range(len(self)))

    def __getitem__(self, row: int) -> NDArray[np.float64]:
        """One body's bones."""
        return self.flat[self.starts[row] : self.starts[row + 1]]

    def only(self, kept: NDArray[np.bool_]) -> Packed:
        """The bodies that are marked. kept : (n,) bool"""
        counts = self.starts[1:] - self.starts[:-1]
        starts = np.zeros(int(kept.sum()) + 1, np.int64)
        np.cumsum(counts[kept], out=starts[1:])
        return Packed(self.flat[np.repeat(kept, counts)], starts)


Poses = Union["NDArray[np.floating]", "Sequence[NDArray[np.floating]]", Packed]
"""Poses for `record`: (n, bones, 7) where all have one rig, else one array per body."""
