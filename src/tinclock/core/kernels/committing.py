"""Kernel: what a shot does that passed its checks, in the cases that come all the time; and what a refusal leaves.

One ray, cast already, of a weapon whose shots go straight, that ends at the first thing it meets, and it is ruled from
where and at the view that it says. All else is left to Python, untouched.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.damage import do_damage, is_covered, lived_then, points_at, zone_factor_of
from tinclock.core.kernels.facts import FINDING, NOTHING, stored_of
from tinclock.core.kernels.hearing import count_still
from tinclock.core.kernels.memory import float64_at, int16_at, int64_at
from tinclock.core.kernels.rows import (
    BODY,
    CLAIM,
    CODE,
    FINDINGS_FROM,
    FOUND,
    HELD,
    LINE,
    MOVED,
    OWN,
    WEAPON,
)
from tinclock.core.kernels.spending import ready_at, rounds_at, settle, spend

LEFT_ALONE, MISSED, AT_LEVEL, AT_COVER, HIT = 0.0, 1.0, 2.0, 3.0, 4.0
"""What became of it: it is Python's, it met nothing, it ended at the level or at moving cover, or it hurt somebody."""
ACCEPTED = 5.0
"""What became of a move report."""
REFUSED = 6.0
"""What became of a claim that a check denied."""


@inner
def _may_pass(f):
    """True if the shot may pass through what comes first on its way, or starts inside it. No unit."""
    out, column, wall = f.found, int(f.found[FOUND.column]), int(f.found[FOUND.wall])
    if f.weapon[WEAPON.penetration] == 0.0:
        return False
    if wall >= 0 and out[FOUND.facing] > 0.0:
        return True
    if column >= 0:
        return float64_at(int64_at(f.bodies)[column])[BODY.passable] != 0.0
    return wall >= 0 and f.passable_rows != 0 and int16_at(f.passable_rows)[wall] != 0


@inner
def tell_standing(f):
    """Put down how the actor stands now: rounds, points, and seconds until its weapon fires."""
    out = f.found
    if f.is_armed:
        out[FOUND.shot], out[FOUND.ready_in_s] = f.held[HELD.shots], ready_at(f.held, f.weapon) - f.now
        out[FOUND.magazine], out[FOUND.reserve] = rounds_at(f.held, f.weapon, f.now)
    out[FOUND.health], out[FOUND.armour] = f.body[BODY.health], f.body[BODY.armour]
    out[FOUND.last], out[FOUND.at_x] = f.line[LINE.highest_sequence], math.nan
    if f.is_put:
        out[FOUND.at_x], out[FOUND.at_y], out[FOUND.at_z] = f.moved[MOVED.x], f.moved[MOVED.y], f.moved[MOVED.z]


@inner
def _do_damage(f, victim, column):
    """Apply the hit of a cast ray to a victim; what it comes to stands in what was found. Points."""
    out, row = f.found, int(f.found[FOUND.part])
    points = points_at(f.weapon, zone_factor_of(f.weapon, row), out[FOUND.enter_m], out[FOUND.charge])
    epoch, late = victim[BODY.life_epoch], out[FOUND.fraction] >= 1.0
    slot = int(out[FOUND.to_slot if late else FOUND.from_slot])
    lived = epoch <= 1.0 or lived_then(stored_of(f)[0], f.cuts, column, slot, epoch)
    bare = 0.0 if is_covered(f.rules, victim, row) else points
    own_bare = 0.0 if is_covered(f.rules, f.body, row) else points
    (
        out[FOUND.why], out[FOUND.amount], out[FOUND.before], out[FOUND.after], out[FOUND.armour_before],
        out[FOUND.armour_after], out[FOUND.own_before], out[FOUND.own_after], out[FOUND.own_armour_before],
        out[FOUND.own_armour_after],
    ) = do_damage(f.rules, f.weapon, f.body, True, victim, lived, points, bare, own_bare, f.now)  # fmt: skip


@inner
def commit_usual(f):
    """Commit a shot that was cast, if it is a usual one; what became of it stands in what was found. Points, metres."""
    out = f.found
    if not (
        out[FOUND.is_cast]
        and not out[FOUND.named]
        and not out[FOUND.starts_at_eye]
        and not out[FOUND.asked]
        and f.claim[CLAIM.sender] == OWN
        and not out[FOUND.posthumous]
        and f.weapon[WEAPON.is_usual]
        and not f.body[BODY.shield_until] > f.now  # firing ends it, and everybody is told
        and not _may_pass(f)
    ):
        return NOTHING
    column, became = int(out[FOUND.column]), MISSED
    if out[FOUND.wall] >= 0.0:
        became, out[FOUND.reached_m] = AT_LEVEL, out[FOUND.wall_m]
    else:
        out[FOUND.reached_m] = f.weapon[WEAPON.range_m]
    if column >= 0:
        victim = float64_at(int64_at(f.bodies)[column])
        out[FOUND.reached_m] = out[FOUND.enter_m]
        became = AT_COVER
        if not victim[BODY.blocks_only]:
            became = HIT
            _do_damage(f, victim, column)
    out[FOUND.became] = became
    settle(f.held, f.weapon, f.now + f.found[FOUND.early_s])
    spend(f.held, f.weapon, f.now, out[FOUND.charge])
    f.held[HELD.shots] += 1.0
    f.line[LINE.newest_view_time] = max(f.line[LINE.newest_view_time], out[FOUND.view_time])
    f.line[LINE.highest_sequence] = max(f.line[LINE.highest_sequence], f.claim[CLAIM.sequence])
    if f.claim[CLAIM.has_view]:
        count_still(f.line, f.claim[CLAIM.from_tick] == f.claim[CLAIM.to_tick] or f.claim[CLAIM.fraction] >= 1.0)
    tell_standing(f)
    return NOTHING


@inner
def refuse_plain(f):
    """Count the number of a claim that was denied, where it counts, and put down how its actor stands. No unit."""
    first = int(f.found[FINDINGS_FROM + CODE])
    if first != FINDING.stale_sequence and first != FINDING.skipped_sequence:  # `procedures.NOT_COUNTED`
        f.line[LINE.highest_sequence] = max(f.line[LINE.highest_sequence], f.claim[CLAIM.sequence])
    f.found[FOUND.became] = REFUSED
    tell_standing(f)
