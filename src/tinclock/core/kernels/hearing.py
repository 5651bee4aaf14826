"""Kernel: what a message says of its connection's lag, taken down. `timeline.lag` says what that is for.

`said` points at a ring of `MOST_SAID` rows: stamp, lag (seconds, by the client's clock), whether the screen stood
still, and the sequence of the claim that said it, 0 for a message that isn't counted.
"""

from __future__ import annotations

import math
from typing import Final

import numpy as np

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.lengths import exact_sum
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.moments import SENT_AT, SNAPSHOT_FIELDS, shown_at, snapshot_of
from tinclock.core.kernels.rows import CLAIM, LINE

WINDOW_S = 1.0
"""How long what was said counts, by the client's clock."""
ENOUGH = 8
"""So many messages are needed before a shot is held against them."""
STILL_FORGOTTEN = 64
"""Over about so many messages the share of those is taken that show a screen which stands still."""
CLOCK_JUMP_S = 0.1
"""A lag that moves by more than this at once, without the views' age at arrival moving, is a client's clock that was
set: what was said before it is forgotten."""
MOST_SAID: Final = 256
"""So many messages of a second count at the most; what comes beyond that says nothing."""
STAMP, LAG, STILL, SEQUENCE = 0, 1, 2, 3
SAID_FIELDS: Final = 4


@inner
def forget(line):
    """Nothing was said yet, or nothing that still holds. No unit."""
    line[LINE.said_begin] = line[LINE.said_count] = line[LINE.said_sequence] = 0.0
    line[LINE.said_received_at], line[LINE.lag_s] = -math.inf, math.nan


@inner
def _middle_mean(lags):
    """The mean of the middle half, seconds, correctly rounded. lags : (n,) float64, sorted here"""
    for k in range(1, lags.shape[0]):  # `sort` takes seconds to compile; there are few, and most lie right already
        lag, at = lags[k], k
        while at > 0 and lags[at - 1] > lag:
            lags[at] = lags[at - 1]
            at -= 1
        lags[at] = lag
    outer = lags.shape[0] // 4
    total, left = 0.0, 0.0
    for k in range(outer, lags.shape[0] - outer):
        total, rest = exact_sum(total, lags[k])
        left += rest
    return (total + left) / (lags.shape[0] - 2 * outer)


@inner
def take_said(line, said, stamp, view_time, received_at, still, sequence):
    """Take down what a message said; one that was overtaken says nothing any more. Times are seconds."""
    lag, last = stamp - view_time, line[LINE.said_client_time]
    if line[LINE.said_received_at] > -math.inf:
        if stamp <= last:
            if last - stamp < WINDOW_S:
                return
            forget(line)  # its clock was set back
        else:
            moved = lag - (last - line[LINE.said_view_time])
            aged = (received_at - view_time) - (line[LINE.said_received_at] - line[LINE.said_view_time])
            if abs(moved - aged) > CLOCK_JUMP_S and abs(aged) < CLOCK_JUMP_S:
                forget(line)
    begin, count = int(line[LINE.said_begin]), int(line[LINE.said_count])
    while count > 0 and said[SAID_FIELDS * begin + STAMP] < stamp - WINDOW_S:
        begin, count = (begin + 1) % MOST_SAID, count - 1
    if count == MOST_SAID:
        return  # more than anybody has to say: were the oldest dropped for it, a flood would make the second shorter
    line[LINE.said_client_time], line[LINE.said_view_time], line[LINE.said_received_at] = stamp, view_time, received_at
    line[LINE.still] += ((1.0 if still else 0.0) - line[LINE.still]) / STILL_FORGOTTEN
    row = SAID_FIELDS * ((begin + count) % MOST_SAID)
    said[row + STAMP], said[row + LAG], said[row + STILL], said[row + SEQUENCE] = stamp, lag, still, sequence
    count += 1
    line[LINE.said_begin], line[LINE.said_count] = begin, count
    if sequence > 0.0:
        line[LINE.said_sequence], line[LINE.said_counted_at] = sequence, stamp
    elif line[LINE.said_counted_at] < stamp - WINDOW_S:
        line[LINE.said_sequence] = 0.0
    lags, moving = np.empty(count), 0
    for k in range(count):
        at = SAID_FIELDS * ((begin + k) % MOST_SAID)
        lags[moving] = said[at + LAG]
        moving += said[at + STILL] == 0.0
    if moving >= ENOUGH:
        line[LINE.lag_s] = _middle_mean(lags[:moving])
    elif moving == count:  # too little; but one that ran out of snapshots keeps what it had said
        line[LINE.lag_s] = math.nan


@inner
def hear(f):
    """Take down what a claim says of its lag: 1 for what can be true, 0 for what can't (its client can't have had it).

    A claim without a view says only when it was made, which is 1 as well.
    """
    if not f.claim[CLAIM.has_view]:
        return 1.0
    from_tick, to_tick, fraction = f.claim[CLAIM.from_tick], f.claim[CLAIM.to_tick], f.claim[CLAIM.fraction]
    shown = shown_at(f.snapshots, f.snapshot_count, from_tick, to_tick, fraction)
    if math.isnan(shown):
        return 0.0
    newest = snapshot_of(f.snapshots, f.snapshot_count, to_tick)
    sent_at = f.snapshots[SNAPSHOT_FIELDS * newest + SENT_AT]
    if sent_at < f.line[LINE.since] or f.now - sent_at < f.line[LINE.shortest_s]:
        return 0.0
    still = from_tick == to_tick or fraction >= 1.0
    take_said(f.line, f.said, f.claim[CLAIM.client_time], shown, f.now, still, f.claim[CLAIM.sequence])
    return 1.0


@njit(cache=True, error_model="numpy")
def take_said_of(line_at, said_at, stamp, view_time, received_at, still, sequence):
    """`take_said` by the addresses of both; seconds."""
    take_said(float64_at(line_at), float64_at(said_at), stamp, view_time, received_at, still, float(sequence))


@njit(cache=True, error_model="numpy")
def forget_of(line_at):
    """`forget` by the row's address; no unit."""
    forget(float64_at(line_at))
