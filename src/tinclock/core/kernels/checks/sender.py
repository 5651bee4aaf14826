"""Checks of a claim's sender: its number, its form, its connection, and a living actor."""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.facts import ASK, FINDING, MEASURE, NO_NUMBER, NOTHING, found, measured, stored_of
from tinclock.core.kernels.moments import TICK_FIELDS, TICK_SLOT
from tinclock.core.kernels.poses import point_on_bone
from tinclock.core.kernels.rows import BODY, CLAIM, FOREIGN, FOUND, LINE, RULES
from tinclock.core.tolerances import TOLERANCES

REMEMBERED = 128
"""So many claims of a connection are remembered, to answer repeats."""
FURTHEST_SKIP = 4096
FARTHEST_M = 1e7
"""No place or direction of a client's is larger."""
_LENGTH = TOLERANCES.direction_length


@inner
def check_sequence(f):
    """Find `stale_sequence` for one that is no longer remembered, `skipped_sequence` for a leap ahead. No unit."""
    given, highest = f.claim[CLAIM.sequence], f.line[LINE.highest_sequence]
    measured(f, MEASURE.sequence, given, highest + 1.0)
    if given <= max(0.0, highest - REMEMBERED):
        return found(f, FINDING.stale_sequence, given, max(1.0, highest - REMEMBERED + 1.0))
    if given > highest + FURTHEST_SKIP:
        return found(f, FINDING.skipped_sequence, given, highest + FURTHEST_SKIP)
    return NOTHING


@inner
def _is_near(f):
    """True if no number of a claim is larger than anything in a match, or NaN; metres."""
    claim = f.claim
    near = abs(claim[CLAIM.fraction]) <= FARTHEST_M
    for place in range(CLAIM.origin_x, CLAIM.direction_z + 1):
        near &= abs(claim[place]) <= FARTHEST_M
    return near


@inner
def check_fields(f):
    """Ask about a claim whose fields aren't what they must be. No unit."""
    if not f.claim[CLAIM.is_well_formed] or not _is_near(f):
        return ASK
    f.found[FOUND.formed] = 1.0
    measured(f, MEASURE.fields, NO_NUMBER, NO_NUMBER)
    return NOTHING


@inner
def check_form(f):
    """`check_fields` for a claim with an aim: find `direction_not_unit`; works out the direction, of unit length."""
    if not f.claim[CLAIM.is_well_formed] or not _is_near(f):
        return ASK
    f.found[FOUND.formed] = 1.0
    x, y, z = f.claim[CLAIM.direction_x], f.claim[CLAIM.direction_y], f.claim[CLAIM.direction_z]
    length = math.sqrt(x * x + y * y + z * z)
    measured(f, MEASURE.form, length, 1.0)
    if not abs(length - 1.0) <= _LENGTH:
        return found(f, FINDING.direction_not_unit, length, 1.0)
    f.found[FOUND.direction_x], f.found[FOUND.direction_y], f.found[FOUND.direction_z] = (
        x / length,
        y / length,
        z / length,
    )
    return NOTHING


@inner
def check_sender(f):
    """Find `foreign_actor` where a claim names one that its connection doesn't act for. No unit.

    Whether a change of control allows the claim is `check_tenure`'s, once the view is known.
    """
    f.found[FOUND.sent] = 1.0
    measured(f, MEASURE.sender, f.claim[CLAIM.actor], NO_NUMBER)
    if f.claim[CLAIM.sender] == FOREIGN:
        return found(f, FINDING.foreign_actor, NO_NUMBER, NO_NUMBER)
    return NOTHING


@inner
def check_tenure(f):
    """Ask where control of the actor changed hands. No unit."""
    return NOTHING if f.body[BODY.tenures] == 0.0 else ASK


@inner
def check_alive(f):
    """Find `dead_actor`. No unit."""
    if f.body[BODY.dead]:
        measured(f, MEASURE.actor_dead, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.dead_actor, NO_NUMBER, NO_NUMBER)
    measured(f, MEASURE.actor_alive, NO_NUMBER, NO_NUMBER)
    return NOTHING


@inner
def eye_in(f, place):
    """The actor's eye in a tick that is held, by its place: (there, x, y, z), metres."""
    eye = (f.body[BODY.eye_x], f.body[BODY.eye_y], f.body[BODY.eye_z])
    slot = int(f.ticks[TICK_FIELDS * place + TICK_SLOT])
    return point_on_bone(f.column, int(f.body[BODY.eye_bone]), eye, slot, stored_of(f))


@inner
def check_actor(f):
    """Find `dead_actor` or `absent_actor`; works out the actor's eye as the server has it now, metres.

    Inside the trade window a dead one's eye is where it was last; `check_trade` then looks at the view.
    """
    posthumous = f.body[BODY.dead] != 0.0
    if posthumous:
        window, since = f.rules[RULES.trade_window_s], f.now - f.body[BODY.died_at]
        measured(f, MEASURE.dead_for, since, window)
        if since >= window:
            return found(f, FINDING.dead_actor, since, window)
        f.found[FOUND.posthumous] = 1.0
    there, x, y, z = False, 0.0, 0.0, 0.0
    if f.column >= 0 and f.body[BODY.has_eye] and f.tick_count > 0:
        last = f.tick_count - 1
        there, x, y, z = eye_in(f, last)
        while posthumous and not there and last > 0:
            last -= 1
            there, x, y, z = eye_in(f, last)
    if not there:
        measured(f, MEASURE.actor_absent, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.absent_actor, NO_NUMBER, NO_NUMBER)
    f.found[FOUND.eye_x], f.found[FOUND.eye_y], f.found[FOUND.eye_z] = x, y, z
    if not posthumous:
        measured(f, MEASURE.actor_alive, NO_NUMBER, NO_NUMBER)
    return NOTHING


@inner
def check_trade(f):
    """Find `dead_actor` for one that died on its own screen before it acted; seconds."""
    if not f.found[FOUND.posthumous]:
        return NOTHING
    lead = f.body[BODY.died_at] - f.found[FOUND.view_time]
    measured(f, MEASURE.seen_before_its_death_by, lead, 0.0)
    return NOTHING if lead >= 0.0 else found(f, FINDING.dead_actor, -lead, 0.0)
