"""Kernel: the least of what came in lately, see `timeline.least`. Values and times are seconds.

Four numbers lie side by side in a row: the least value, how many there are, the time between first and last, and the
address of the ring that holds them. That begins with `RING_FIELDS` numbers of its own; then come the times of all
values of the window, and then those values, with their times, that no later one undercuts.
"""

from __future__ import annotations

import math
from typing import Final

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.dtypes import MIN_T
from tinclock.core.kernels.memory import float64_at, record_at

VALUE, COUNT, SPAN, RING = 0, 1, 2, 3
FIELDS: Final = 4
ROOM, SPARE, WINDOW, TIMES_BEGIN, LOW_BEGIN, LOW_COUNT = 0, 1, 2, 3, 4, 5
RING_FIELDS: Final = 6
_least_row = record_at("least", MIN_T)


@inner
def take_min(row, at, value):
    """A value came at a time that isn't before the last one's; returns 2 where fewer than it spares still fit, else 1.

    row : of `MIN_T`. Seconds.
    """
    ring = float64_at(int(row.ring))
    room, oldest = int(ring[ROOM]), at - ring[WINDOW]
    begin, count = int(ring[TIMES_BEGIN]), int(row.count)
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
    row.value, row.count = ring[values + 2 * low + 1], count
    row.span_s = at - ring[times + begin]
    return 2.0 if count + ring[SPARE] > room else 1.0


@inner
def clear_min(row):
    """Forget all values. row : of `MIN_T`. Seconds."""
    if row.ring != 0.0:
        ring = float64_at(int(row.ring))
        ring[TIMES_BEGIN] = ring[LOW_BEGIN] = ring[LOW_COUNT] = 0.0
    row.value, row.count, row.span_s = math.inf, 0.0, 0.0


@njit(cache=True, error_model="numpy")
def take_least_of(row_at, at, value):
    """`take_min` by the address of the four numbers; seconds."""
    return take_min(_least_row(row_at), at, value)


@njit(cache=True, error_model="numpy")
def clear_least_of(row_at):
    """`clear_min` by the address of the four numbers; no unit."""
    clear_min(_least_row(row_at))
