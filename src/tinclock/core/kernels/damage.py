"""Kernel: damage in points. Every hit of a shot, blow, projectile or splash gets its numbers here, and nowhere else.

`weapon`, `rules`, `actor` and `victim` are records of `WEAPON_T`, `RULES_T` and `BODY_T`. Times are server times in
seconds.
"""

from __future__ import annotations

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.dtypes import body_row, rules_row, weapon_row
from tinclock.core.kernels.memory import float64_at, int64_at
from tinclock.core.kernels.poses import ABSENCE, MAX_CUTS, epochs_at
from tinclock.core.kernels.spending import falloff_at

HURT, DIED, RESPAWNED, TEAM_MATE, OUT_OF_REACH, SHIELDED, REFLECTED, CLOSED = 0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0
"""Reasons for which a hit takes nothing from its victim; `HURT` where it takes points."""


@inner
def points_at(weapon, zone_factor, distance, share):
    """Return the points of one hit at a distance in metres, before armour and friendly fire.

    zone_factor : of the part that is hit; share : fraction of the damage that charge and penetration leave
    """
    table = float64_at(int(weapon.falloff))
    falloff = falloff_at(table, int(weapon.falloff_count), distance)
    return share * (weapon.damage * falloff * zone_factor)


@inner
def zone_factor_of(weapon, row):
    """Return the damage factor of a part, by its row in the table of parts. No unit."""
    return float64_at(int(weapon.zones))[row]


@inner
def is_covered(rules, body, row):
    """True if the armour of a body's rig covers a part, given by its row in the table of parts."""
    return float64_at(int(rules.covers))[int(rules.part_count * body.rig) + row] != 0.0


@inner
def armour_fraction(rules, weapon, whole, bare):
    """Return the fraction of a hit that armour may take. whole : points of the hit; bare : those to uncovered parts."""
    share = rules.armour_fraction * (1.0 - weapon.armour_piercing)
    return share if bare == 0.0 else share * (1.0 - bare / whole)


@inner
def take_points(body, amount, covered, now, applies):
    """Take points from a body, armour first; returns (health before and after, armour before and after).

    A body that is dead or shielded keeps its points.

    covered : fraction that armour may take; applies : False to work out the result and change nothing
    """
    before, armour = body.health, body.armour
    if not body.alive or not amount > 0.0 or body.shield_until > now:
        return before, before, armour, armour
    taken = amount * covered
    if not taken < armour:
        taken = armour
    after = before - (amount - taken)
    if not after > 0.0:
        after = 0.0
    if not applies:
        return before, after, armour, armour
    body.armour, body.health = armour - taken, after
    if after == 0.0:
        body.alive, body.dead, body.died_at = 0.0, 1.0, now
    return before, after, armour, armour - taken


@inner
def lived_then(header, cuts, column, slot, life_epoch):
    """True if a body's life had begun when a slot of the history was written: it had been cut so often. No unit."""
    written = epochs_at(header, slot)[column]
    if written == 0:
        return False
    since = (cuts[column] - written % ABSENCE) % MAX_CUTS
    return cuts[column] - since >= life_epoch


@inner
def do_damage(rules, weapon, actor, is_here, victim, has_lived, whole, bare, own_bare, now):
    """Apply one hit. Returns (reason, points, what `take_points` returns for the victim, and the same for the actor).

    is_here : the actor is in the match; has_lived : the victim's life began before the view
    whole : points of the hit; bare, own_bare : those to parts that the victim's and the actor's armour don't cover
    """
    why, amount = HURT, whole
    if victim.dead:
        why = DIED
    elif not has_lived:
        why = RESPAWNED
    elif victim.shield_until > now:
        why = SHIELDED
    if actor.boost_until > now:
        amount *= actor.boost_factor
    if victim.entity == actor.entity:
        amount *= rules.self_fraction
    elif why == HURT and victim.team == actor.team and victim.team != 0.0:
        amount *= rules.friendly_fraction
        if rules.spares_friends:
            why = TEAM_MATE
        elif rules.reflects:
            why = REFLECTED
    if why == HURT and amount == 0.0:
        why = OUT_OF_REACH
    if rules.damage_closed and why in (HURT, REFLECTED):
        why = CLOSED
    applies = rules.applies != 0.0
    own = 0.0, 0.0, 0.0, 0.0
    if why == REFLECTED and is_here:
        share = armour_fraction(rules, weapon, whole, own_bare)
        own = take_points(actor, amount, share, now, applies)
    if why != HURT:
        amount = 0.0
    share = armour_fraction(rules, weapon, whole, bare)
    before, after, armour_before, armour_after = take_points(victim, amount, share, now, applies)
    if why == HURT and is_here and victim.entity != actor.entity:
        actor.hits += 1.0
        actor.given += before - after + armour_before - armour_after
    victim.taken += before - after + armour_before - armour_after
    return (why, amount, before, after, armour_before, armour_after, *own)


@njit(cache=True, error_model="numpy")
def do_damage_of(rules_at, weapon_at, actor_at, is_here, victim_at, stored, cuts_at, column, slot, rows, points, now):
    """`do_damage` by the addresses of all rows, for a hit on several parts.

    column, slot : of the victim in the history, and of the view; rows, points : (n,) int64 and float64, of each part
    """
    rules, actor, victim = rules_row(rules_at), body_row(actor_at), body_row(victim_at)
    epoch = victim.life_epoch
    lived = epoch <= 1.0 or (column >= 0 and lived_then(stored[0], int64_at(cuts_at), column, slot, epoch))
    whole, bare, own_bare = 0.0, 0.0, 0.0
    for k in range(rows.shape[0]):
        whole += points[k]
        if not is_covered(rules, victim, rows[k]):
            bare += points[k]
        if not is_covered(rules, actor, rows[k]):
            own_bare += points[k]
    return do_damage(rules, weapon_row(weapon_at), actor, is_here, victim, lived, whole, bare, own_bare, now)


@njit(cache=True, error_model="numpy")
def take_points_of(body_at, amount, covered, now):
    """`take_points` by the row's address; seconds, points."""
    return take_points(body_row(body_at), amount, covered, now, True)


@njit(cache=True, error_model="numpy")
def points_of(weapon_at, row, distance, share):
    """`points_at` by the weapon's address and a part's row; metres."""
    weapon = weapon_row(weapon_at)
    return points_at(weapon, zone_factor_of(weapon, row), distance, share)


@njit(cache=True, error_model="numpy")
def points_by(weapon_at, zone_factor, distance, share):
    """`points_at` by the weapon's address and a zone's factor; metres."""
    return points_at(weapon_row(weapon_at), zone_factor, distance, share)
