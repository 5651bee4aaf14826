"""Kernels: which snapshots and ticks are held, and which of them a screen draws between.

`snapshots` points at rows of four float64, oldest first: tick, server time, when it was sent (seconds), ring slot.
`ticks` points at rows of three: tick, server time, ring slot.
"""

from __future__ import annotations

import math
from typing import Final

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.memory import float64_at
from tinclock.core.tolerances import TOLERANCES

TICK, TIME, SENT_AT, SLOT = 0, 1, 2, 3
SNAPSHOT_FIELDS: Final = 4
TICK_SLOT: Final = 2
TICK_FIELDS: Final = 3
_SAME_S: Final = TOLERANCES.time_s


@inner
def snapshot_of(snapshots, count, tick):
    """The place of a published tick among the snapshots, -1 where it isn't held; no unit."""
    low, high = 0, count - 1
    if high < 0 or not snapshots[TICK] <= tick <= snapshots[SNAPSHOT_FIELDS * high + TICK]:
        return -1
    while low < high:
        middle = (low + high) // 2
        if snapshots[SNAPSHOT_FIELDS * middle + TICK] < tick:
            low = middle + 1
        else:
            high = middle
    return low if snapshots[SNAPSHOT_FIELDS * low + TICK] == tick else -1


@inner
def spacing_of(snapshots, count):
    """Seconds between two snapshots, on average over those that are held; 0 for less than two."""
    if count < 2:
        return 0.0
    return (snapshots[SNAPSHOT_FIELDS * (count - 1) + TIME] - snapshots[TIME]) / (count - 1)


@inner
def waits_for_tick(ticks, count, now):
    """A tick's length, seconds, where what arrives is stamped once a tick: a whole number after the last; else 0."""
    if count < 2:
        return 0.0
    last = ticks[TICK_FIELDS * (count - 1) + TIME]
    spacing = last - ticks[TICK_FIELDS * (count - 2) + TIME]
    after = (now - last) / spacing
    return spacing if abs(after - round(after)) * spacing <= _SAME_S else 0.0


@inner
def view_around(snapshots, count, server_time):
    """Return the view of a server time in seconds: (place, place, fraction) of the snapshots around it.

    Before the first snapshot the places are -1.
    """
    low, high = 0, count
    while low < high:
        middle = (low + high) // 2
        if server_time < snapshots[SNAPSHOT_FIELDS * middle + TIME]:
            high = middle
        else:
            low = middle + 1
    if low == 0:
        return -1, -1, 0.0
    before = low - 1
    if low == count:
        return before, before, 0.0
    a, b = snapshots[SNAPSHOT_FIELDS * before + TIME], snapshots[SNAPSHOT_FIELDS * low + TIME]
    return before, low, (server_time - a) / (b - a)


@inner
def view_drawn(snapshots, count, server_time, shows_nearest, extrapolates, extrapolate_s):
    """Return the view that a client with all snapshots draws for a server time: (place, place, fraction), -1 for none.

    Times are seconds; the flags say how it draws.
    """
    if count == 0 or not snapshots[TIME] <= server_time:
        return -1, -1, 0.0
    before, after, fraction = view_around(snapshots, count, server_time)
    if before != after:
        if shows_nearest:
            shown = before if fraction < 0.5 else after
            return shown, shown, 0.0
        return before, after, fraction
    beyond = server_time - snapshots[SNAPSHOT_FIELDS * before + TIME]
    if not extrapolates or shows_nearest or before == 0 or beyond <= 0.0:
        return before, before, fraction
    gap = snapshots[SNAPSHOT_FIELDS * before + TIME] - snapshots[SNAPSHOT_FIELDS * (before - 1) + TIME]
    return before - 1, before, 1.0 + min(beyond, extrapolate_s) / gap


@njit(cache=True, error_model="numpy")
def view_drawn_of(snapshots_at, count, server_time, shows_nearest, extrapolates, extrapolate_s):
    """`view_drawn`, by the address of the snapshots, and with ticks in place of places: (tick, tick, fraction)."""
    snapshots = float64_at(snapshots_at)
    before, after, fraction = view_drawn(snapshots, count, server_time, shows_nearest, extrapolates, extrapolate_s)
    if before < 0:
        return -1, -1, 0.0
    from_tick, to_tick = snapshots[SNAPSHOT_FIELDS * before + TICK], snapshots[SNAPSHOT_FIELDS * after + TICK]
    return int(from_tick), int(to_tick), fraction


@inner
def shown_at(snapshots, count, from_tick, to_tick, fraction):
    """The server time of a view that somebody may have drawn, seconds; NaN where it isn't held, or nobody draws it."""
    before, after = snapshot_of(snapshots, count, from_tick), snapshot_of(snapshots, count, to_tick)
    if before < 0 or after < 0 or from_tick > to_tick or not 0.0 <= fraction <= 16.0:
        return math.nan
    a, b = snapshots[SNAPSHOT_FIELDS * before + TIME], snapshots[SNAPSHOT_FIELDS * after + TIME]
    return a + fraction * (b - a)
