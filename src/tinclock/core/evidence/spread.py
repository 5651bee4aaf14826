"""Return the offset that a draw of the stream gives a shot, from its way without spread."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray


def strays(draw: NDArray[np.float64], widest_rad: float, flat: bool) -> NDArray[np.float64]:
    """Return the offset that draws give a shot: to its left and upwards, in tangents of angles.

    draw : (n, 2) float64 in [0, 1); widest_rad : half angle of the cone; flat : whether it only goes sideways. Returns
    (n, 2) float64.
    """
    u, v = draw[:, 0], draw[:, 1]
    if flat:
        return np.stack([np.tan(widest_rad * (2.0 * u - 1.0)), np.zeros(len(u))], 1)
    angle, turn = np.tan(widest_rad * np.sqrt(u)), 2.0 * math.pi * v
    return np.stack([angle * np.cos(turn), angle * np.sin(turn)], 1)
