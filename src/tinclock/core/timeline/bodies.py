"""Questions about single bodies in the history: where they look, how fast they go, what a blow reaches."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.kernels import poses, reach
from tinclock.core.kernels.layout import COLUMN_COUNT

if TYPE_CHECKING:
    from tinclock.core.geometry.rig import Part
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.vectors import Triple

SPEED_OVER_S = 0.05
"""Seconds that a speed is measured over."""


class ReachedHitbox(NamedTuple):
    """A hitbox that a blow reaches: whose, which, how far its nearest point is from the eye, and that point."""

    entity: int
    part: Part
    distance_m: float
    position: Triple


def speed_now(history: PoseHistory, entity: int) -> float:
    """Return the speed of the entity's first bone, in m/s, over about 50 ms; 0 when it was absent meanwhile."""
    columns = history.columns
    column = columns.of(entity)
    late = early = (0.0, -1)
    for at, slot in history.ticks_back():
        late = (at, slot) if late[1] < 0 else late
        early = (at, slot)
        if late[0] - at >= SPEED_OVER_S:
            break
    if column < 0 or late[0] <= early[0]:
        return 0.0
    if history.epoch_in(entity, late[1]) != history.epoch_in(entity, early[1]):
        return 0.0
    a, b = (
        poses.point_on_bone(column, 0, (0.0, 0.0, 0.0), (slot, slot, 0.0), columns.stored)
        for slot in (early[1], late[1])
    )
    return math.dist(a[1:], b[1:]) / (late[0] - early[0]) if a[0] and b[0] else 0.0


def facing_at(history: PoseHistory, entity: int, slots: tuple[int, int], fraction: float) -> Triple | None:
    """Return the direction of the entity's eye (its bone's +x axis) at a view; None when it is absent."""
    columns = history.columns
    column = columns.of(entity)
    if column < 0:
        return None
    bone = columns.rig_at(column).eye_bone
    x, y, z = reach.facing_of(bone, (*slots, fraction), column, columns.stored)
    return None if x == y == z == 0.0 else (x, y, z)


def parts_in_reach(
    history: PoseHistory,
    origin: Triple,
    direction: Triple,
    slots: tuple[int, int],
    fraction: float,
    *,
    reach_m: float,
    radius_m: float,
    cone_rad: float,
    ignore: int,
) -> list[ReachedHitbox]:
    """Return the parts in a blow's reach at a view, one per entity, nearest first, then by id (see `reach`)."""
    columns = history.columns
    count = int(columns.header[COLUMN_COUNT])
    rows, out = np.empty(count, np.int64), np.empty((count, 4))
    reach.melee_targets(
        (*origin, *direction), reach_m, radius_m, math.cos(cone_rad) if cone_rad > 0.0 else 1.0, (*slots, fraction),
        columns.of(ignore), columns.stored, rows, out,
    )  # fmt: skip
    found = []
    for column in np.flatnonzero(rows >= 0).tolist():
        entity, _, part = columns.named(column, int(rows[column]))
        distance, x, y, z = out[column].tolist()
        found.append(ReachedHitbox(entity, part, distance, (x, y, z)))
    return sorted(found, key=lambda one: (one.distance_m, one.entity))
