"""Poses in whole steps: one pass that rounds a tick's poses to what a recording keeps, and one that reads them back."""

from __future__ import annotations

from typing import Any

import numpy as np

from tinclock.core.kernels.compiling import njit


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def to_steps(flat: Any, starts: Any, most: int, place_steps: float, turn_steps: float, farthest: float) -> Any:
    """(steps (n, most, 5) int32, poses (rows, 7) float64 as they are read back, bad row or -1).

    flat : (rows, 7) float64. A row is bad when a number in it isn't finite or too large for its steps.
    starts : (n + 1,) int64, where each body's rows begin, and their number; no body has more than `most`
    Steps hold x, y, z, and in the last two the four int16 of the quaternion, the lower half first.
    """
    bodies = len(starts) - 1
    steps, poses = np.zeros((bodies, most, 5), np.int32), np.empty((flat.shape[0], 7))
    bad = -1
    for body in range(bodies):
        for row in range(starts[body], starts[body + 1]):
            bone = row - starts[body]
            for k in range(7):
                scale, limit = (place_steps, farthest) if k < 3 else (turn_steps, 32767.0)
                step = np.rint(flat[row, k] * scale)
                if not abs(step) <= limit:
                    if bad < 0:
                        bad = row
                    step = 0.0
                poses[row, k] = step / scale
                if k < 3:
                    steps[body, bone, k] = np.int32(step)
                elif k % 2:
                    steps[body, bone, (k + 3) // 2] = np.int32(step) & 0xFFFF
                else:
                    steps[body, bone, (k + 2) // 2] |= np.int32(step) << 16
    return steps, poses, bad


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def by_tick(entity: Any, place: Any, bones: Any, steps: Any, ticks: int, place_steps: float, turn_steps: float) -> Any:
    """Rows that lie by entity and tick, brought into the order of ticks, then entities, and read.

    entity, bones : (rows,) int64; place : (rows,) int64, which of the ticks each row is of
    steps : (rows, most, 5) int32, as `to_steps` writes them
    Returns ends (ticks,) int64, where each tick's bodies end; who (rows,) int64; starts (rows + 1,) int64, where each
    body's bones begin; poses (all bones, 7) float64, metres.
    """
    rows = len(place)
    ends = np.zeros(ticks, np.int64)
    for row in range(rows):
        ends[place[row]] += 1
    free = np.zeros(ticks, np.int64)
    for tick in range(1, ticks):
        free[tick] = ends[tick - 1]
        ends[tick] += ends[tick - 1]
    who, source, starts = np.empty(rows, np.int64), np.empty(rows, np.int64), np.zeros(rows + 1, np.int64)
    for row in range(rows):
        to = free[place[row]]
        free[place[row]] = to + 1
        who[to], source[to] = entity[row], row
    for to in range(rows):
        starts[to + 1] = starts[to] + bones[source[to]]
    poses = np.empty((starts[rows], 7))
    for to in range(rows):
        for bone in range(bones[source[to]]):
            at, held = poses[starts[to] + bone], steps[source[to], bone]
            for k in range(3):
                at[k] = held[k] / place_steps
            for k in range(2):
                both = held[3 + k]
                at[3 + 2 * k], at[4 + 2 * k] = np.int16(both & 0xFFFF) / turn_steps, (both >> 16) / turn_steps
    return ends, who, starts, poses
