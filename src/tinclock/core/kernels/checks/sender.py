"""Checks of a claim's sender: its number, its form, its connection, and a living actor."""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.dtypes import FOREIGN
from tinclock.core.kernels.facts import ASK, FINDING, MEASURE, NO_NUMBER, NOTHING, found, measured, stored_of
from tinclock.core.kernels.moments import TICK_FIELDS, TICK_SLOT
from tinclock.core.kernels.poses import point_on_bone
from tinclock.core.kernels.registry import check
from tinclock.core.tolerances import TOLERANCES

REMEMBERED = 128
"""Number of a connection's claims that are kept to answer repeats."""
FURTHEST_SKIP = 4096
FARTHEST_M = 1e7
"""No place or direction of a client's is larger."""
_LENGTH = TOLERANCES.direction_length


@check
def check_sequence(f):
    """Find `stale_sequence` for one that is no longer remembered, `skipped_sequence` for a leap ahead. No unit."""
    given, highest = f.claim.sequence, f.line.highest_sequence
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
    x, y, z = abs(claim.origin_x), abs(claim.origin_y), abs(claim.origin_z)
    if not (x <= FARTHEST_M and y <= FARTHEST_M and z <= FARTHEST_M and abs(claim.fraction) <= FARTHEST_M):
        return False
    x, y, z = abs(claim.direction_x), abs(claim.direction_y), abs(claim.direction_z)
    return x <= FARTHEST_M and y <= FARTHEST_M and z <= FARTHEST_M


@check
def check_fields(f):
    """Ask about a claim whose fields aren't what they must be. No unit."""
    if not f.claim.is_well_formed or not _is_near(f):
        return ASK
    f.found.formed = 1.0
    measured(f, MEASURE.fields, NO_NUMBER, NO_NUMBER)
    return NOTHING


@check
def check_form(f):
    """`check_fields` for a claim with an aim: find `direction_not_unit`; works out the direction, of unit length."""
    if not f.claim.is_well_formed or not _is_near(f):
        return ASK
    f.found.formed = 1.0
    x, y, z = f.claim.direction_x, f.claim.direction_y, f.claim.direction_z
    length = math.sqrt(x * x + y * y + z * z)
    measured(f, MEASURE.form, length, 1.0)
    if not abs(length - 1.0) <= _LENGTH:
        return found(f, FINDING.direction_not_unit, length, 1.0)
    f.found.direction_x, f.found.direction_y, f.found.direction_z = (
        x / length,
        y / length,
        z / length,
    )
    return NOTHING


@check
def check_sender(f):
    """Find `wrong_actor` where a claim names one that its connection doesn't act for. No unit.

    Whether a change of control allows the claim is `check_tenure`'s, once the view is known.
    """
    f.found.sent = 1.0
    measured(f, MEASURE.sender, f.claim.actor, NO_NUMBER)
    if f.claim.sender == FOREIGN:
        return found(f, FINDING.wrong_actor, NO_NUMBER, NO_NUMBER)
    return NOTHING


@check
def check_phase(f):
    """Find `not_in_phase` for a weapon or an item in a phase without them. No unit."""
    if not f.rules.weapons_closed:
        return NOTHING
    measured(f, MEASURE.phase, NO_NUMBER, NO_NUMBER)
    return found(f, FINDING.not_in_phase, NO_NUMBER, NO_NUMBER)


@check
def check_tenure(f):
    """Ask where control of the actor changed hands. No unit."""
    return NOTHING if f.body.tenures == 0.0 else ASK


@check
def check_alive(f):
    """Find `dead_actor`. No unit."""
    if f.body.dead:
        measured(f, MEASURE.actor_dead, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.dead_actor, NO_NUMBER, NO_NUMBER)
    measured(f, MEASURE.actor_alive, NO_NUMBER, NO_NUMBER)
    return NOTHING


@inner
def eye_in(f, place):
    """The actor's eye in a tick that is held, by its place: (there, x, y, z), metres."""
    eye = (f.body.eye_x, f.body.eye_y, f.body.eye_z)
    slot = int(f.ticks[TICK_FIELDS * place + TICK_SLOT])
    return point_on_bone(f.column, int(f.body.eye_bone), eye, (slot, slot, 0.0), stored_of(f))


@check
def check_actor(f):
    """Find `dead_actor` or `actor_missing`; works out the actor's eye as the server has it now, metres.

    Inside the trade window a dead one's eye is where it was last; `check_trade` then looks at the view.
    """
    posthumous = f.body.dead != 0.0
    if posthumous:
        window, since = f.rules.trade_window_s, f.now - f.body.died_at
        measured(f, MEASURE.dead_for, since, window)
        if since >= window:
            return found(f, FINDING.dead_actor, since, window)
        f.found.posthumous = 1.0
    there, x, y, z = False, 0.0, 0.0, 0.0
    if f.column >= 0 and f.body.has_eye and f.tick_count > 0:
        last = f.tick_count - 1
        there, x, y, z = eye_in(f, last)
        while posthumous and not there and last > 0:
            last -= 1
            there, x, y, z = eye_in(f, last)
    if not there:
        measured(f, MEASURE.actor_absent, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.actor_missing, NO_NUMBER, NO_NUMBER)
    f.found.eye_x, f.found.eye_y, f.found.eye_z = x, y, z
    if not posthumous:
        measured(f, MEASURE.actor_alive, NO_NUMBER, NO_NUMBER)
    return NOTHING


@check
def check_trade(f):
    """Find `dead_actor` for one that died on its own screen before it acted; seconds."""
    if not f.found.posthumous:
        return NOTHING
    lead = f.body.died_at - f.found.view_time
    measured(f, MEASURE.seen_before_its_death_by, lead, 0.0)
    return NOTHING if lead >= 0.0 else found(f, FINDING.dead_actor, -lead, 0.0)
