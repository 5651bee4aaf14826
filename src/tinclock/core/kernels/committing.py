"""Kernel: what a shot does that passed its checks, in the cases that come all the time; and what a refusal leaves.

One ray, cast already, of a weapon whose shots go straight, that ends at the first thing it meets, and it is ruled from
where and at the view that it says. All else is left to Python, untouched.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.damage import do_damage, is_covered, lived_then, points_at, zone_factor_of
from tinclock.core.kernels.dtypes import OWN, body_row
from tinclock.core.kernels.facts import FINDING, NOTHING, stored_of
from tinclock.core.kernels.hearing import count_still
from tinclock.core.kernels.memory import int16_at, int64_at
from tinclock.core.kernels.registry import check
from tinclock.core.kernels.spending import ready_at, rounds_at, settle, spend

LEFT_ALONE, MISSED, AT_LEVEL, AT_COVER, HIT = 0.0, 1.0, 2.0, 3.0, 4.0
"""Result of a shot: left to Python, met nothing, ended at the level or at moving cover, or hit a body."""
ACCEPTED = 5.0
"""Result of an accepted move report."""
REFUSED = 6.0
"""Result of a claim that a check rejected."""


@inner
def _may_pass(f):
    """True if the shot may pass through what comes first on its way, or starts inside it. No unit."""
    out, column, wall = f.found, int(f.found.column), int(f.found.wall)
    if f.weapon.penetration == 0.0:
        return False
    if wall >= 0 and out.facing > 0.0:
        return True
    if column >= 0:
        return body_row(int64_at(f.bodies)[column]).passable != 0.0
    return wall >= 0 and f.passable_rows != 0 and int16_at(f.passable_rows)[wall] != 0


@inner
def tell_standing(f):
    """Put down how the actor stands now: rounds, points, and seconds until its weapon fires."""
    out = f.found
    if f.is_armed:
        out.shot, out.ready_in_s = f.held.shots, ready_at(f.held, f.weapon) - f.now
        out.magazine, out.reserve = rounds_at(f.held, f.weapon, f.now)
    out.health, out.armour = f.body.health, f.body.armour
    out.last, out.at_x = f.line.highest_sequence, math.nan
    if f.is_put:
        out.at_x, out.at_y, out.at_z = f.moved.x, f.moved.y, f.moved.z


@inner
def _do_damage(f, victim, column):
    """Apply the hit of a cast ray to a victim; what it comes to stands in what was found. Points."""
    out, row = f.found, int(f.found.part)
    points = points_at(f.weapon, zone_factor_of(f.weapon, row), out.enter_m, out.charge)
    epoch, late = victim.life_epoch, out.fraction >= 1.0
    slot = int(out.to_slot if late else out.from_slot)
    lived = epoch <= 1.0 or lived_then(stored_of(f)[0], f.cuts, column, slot, epoch)
    bare = 0.0 if is_covered(f.rules, victim, row) else points
    own_bare = 0.0 if is_covered(f.rules, f.body, row) else points
    (
        out.why, out.amount, out.before, out.after, out.armour_before,
        out.armour_after, out.own_before, out.own_after, out.own_armour_before,
        out.own_armour_after,
    ) = do_damage(f.rules, f.weapon, f.body, True, victim, lived, points, bare, own_bare, f.now)  # fmt: skip


@check
def commit_usual(f):
    """Commit a shot that was cast, if it is a usual one; what became of it stands in what was found. Points, metres."""
    out = f.found
    if not (
        out.is_cast
        and not out.named
        and not out.starts_at_eye
        and not out.asked
        and f.claim.sender == OWN
        and not out.posthumous
        and f.weapon.is_usual
        and not f.weapon.has_costs
        and not f.body.shield_until > f.now  # firing ends it, and everybody is told
        and not _may_pass(f)
    ):
        return NOTHING
    column, became = int(out.column), MISSED
    if out.wall >= 0.0:
        became, out.reached_m = AT_LEVEL, out.wall_m
    else:
        out.reached_m = f.weapon.range_m
    if column >= 0:
        victim = body_row(int64_at(f.bodies)[column])
        out.reached_m = out.enter_m
        became = AT_COVER
        if not victim.blocks_only:
            became = HIT
            _do_damage(f, victim, column)
    out.became = became
    settle(f.held, f.weapon, f.now + f.found.early_s)
    spend(f.held, f.weapon, f.now, out.charge)
    f.held.shots += 1.0
    f.body.shots += 1.0
    f.line.newest_view_time = max(f.line.newest_view_time, out.view_time)
    f.line.highest_sequence = max(f.line.highest_sequence, f.claim.sequence)
    if f.claim.has_view:
        count_still(f.line, f.claim.from_tick == f.claim.to_tick or f.claim.fraction >= 1.0)
    tell_standing(f)
    return NOTHING


@inner
def refuse_plain(f):
    """Count the number of a claim that was rejected, where it counts, and put down how its actor stands. No unit."""
    first = int(f.found.finding_rows[0].code)
    if first != FINDING.stale_sequence and first != FINDING.skipped_sequence:  # `procedures.NOT_COUNTED`
        f.line.highest_sequence = max(f.line.highest_sequence, f.claim.sequence)
    f.found.became = REFUSED
    tell_standing(f)
