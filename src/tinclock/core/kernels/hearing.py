"""Kernel: the lag that a connection's messages tell, and the estimated display delay. `timeline.lag` explains both.

`said` points at a ring of `MAX_SAID` rows: stamp, lag (seconds, by the client's clock), whether the screen stood
still, the sequence of the claim that said it (0 for a message that isn't counted), and how old its view was on arrival,
by the server's clock.
"""

from __future__ import annotations

import math
from typing import Final

import numpy as np

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.dtypes import line_row
from tinclock.core.kernels.least import clear_min, take_min
from tinclock.core.kernels.lengths import exact_sum
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.moments import SENT_AT, SNAPSHOT_FIELDS, shown_at, snapshot_of

WINDOW_S = 1.0
"""Seconds for which a report counts, by the client's clock."""
ENOUGH = 8
"""Number of messages before a shot is compared with them."""
ENOUGH_ANSWERS = 8
"""Answered pings that are needed before the shortest of them bounds what can have arrived."""
STILL_FORGOTTEN = 64
"""Over about so many messages the share of those is taken that show a screen which stands still."""
CLOCK_STEP_S = 0.01
"""A lag that moves by more than this and twice the jitter at once, while the views' age on arrival doesn't, means that
the client's clock was set. The server then forgets all earlier stamps."""
RISE_PER_S, FALL_PER_S = 0.003, 0.05
"""Seconds per second by which the estimated display delay rises and falls beside the round trip."""
ANNOUNCED_PER_S = 0.01
"""Seconds per second by which an interpolation delay grows that is announced during a match."""
LONGEST_STEP_S = 0.25
"""Longest time between two messages for which the estimated display delay may rise."""
RESTARTS_HALVE_S = 60.0
"""Seconds after which half of the clock's restarts are forgotten."""
USUAL_MESSAGES, SAME_TIME_S, LONGEST_GAP_S = 16.0, 0.001, 0.1
"""Number of messages over which their usual gap is taken, what counts as arriving together, and the longest gap."""
LATE_FORGOTTEN = 64.0
MAX_SAID: Final = 256
"""Maximum number of messages per second that count; further ones are ignored."""
STAMP, LAG, STILL, SEQUENCE, AGE = 0, 1, 2, 3, 4
SAID_FIELDS: Final = 5


@inner
def forget(line):
    """Nothing was said yet, or nothing that still holds. No unit."""
    line.said_begin = line.said_count = line.said_sequence = 0.0
    line.said_received_at, line.lag_s = -math.inf, math.nan


@inner
def _restart(line, received_at):
    """Forget all that was stamped by a client's clock before it was set; the estimated display delay stays. Seconds."""
    forget(line)
    clear_min(line.claim_trip)
    clear_min(line.pong_trip)
    since = max(0.0, received_at - line.restarted_at)
    line.restarts = line.restarts * 0.5 ** (since / RESTARTS_HALVE_S) + 1.0
    line.restarted_at = received_at


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
def note_arrival(line, received_at):
    """Take down that a message came at a server time, seconds."""
    gap = received_at - line.heard_at
    if gap <= SAME_TIME_S:
        return
    if line.heard_at > -math.inf:
        usual = line.gap_s
        if usual > 0.0:
            uneven = min(abs(gap - usual), LONGEST_GAP_S)
            known = line.uneven_s
            line.uneven_s = uneven if known == 0.0 else known + (uneven - known) / LATE_FORGOTTEN
        gap = min(gap, LONGEST_GAP_S if usual == 0.0 else 3.0 * usual, LONGEST_GAP_S)
        line.gap_s = gap if usual == 0.0 else usual + (gap - usual) / USUAL_MESSAGES
    line.heard_at = received_at


@inner
def count_still(line, still):
    """Take down whether a claim that counts shows a screen without newer snapshots."""
    line.still_shots += ((1.0 if still else 0.0) - line.still_shots) / STILL_FORGOTTEN


@inner
def announced(line, now):
    """Return the interpolation delay that counts at a server time, seconds: a longer one than before grows slowly."""
    grown = line.announced_s + ANNOUNCED_PER_S * max(0.0, now - line.announced_at)
    return min(line.interpolation_delay_s, grown)


@inner
def _track(line, received_at):
    """Move the estimated display delay toward the reported one, by `FALL_PER_S` and `RISE_PER_S` at most. Seconds."""
    if line.answers < ENOUGH_ANSWERS:
        return
    told, before = line.told_age_s - line.round_trip_s, line.buffer_s
    since = min(max(received_at - line.tracked_at, 0.0), LONGEST_STEP_S)
    if math.isnan(before):
        line.buffer_s = told
    elif told < before:
        line.buffer_s = max(told, before - FALL_PER_S * since)
    else:
        deeper = announced(line, received_at) - announced(line, received_at - since)
        line.buffer_s = min(told, before + RISE_PER_S * since + max(0.0, deeper))
    line.tracked_at = received_at


@inner
def _was_set(line, said, stamp, view_time, received_at, still):
    """True if a message shows that the client's clock was set since the last one. Seconds."""
    last = line.said_client_time
    if last - stamp >= WINDOW_S:
        return True
    newest = SAID_FIELDS * ((int(line.said_begin) + int(line.said_count) - 1) % MAX_SAID)
    if view_time <= line.said_view_time or still or said[newest + STILL] != 0.0:  # overtaken, or standing still
        return False
    if stamp <= last:
        return True
    moved = (stamp - view_time) - (last - line.said_view_time)
    aged = (received_at - view_time) - (line.said_received_at - line.said_view_time)
    return abs(moved) > CLOCK_STEP_S + 2.0 * line.jitter_s and abs(aged) < 0.25 * abs(moved)


@inner
def take_said(line, said, stamp, view_time, received_at, still, sequence):
    """Take down what a message said; one that was overtaken says nothing any more. Times are seconds."""
    if line.said_received_at > -math.inf:
        if _was_set(line, said, stamp, view_time, received_at, still):
            _restart(line, received_at)
        elif stamp <= line.said_client_time:
            return
    begin, count = int(line.said_begin), int(line.said_count)
    while count > 0 and said[SAID_FIELDS * begin + STAMP] < stamp - WINDOW_S:
        begin, count = (begin + 1) % MAX_SAID, count - 1
    if count == MAX_SAID:
        return  # more than anybody has to say: were the oldest dropped for it, a flood would make the second shorter
    line.said_client_time, line.said_view_time, line.said_received_at = stamp, view_time, received_at
    line.still += ((1.0 if still else 0.0) - line.still) / STILL_FORGOTTEN
    row = SAID_FIELDS * ((begin + count) % MAX_SAID)
    said[row + STAMP], said[row + LAG], said[row + STILL] = stamp, stamp - view_time, still
    said[row + SEQUENCE], said[row + AGE] = sequence, received_at - view_time
    count += 1
    line.said_begin, line.said_count = begin, count
    if sequence > 0.0:
        line.said_sequence, line.said_counted_at = sequence, stamp
    elif line.said_counted_at < stamp - WINDOW_S:
        line.said_sequence = 0.0
    _work_out(line, said, begin, count, still, received_at)


@inner
def _work_out(line, said, begin, count, still, received_at):
    """Work out the told lag from what is held of the last second, and let the tracked one follow. Seconds."""
    lags, moving, age, youngest = np.empty(count), 0, 0.0, math.inf
    for k in range(count):
        at = SAID_FIELDS * ((begin + k) % MAX_SAID)
        lags[moving] = said[at + LAG]
        if said[at + STILL] == 0.0:
            moving, age = moving + 1, said[at + AGE]
            youngest = min(youngest, age)
    if moving >= ENOUGH:
        line.lag_s, line.told_age_s = _middle_mean(lags[:moving]), youngest
        if not still:
            late = line.late_s
            line.late_s = age - youngest if math.isnan(late) else late + (age - youngest - late) / LATE_FORGOTTEN
            _track(line, received_at)
    elif moving == count:  # too little; but one that ran out of snapshots keeps what it had said
        line.lag_s = math.nan


@inner
def hear_said(line, said, snapshots, snapshot_count, has_view, from_tick, to_tick, fraction, stamp, now, sequence):
    """Take down what a message tells at a server time of its screen and its clock; seconds.

    Returns 0 for what can't be true (its client can't have had that snapshot), 1 for all else, 2 where the ring of
    `claim_trip` needs room.
    """
    if has_view:
        shown = shown_at(snapshots, snapshot_count, from_tick, to_tick, fraction)
        if math.isnan(shown):
            return 0.0
        newest = snapshot_of(snapshots, snapshot_count, to_tick)
        sent_at = snapshots[SNAPSHOT_FIELDS * newest + SENT_AT]
        if sent_at < line.since or now - sent_at < line.shortest_s:
            return 0.0
        take_said(line, said, stamp, shown, now, from_tick == to_tick or fraction >= 1.0, sequence)
    note_arrival(line, now)
    return take_min(line.claim_trip, now, now - stamp)


@inner
def hear(f):
    """Take down what a claim tells, as `hear_said`."""
    claim = f.claim
    return hear_said(
        f.line, f.said, f.snapshots, f.snapshot_count, claim.has_view != 0.0, claim.from_tick,
        claim.to_tick, claim.fraction, claim.client_time, f.now, claim.sequence,
    )  # fmt: skip


@njit(cache=True, error_model="numpy")
def hear_message(line_at, said_at, snapshots_at, snapshot_count, has_view, from_tick, to_tick, fraction, stamp, now,
                 sequence):  # fmt: skip
    """`hear_said` by the addresses of the rows; seconds."""
    return hear_said(
        line_row(line_at), float64_at(said_at), float64_at(snapshots_at), snapshot_count, has_view,
        float(from_tick), float(to_tick), fraction, stamp, now, float(sequence),
    )  # fmt: skip


@njit(cache=True, error_model="numpy")
def take_said_of(line_at, said_at, stamp, view_time, received_at, still, sequence):
    """`take_said` by the addresses of both; seconds."""
    take_said(line_row(line_at), float64_at(said_at), stamp, view_time, received_at, still, float(sequence))


@njit(cache=True, error_model="numpy")
def announced_by(line_at, now):
    """`announced` by the row's address; seconds."""
    return announced(line_row(line_at), now)


@njit(cache=True, error_model="numpy")
def note_still(line_at, still):
    """`count_still` by the row's address; no unit."""
    count_still(line_row(line_at), still)


@njit(cache=True, error_model="numpy")
def forget_of(line_at):
    """`forget` by the row's address; no unit."""
    forget(line_row(line_at))
