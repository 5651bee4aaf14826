"""Checks of the weapon: in hand, of the right kind, loaded, drawn, charged and ready. Seconds."""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.dtypes import (
    HITSCAN,
    IN_HAND,
    NOT_CARRIED,
    PELLETS,
    PROJECTILE,
    REACH,
    UNHEARD_OF,
)
from tinclock.core.kernels.facts import ASK, FINDING, MEASURE, NO_NUMBER, NOTHING, found, measured
from tinclock.core.kernels.hearing import ENOUGH_ANSWERS
from tinclock.core.kernels.moments import waits_for_tick
from tinclock.core.kernels.registry import check
from tinclock.core.kernels.spending import NEVER, charge_at, rounds_at

MIN_EARLY_S = 0.005
"""Time by which a shot may come too early on a line without jitter."""
UNKNOWN_EARLY_S = 0.05
"""The same on a line that has not answered enough pings yet."""


@check
def check_weapon(f):
    """Find `unknown_weapon`, `weapon_not_carried` or `weapon_not_held`: only the weapon in hand fires. No unit."""
    named = f.claim.weapon
    measured(f, MEASURE.weapon, NO_NUMBER, NO_NUMBER)
    f.found.armed = 1.0 if f.claim.holds_one else 0.0
    if named == IN_HAND:
        return NOTHING
    if named == UNHEARD_OF:
        return found(f, FINDING.unknown_weapon, NO_NUMBER, NO_NUMBER)
    return found(
        f, FINDING.weapon_not_carried if named == NOT_CARRIED else FINDING.weapon_not_held, NO_NUMBER, NO_NUMBER
    )


@inner
def _check_kind(f, fits):
    """Find `wrong_kind` for a weapon of another kind. No unit."""
    if fits:
        return NOTHING
    measured(f, MEASURE.kind_of_weapon, NO_NUMBER, NO_NUMBER)
    return found(f, FINDING.wrong_kind, NO_NUMBER, NO_NUMBER)


@check
def check_shoots(f):
    """Find `wrong_kind` for a shot with a weapon that reaches or launches. No unit."""
    kind = f.weapon.kind
    return _check_kind(f, kind in (HITSCAN, PELLETS))


@check
def check_launches(f):
    """Find `wrong_kind` for a launch with a weapon whose shots don't fly. No unit."""
    return _check_kind(f, f.weapon.kind == PROJECTILE)


@check
def check_fires(f):
    """Find `wrong_kind` for the trigger of a weapon that has none. No unit."""
    return _check_kind(f, f.weapon.kind != REACH)


@check
def check_reaches(f):
    """Find `wrong_kind` for a blow with a weapon that shoots. No unit."""
    return _check_kind(f, f.weapon.kind == REACH)


@inner
def _how_early(f):
    """Return how much sooner than it is ready a weapon may fire, seconds: as the line's jitter explains.

    The shot before may have come late by as much. A server that reads its socket once a tick adds a tick.
    """
    line, most = f.line, f.rules.fire_rate_tolerance_s
    if line.is_servers or line.asked == 0.0:  # a server that doesn't ping can't tell
        return most
    if line.answers < ENOUGH_ANSWERS:
        return min(most, UNKNOWN_EARLY_S)
    waited = waits_for_tick(f.ticks, f.tick_count, f.now)
    return min(most, MIN_EARLY_S + waited + f.rules.jitter_factor * line.jitter_s)


@check
def check_loaded(f):
    """Find `not_drawn`, `no_ammunition` or `reloading`, with an allowance for packets that bunch; seconds."""
    f.found.early_s = _how_early(f)
    if not f.weapon.encumbered:
        return NOTHING
    allowance, ends = f.found.early_s, f.held.reload_ends
    drawing = f.held.drawn_at - f.now
    if drawing > 0.0:
        measured(f, MEASURE.still_to_draw_for, drawing, allowance)
        if drawing > allowance:
            return found(f, FINDING.not_drawn, drawing, allowance)
    if f.held.magazine < 0.0:
        return NOTHING
    rounds, _ = rounds_at(f.held, f.weapon, f.now + allowance)
    under_way = f.now + allowance < ends and ends < NEVER
    measured(f, MEASURE.magazine, rounds, 1.0)
    if rounds == 0.0:
        return found(f, FINDING.no_ammunition, 0.0, 1.0, 1.0 if under_way else 0.0)
    if under_way and not f.weapon.reload_interruptible:
        left = ends - f.now
        measured(f, MEASURE.still_to_reload_for, left, allowance)
        return found(f, FINDING.reloading, left, allowance)
    return NOTHING


@check
def check_price(f):
    """Ask whether the actor can pay for a weapon, and its conditions hold. No unit."""
    return ASK if f.weapon.has_costs else NOTHING


@check
def check_fire_rate(f):
    """Find `fires_too_fast` when the weapon can't have been ready, allowance included; seconds."""
    early, allowance = f.held.ready_at - f.now, f.found.early_s
    interval = f.held.interval_s
    measured(f, MEASURE.fire_rate, -early if early > -interval else interval, -allowance)
    if early > allowance:
        return found(f, FINDING.fires_too_fast, early, allowance, interval)
    return NOTHING


@check
def check_charge(f):
    """Find `undercharged` or `overcharged`; works out the charge, the claimed one where there was time for it."""
    full, least = f.weapon.charge_s, f.weapon.min_charge_fraction
    f.found.charge = 1.0
    if full == 0.0:
        return NOTHING
    most = charge_at(f.held, f.weapon, f.now + f.found.early_s)
    claimed = f.claim.charge
    claimed = most if math.isnan(claimed) else claimed
    charge = min(max(claimed, 0.0), most)
    f.found.charge = charge
    measured(f, MEASURE.charge, charge, least)
    if charge < least:
        return found(f, FINDING.undercharged, charge, least, full)
    return found(f, FINDING.overcharged, claimed, most) if claimed > most else NOTHING


@check
def check_number(f):
    """Find `shots_skipped` where the shot's number isn't the next of a weapon whose spread goes by it. No unit."""
    number, following = f.claim.shot, f.held.shots + 1.0
    if f.weapon.is_plain or math.isnan(number) or number == following:
        return NOTHING
    measured(f, MEASURE.number_of_the_shot, number, following)
    return found(f, FINDING.shots_skipped, number, following)
