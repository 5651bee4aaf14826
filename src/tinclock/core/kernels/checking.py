"""Kernel: a claim's checks in their order, until one rejects it, and the first thing in the way of its ray.

The order is the caller's: numbers of registered checks, as `ruling.procedures` lists them. A number below 0 is a check
of Python's, which has to be asked; so does a compiled one that returns `ASK`.
"""

from __future__ import annotations

import importlib
import math
import pkgutil

from numba import carray

from tinclock.core.kernels import checks
from tinclock.core.kernels.call_rows import CALL, CALL_BYTES, MOMENT, WHO, WORLD
from tinclock.core.kernels.cast import first_on_path_in, first_part
from tinclock.core.kernels.checks.muzzle import view_of
from tinclock.core.kernels.committing import refuse_plain
from tinclock.core.kernels.compiling import inner, njit, opened
from tinclock.core.kernels.dtypes import (
    OK,
    REJECTED,
    STEPS_FROM,
    body_row,
    claim_row,
    found_row,
    held_row,
    line_row,
    moved_row,
    rules_row,
    weapon_row,
)
from tinclock.core.kernels.facts import ASK, NOTHING, Facts, late_on, level_of, stored_of
from tinclock.core.kernels.layout import COLUMN_COUNT, MAX_BONES, PART_COUNT
from tinclock.core.kernels.memory import float32_at, float64_at, int32_at, int64_at
from tinclock.core.kernels.registry import check, runner
from tinclock.core.kernels.triangles import STACK, WIDTH


@inner
def _scratch_of(f):
    """The match's own scratch arrays for `first_part`, see there; nothing in them has a unit."""
    at, header = int64_at(f.scratch), stored_of(f)[0]
    return (
        carray(float32_at(at[0]), (header[COLUMN_COUNT],)),
        carray(int32_at(at[1]), (header[COLUMN_COUNT] + 1,)),
        carray(float32_at(at[2]), (header[MAX_BONES],)),
        carray(int32_at(at[3]), (header[PART_COUNT] + 1,)),
    )


@inner
def _tree_scratch_of(f):
    """The match's own scratch arrays for `first_triangle`, see there; nothing in them has a unit."""
    at = int64_at(f.scratch)
    return (
        carray(int32_at(at[4]), (STACK,)),
        carray(float32_at(at[5]), (STACK,)),
        carray(float32_at(at[6]), (WIDTH,)),
        carray(int32_at(at[7]), (WIDTH + 1,)),
    )


@check
def look_along_aim(f):
    """Look along the ray of a shot that goes where it is aimed; metres."""
    if not f.weapon.is_plain:
        return NOTHING
    if f.found.starts_at_eye:
        ox, oy, oz = f.found.eye_x, f.found.eye_y, f.found.eye_z
    else:
        ox, oy, oz = f.claim.origin_x, f.claim.origin_y, f.claim.origin_z
    ray = (ox, oy, oz, f.found.direction_x, f.found.direction_y, f.found.direction_z)
    limit, depth = f.weapon.range_m, f.rules.zone_depth_m
    scratch = _scratch_of(f)
    if f.has_level:
        wall, distance, facing, column, row, enter, leave = first_on_path_in(
            ray, limit, view_of(f), f.column, depth, stored_of(f), level_of(f), f.middle, scratch, _tree_scratch_of(f)
        )
        f.found.wall, f.found.wall_m, f.found.facing = wall, distance, facing
    else:
        column, row, enter, leave = first_part(ray, 0.0, limit, view_of(f), f.column, depth, stored_of(f), scratch)
        f.found.wall = -1.0
    f.found.column, f.found.part, f.found.enter_m, f.found.leave_m = (
        column,
        row,
        enter,
        leave,
    )
    f.found.is_cast = 1.0
    return NOTHING


for _module in pkgutil.iter_modules(checks.__path__):
    importlib.import_module(f"{checks.__name__}.{_module.name}")
_run = runner()


@inner
def _limits_of(body, line, rules, now):
    """Return the limits of a body's movement: of its stance, or of a faster one that it left lately."""
    limits = rules_row(int(body.limits))
    if body.limits_before != 0.0 and body.stance_since > now - late_on(line, rules):
        before = rules_row(int(body.limits_before))
        if before.speed_m_s > limits.speed_m_s:
            return before
    return limits


@opened
def facts_of(call):
    """The facts of a claim, from the addresses that a call takes. No unit."""
    world, who, claim = int64_at(call[CALL.world]), int64_at(call[CALL.who]), claim_row(call[CALL.claim])
    moments, middle = int64_at(world[WORLD.moments]), float64_at(world[WORLD.level_middle])
    line, body, rules = line_row(who[WHO.line]), body_row(who[WHO.body]), rules_row(world[WORLD.rules])
    return Facts(
        claim, line, body, held_row(who[WHO.held]),
        who[WHO.held] != 0,
        weapon_row(who[WHO.weapon]), moved_row(who[WHO.moved]), who[WHO.moved] != 0, float64_at(who[WHO.said]),
        rules, _limits_of(body, line, rules, claim.received_at), found_row(call[CALL.found]),
        float64_at(world[WORLD.actions]), claim.received_at,
        float64_at(moments[MOMENT.snapshots]), moments[MOMENT.snapshot_count],
        float64_at(moments[MOMENT.ticks]), moments[MOMENT.tick_count], who[WHO.column],
        moments[MOMENT.header], float64_at(world[WORLD.quantum])[0],
        world[WORLD.level], world[WORLD.has_level] != 0,
        (middle[0], middle[1], middle[2]), world[WORLD.bodies],
        world[WORLD.passable_rows], world[WORLD.scratch], int64_at(moments[MOMENT.cuts]),
    )  # fmt: skip


@inner
def _check(call_at, begin):
    """Run the checks of a call's order from a place on: the place of the first that asks Python, else their number.

    call_at : address of a row of `CALL`. What they saw and worked out stands in the row of what was found, the verdict
    at the step that it belongs to. No unit.
    """
    call = int64_at(call_at)
    f, count = facts_of(call), call[CALL.checks]
    if begin == 0:
        numbers = float64_at(call[CALL.found])
        for place in range(STEPS_FROM):
            numbers[place] = 0.0
        f.found.view_time = f.found.direction_x = f.found.eye_x = math.nan
        f.found.charge, f.found.blocker = 1.0, -1.0
    order = int64_at(call[CALL.order])
    for place in range(begin, count):
        which = order[place]
        if which < 0:
            return place
        code = _run(f, which)
        if code == ASK:
            return place
        if code >= 0 and f.actions[code] != OK:
            action = f.actions[code]
            last = int(f.found.steps) - 1
            f.found.step_rows[last].verdict = action
            if action == REJECTED:
                f.found.rejected = 1.0
                if call[CALL.plain] and not f.found.asked:
                    refuse_plain(f)
                return count
    return count


@njit(cache=True, error_model="numpy")
def check_claims(calls_at, begin, count, place):
    """Put rows begin..count of `CALL` through their checks in turn, until one is Python's. Returns which; no unit.

    place : of the check at which the first of them goes on, 0 for one that begins. How far the last one got stands in
    what was found. One claim is a row of its own.
    """
    for row in range(begin, count):
        call_at = calls_at + CALL_BYTES * row
        reached = _check(call_at, place if row == begin else 0)
        found = found_row(int64_at(call_at)[CALL.found])
        found.place = reached
        if found.became == 0.0:
            return row
    return count
