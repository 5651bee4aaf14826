"""Kernel: the least of what came in lately, see `timeline.least`. Values and times are seconds.

Four numbers lie side by side in a row: the least value, how many there are, the time between first and last, and the
address of the ring that holds them. That begins with `RING_FIELDS` numbers of its own; then come the times of all
values of the window, and then those values, with their times, that no later one undercuts.
"""

from __future__ import annotations

import math
from typing import Final

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.memory import float64_at

VALUE, COUNT, SPAN, RING = 0, 1, 2, 3
FIELDS: Final = 4
ROOM, SPARE, WINDOW, TIMES_BEGIN, LOW_BEGIN, LOW_COUNT = 0, 1, 2, 3, 4, 5
RING_FIELDS: Final = 6


@inner
def take_least(row, place, at, value):
    """A value came at a time that isn't before the last one's; returns 2 where fewer than it spares still fit, else 1.

    row : pointer to float64, in which the four numbers begin at `place`. Seconds.
    """
    ring = float64_at(int(row[place + RING]))
    room, oldest = int(ring[ROOM]), at - ring[WINDOW]
    begin, count = int(ring[TIMES_BEGIN]), int(row[place + COUNT])
    low, lows = int(ring[LOW_BEGIN]), int(ring[LOW_COUNT])
    times, values = RING_FIELDS, RING_FIELDS + room
    while lows > 0 and ring[values + 2 * ((low + lows - 1) % room) + 1] >= value:
        lows -= 1
    newest = values + 2 * ((low + lows) % room)
    ring[newest], ring[newest + 1], lows = at, value, lows + 1
    ring[times + (begin + count) % room], count = at, count + 1
    while ring[values + 2 * low] < oldest:
        low, lows = (low + 1) % room, lows - 1
    while ring[times + begin] < oldest:
        begin, count = (begin + 1) % room, count - 1
    ring[TIMES_BEGIN], ring[LOW_BEGIN], ring[LOW_COUNT] = begin, low, lows
    row[place + VALUE], row[place + COUNT] = ring[values + 2 * low + 1], count
    row[place + SPAN] = at - ring[times + begin]
    return 2.0 if count + ring[SPARE] > room else 1.0


@inner
def clear_least(row, place):
    """Forget all values. row : pointer to float64, in which the four numbers begin at `place`. Seconds."""
    if row[place + RING] != 0.0:
        ring = float64_at(int(row[place + RING]))
        ring[TIMES_BEGIN] = ring[LOW_BEGIN] = ring[LOW_COUNT] = 0.0
    row[place + VALUE], row[place + COUNT], row[place + SPAN] = math.inf, 0.0, 0.0


@njit(cache=True, error_model="numpy")
def take_least_of(row_at, at, value):
    """`take_least` by the address of the four numbers; seconds."""
    return take_least(float64_at(row_at), 0, at, value)


@njit(cache=True, error_model="numpy")
def clear_least_of(row_at):
    """`clear_least` by the address of the four numbers; no unit."""
    clear_least(float64_at(row_at), 0)
