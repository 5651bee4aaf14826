"""Poses in whole steps: one pass that rounds a tick's poses to what a recording keeps."""

from __future__ import annotations

from typing import Any

import numpy as np

from tinclock.core.kernels.compiling import njit


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def to_steps(flat: Any, place_steps: float, turn_steps: float, farthest: float) -> Any:
    """(places (rows, 3) int32, turns (rows, 4) int16, poses (rows, 7) float64 as they are read back, bad row or -1).

    flat : (rows, 7) float32 or float64. A row is bad when a number in it isn't finite or too large for its steps.
    """
    rows = flat.shape[0]
    places, turns = np.empty((rows, 3), np.int32), np.empty((rows, 4), np.int16)
    poses, bad = np.empty((rows, 7)), -1
    for row in range(rows):
        for k in range(7):
            scale, most = (place_steps, farthest) if k < 3 else (turn_steps, 32767.0)
            step = np.rint(np.float64(flat[row, k]) * scale)
            if not abs(step) <= most:
                if bad < 0:
                    bad = row
                step = 0.0
            if k < 3:
                places[row, k] = np.int32(step)
            else:
                turns[row, k - 3] = np.int16(step)
            poses[row, k] = step / scale
    return places, turns, poses, bad


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def by_tick(
    entity: Any, tick: Any, x: Any, y: Any, z: Any, qx: Any, qy: Any, qz: Any, qw: Any, place_steps: float,
    turn_steps: float,
) -> Any:  # fmt: skip
    """Rows that lie by entity, bone and tick, brought into the order of ticks, then entities and bones.

    All (rows,) integers, at least one. Returns the first tick; ends (ticks,) int64, where each tick's rows end; which
    entity (rows,) int64; poses (rows, 7) float64, metres.
    """
    rows, first = len(tick), tick.min()
    ends = np.zeros(tick.max() - first + 1, np.int64)
    for row in range(rows):
        ends[tick[row] - first] += 1
    place = np.cumsum(ends) - ends
    who, poses = np.empty(rows, np.int64), np.empty((rows, 7))
    for row in range(rows):
        to = place[tick[row] - first]
        place[tick[row] - first] = to + 1
        who[to] = entity[row]
        pose = poses[to]
        pose[0], pose[1], pose[2] = x[row] / place_steps, y[row] / place_steps, z[row] / place_steps
        pose[3], pose[4] = qx[row] / turn_steps, qy[row] / turn_steps
        pose[5], pose[6] = qz[row] / turn_steps, qw[row] / turn_steps
    return first, place, who, poses
