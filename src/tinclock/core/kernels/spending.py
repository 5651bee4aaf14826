"""Kernels: what a shot costs its weapon, and what it does at a distance.

`held` and `weapon` are records of `HELD_T` and `WEAPON_T`. Times are server times in seconds, damage is points.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.dtypes import held_row, weapon_row

NEVER = math.inf


@inner
def rounds_at(held, weapon, at):
    """(magazine, reserve) as they are at a time, seconds, a reload that is over by then included; -1: endless."""
    magazine, reserve = held.magazine, held.reserve
    if held.reload_ends > at:
        return magazine, reserve
    loaded = max(magazine, 0.0)
    missing = max(weapon.magazine, 0.0) - loaded
    if reserve < 0.0:
        return loaded + missing, reserve
    moved = min(missing, reserve)
    return loaded + moved, reserve - moved


@njit(cache=True, error_model="numpy")
def rounds_of(held_at, weapon_at, at):
    """`rounds_at` by the addresses of both rows; at is in seconds."""
    return rounds_at(held_row(held_at), weapon_row(weapon_at), at)


@inner
def charge_at(held, weapon, now):
    """The share of a full charge that there is at a time, seconds."""
    full, since = weapon.charge_s, held.charging_from
    if full == 0.0:
        return 1.0
    return min(1.0, max(0.0, (now - since) / full)) if since != NEVER else 0.0


@inner
def settle(held, weapon, now):
    """Finish a reload that is over by a time, seconds."""
    if held.reload_ends <= now:
        magazine, reserve = rounds_at(held, weapon, now)
        held.magazine, held.reserve = magazine, reserve
        held.reloaded_at, held.reload_ends = held.reload_ends, NEVER


@inner
def fire(held, now):
    """Spend the time of one shot, which counts from when the weapon was ready; seconds."""
    at = max(now, held.ready_at)
    before = held.fired_at
    held.fired_at = at
    burst, pause = held.burst, held.pause_s
    if burst == 1.0:
        held.ready_at = at + held.interval_s
        return
    fired = 1.0 if at - before >= pause else held.fired % burst + 1.0
    held.fired = fired
    held.ready_at = at + (pause if fired == burst else held.interval_s)


@inner
def can_reload(held, weapon, at):
    """True if the magazine has room, something can fill it, and no reload is under way at a time, seconds."""
    full = weapon.magazine
    if full < 0.0 or (at < held.reload_ends and held.reload_ends < NEVER):
        return False
    magazine, reserve = rounds_at(held, weapon, at)
    return max(magazine, 0.0) < full and reserve != 0.0


@inner
def reload(held, weapon, now):
    """Begin a reload, not before the last shot had its time: what came early is not gained twice. Seconds."""
    held.reload_ends = max(now, held.fired_at) + weapon.reload_s
    settle(held, weapon, now)


@inner
def spend(held, weapon, now, charge):
    """One shot: its ammunition, its time, its charge; seconds.

    A shot that came early, within the allowance, counts from when the weapon was due: draw, reload, charge and
    fire_rate share one allowance over time.
    """
    due = max(now, max(held.drawn_at, held.reloaded_at))
    if held.charging_from != NEVER:
        due = max(due, held.charging_from + charge * weapon.charge_s)
    fire(held, due)
    held.charging_from = held.reload_ends = NEVER
    if held.magazine >= 0.0:
        held.magazine = max(0.0, held.magazine - 1.0)
        if held.magazine == 0.0 and weapon.reload_when_empty and can_reload(held, weapon, -math.inf):
            reload(held, weapon, now)


@inner
def ready_at(held, weapon):
    """The server time from which the weapon fires, seconds, as things stand; inf while it is empty."""
    ready = max(held.ready_at, held.drawn_at)
    magazine, ends = held.magazine, held.reload_ends
    if magazine < 0.0 or (magazine > 0.0 and ends == NEVER):
        return ready
    if magazine == 0.0 or not weapon.reload_interruptible:
        return max(ready, ends)  # never, while it is empty and nobody reloads
    return ready


@inner
def falloff_at(table, count, distance):
    """The damage factor at a distance, metres: straight lines between the table's points, level beyond its ends.

    table : pointer to `count` rows of two float64, metres and factor, rising
    """
    if count == 0:
        return 1.0
    row = 0
    while row < count and not distance < table[2 * row]:
        row += 1
    if row == 0:
        return table[1]
    if row == count:
        return table[2 * count - 1]
    a, b = table[2 * row - 2], table[2 * row]
    share = (distance - a) / (b - a)
    return table[2 * row - 1] + share * (table[2 * row + 1] - table[2 * row - 1])


@njit(cache=True, error_model="numpy")
def spend_of(held_at, weapon_at, now, charge):
    """`spend` by the addresses of both rows; seconds."""
    spend(held_row(held_at), weapon_row(weapon_at), now, charge)


@njit(cache=True, error_model="numpy")
def settle_of(held_at, weapon_at, now):
    """`settle` by the addresses of both rows; seconds."""
    settle(held_row(held_at), weapon_row(weapon_at), now)


@njit(cache=True, error_model="numpy")
def reload_of(held_at, weapon_at, now):
    """`reload` by the addresses of both rows; seconds."""
    reload(held_row(held_at), weapon_row(weapon_at), now)


@njit(cache=True, error_model="numpy")
def can_reload_of(held_at, weapon_at, at):
    """`can_reload` by the addresses of both rows; seconds."""
    return can_reload(held_row(held_at), weapon_row(weapon_at), at)


@njit(cache=True, error_model="numpy")
def standing_of(held_at, weapon_at, now):
    """(magazine, reserve, seconds until it fires, inf for never) of a weapon at a time; -1 rounds: endless."""
    held, weapon = held_row(held_at), weapon_row(weapon_at)
    magazine, reserve = rounds_at(held, weapon, now)
    return magazine, reserve, ready_at(held, weapon) - now
