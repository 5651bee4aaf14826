"""Kernels: rays and balls through moving cover, which are the bodies of the history that only stand in the way.

`stored` and `view` are explained in `poses`, a `ray` in `cast`. There are few such bodies, so every part of each is
tried.
"""

from __future__ import annotations

import numpy as np

from tinclock.core.kernels.cast import ray_part, vehicle_of
from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import COVER_COUNT, COVERS_AT, ENTITY, PART_BONE, PART_BYTES, PARTS_AT
from tinclock.core.kernels.memory import float64_at, int64_at
from tinclock.core.kernels.poses import blended, body_of, bone_between, turn_between
from tinclock.core.kernels.triangles import first_triangle_alone

INF = np.inf


@njit(cache=True, error_model="numpy")
def covers_along(ray, radius, limit, view, ignore, stored, columns, rows, spans):
    """Every part of moving cover that a ball meets within a way, unordered. Returns how many there are.

    radius, limit : metres; ignore : a column to leave out with its vehicle, -1 for none
    columns, rows : (n,) int64, whose part and which row of the table; spans : (n, 2) float64, metres along the way

    Where there are more than n, only n are written; the caller comes again with longer arrays.
    """
    ox, oy, oz, dx, dy, dz = ray
    header = stored[0]
    found, vehicle = 0, vehicle_of(header, ignore)
    members = int64_at(header[COVERS_AT])
    for k in range(header[COVER_COUNT]):
        column = members[k]
        if (column == ignore) | (column == vehicle):
            continue
        there, f, ka, kb, cx, cy, cz = blended(stored, view, column)
        if not there:
            continue
        middle = (cx - ox, cy - oy, cz - oz)
        body = body_of(header, column)
        _, first, first_part, parts, _ = body
        for row in range(first_part, first_part + parts):
            part = float64_at(header[PARTS_AT] + PART_BYTES * row)
            number = int(part[PART_BONE])
            px, py, pz = bone_between(stored, view, body, number, ka, kb, middle)
            qx, qy, qz, qw = turn_between(stored, view, first + number, f)
            enter, leave = ray_part((dx, dy, dz), (px, py, pz, qx, qy, qz, qw), radius, part)
            if enter <= limit and enter < INF:
                if found < columns.shape[0]:
                    columns[found], rows[found], spans[found, 0], spans[found, 1] = column, row, enter, leave
                found += 1
    return found


@inner
def nearest_cover(ray, radius, limit, view, ignore, stored):
    """The first moving cover that a ball meets within `limit` metres: (column, distance), metres; column -1 for none.

    ignore : a column to leave out, -1 for none. Of two at the same distance the one with the lower id is first.
    """
    header, room = stored[0], 16
    if header[COVER_COUNT] == 0:
        return -1, limit
    columns, rows, spans = np.empty(room, np.int64), np.empty(room, np.int64), np.empty((room, 2))
    met = covers_along(ray, radius, limit, view, ignore, stored, columns, rows, spans)
    if met > room:
        columns, rows, spans = np.empty(met, np.int64), np.empty(met, np.int64), np.empty((met, 2))
        covers_along(ray, radius, limit, view, ignore, stored, columns, rows, spans)
    best, nearest = -1, limit
    for k in range(met):
        enter, column = spans[k, 0], columns[k]
        if (
            best < 0
            or enter < nearest
            or (enter == nearest and body_of(header, column)[ENTITY] < body_of(header, best)[ENTITY])
        ):
            best, nearest = column, enter
    return best, nearest


@inner
def first_in_the_way(ray, radius, limit, view, ignore, stored, level, has_level, middle):
    """The first thing in the way of a ball within `limit` metres: (what, distance), metres.

    what : the level's row, or -2 less the column of moving cover; -1 for a clear way
    ignore : a column to leave out, -1 for none; level, middle : the level's header and middle, see `cast.first_on_path`
    """
    ox, oy, oz, dx, dy, dz = ray
    what, nearest = -1, limit
    if has_level:
        start = (ox - middle[0], oy - middle[1], oz - middle[2], dx, dy, dz)
        wall, distance, _ = first_triangle_alone(start, radius, limit, level)
        if wall >= 0:
            what, nearest = wall, distance
    door, near = nearest_cover(ray, radius, nearest, view, ignore, stored)
    if door >= 0 and (what < 0 or near < nearest):
        return -2 - door, near
    return what, nearest
