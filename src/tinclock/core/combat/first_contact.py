"""Return the first contact of a projectile, for games that use the history and the sweep without a referee."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.combat.projectile_motion import NO_LEVEL, row_of, three
from tinclock.core.errors import BadNumberError
from tinclock.core.kernels import sweep, trajectory

if TYPE_CHECKING:
    from tinclock.core.combat.motion import Motion
    from tinclock.core.geometry.level import Level
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.vectors import Triple


class FirstContact(NamedTuple):
    """Contact of a projectile with a body's part, or with entity 0 a surface of the level."""

    server_time: float
    position: Triple
    entity: int
    part: str
    surface: str


def first_contact(
    history: PoseHistory, motion: Motion, start: float, position: Triple, velocity: Triple, until: float, *,
    level: Level | None = None, range_m: float = math.inf, ignore: int = 0,
) -> FirstContact | None:  # fmt: skip
    """The first thing met by what flies, swept through the recorded poses as both move; None for nothing.

    start, until : server times, seconds; poses are read up to the newest tick
    position, velocity : at the start, metres and metres a second; range_m : how far it gets from there
    ignore : an entity that it passes, 0 for none

    Raises `BadNumberError` for numbers that aren't finite.
    """
    position, velocity = three("position", position), three("velocity", velocity)
    if not (math.isfinite(start) and math.isfinite(until)):
        raise BadNumberError("start, until", "finite numbers of seconds", (start, until))
    row = np.array([row_of(motion, float(start), position, velocity, float(until), float(range_m))])
    trajectory.start_leg(row[0], float(start), position, velocity, (math.nan, math.nan, math.nan))
    times, slots, _ = history.ticks()
    columns, one = history.columns, np.zeros(1, np.int64)
    ignored = np.zeros((1, sweep.IGNORED), np.int64)
    kinds, at, column, part = np.zeros(1, np.int64), np.zeros(1), np.zeros(1, np.int64), np.zeros(1, np.int64)
    owner, nobody = columns.lookup[np.array([ignore])], columns.lookup[one]
    sweep.fly(
        (row, owner, nobody, columns.lookup[ignored]), one, min(float(until), history.newest_time), (times, slots),
        columns.stored, NO_LEVEL if level is None else level.packed, level is not None, (kinds, at, column, part),
    )  # fmt: skip
    found: Triple = trajectory.position_at(row[0], float(at[0]))
    if kinds[0] == sweep.BODY:
        entity, _, hit = columns.named(int(column[0]), int(part[0]))
        return FirstContact(float(at[0]), found, entity, hit.name, "")
    if kinds[0] == sweep.LEVEL and level is not None:
        return FirstContact(float(at[0]), found, 0, "", level.surface_of(int(column[0])).name)
    return None
