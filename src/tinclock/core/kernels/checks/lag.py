"""Checks of a view against the lag that its client reported before, and of its clock. Seconds."""

from __future__ import annotations

import math

from tinclock.core.kernels.checks.view import ENOUGH_ANSWERS, rule_at
from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.facts import FINDING, MEASURE, NOTHING, found, measured
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.moments import TIME, shown_at, spacing_of
from tinclock.core.kernels.rows import CLAIM, FOUND, LINE, RULES

FRESH_S = 2.0
"""What a client last said of its lag so long ago holds no shot any more."""
SOONER_S = 0.001
"""By so much a message may be faster than the fastest of the last while."""
MOST_STILL, STILL_PER_S = 0.05, 15.0
"""A client of which a larger share of messages shows a screen that stands still is excused no more: so much on a quiet
line, and so much more for each second of jitter by the server's clock."""
MOMENT_S = 0.15
"""The last message before a shot with such a view is at most so old, by the client's clock."""
ENOUGH_STAMPS = 24
"""So many pongs and so many messages are compared at the least."""
LEAST_SPAN_S = 15.0
"""Both over at least so long a time: a line that is congested for a while delays whatever goes up then."""


@inner
def is_tracked(line, received_at):
    """True if a line's lag is known at a time, seconds; what a client that fell silent once said is forgotten."""
    return not math.isnan(line[LINE.lag_s]) and received_at - line[LINE.said_received_at] <= FRESH_S


@inner
def lag_allowance(line, rules, spacing_s):
    """How far, in seconds, a view may stray from the tracked lag; snapshots are `spacing_s` apart."""
    return rules[RULES.lag_allowance_s] + (spacing_s if line[LINE.shows_nearest] else 0.0)


@inner
def stamp_bounds(line, rules, earliest, latest, received_at):
    """Between which times of its clock, seconds, a claim was made: (earliest, latest).

    earliest, latest : by the messages around it; NaN: by the newest that came

    What was sent before it and after it says so; nothing comes up faster than the fastest did; and what takes longer
    than the line and the client's rate of sending explains was made later than it says.
    """
    if math.isnan(earliest):
        earliest = line[LINE.said_counted_at] if line[LINE.said_sequence] > 0.0 else -math.inf
        latest = math.inf
    soonest = received_at - line[LINE.claim_trip]
    slow = rules[RULES.sends_every_s] + rules[RULES.jitter_factor] * line[LINE.jitter_s]
    if line[LINE.answers] < ENOUGH_ANSWERS:  # nobody knows yet how long this line may take
        slow = math.inf
    latest = min(latest, soonest + SOONER_S)
    return min(max(earliest, soonest - slow), latest), latest


@njit(cache=True, error_model="numpy")
def free_times(line_at, rules_at, earliest, latest, received_at, spacing_s):
    """Between which server times, seconds, a claim may show the others by its line's lag alone; inf: any.

    line_at, rules_at : addresses of the rows; the others are those of `stamp_bounds` and `lag_allowance`
    """
    line, rules = float64_at(line_at), float64_at(rules_at)
    if not is_tracked(line, received_at):
        return -math.inf, math.inf
    allowance = lag_allowance(line, rules, spacing_s)
    earliest, latest = stamp_bounds(line, rules, earliest, latest, received_at)
    return earliest - line[LINE.lag_s] - allowance, latest - line[LINE.lag_s] + allowance


@njit(cache=True, error_model="numpy")
def strays_at(line, stamp, shown, still, allowance):
    """True if a view that showed a time at a stamp, seconds, strays from the tracked lag.

    A screen that stands still is excused, unless it shows something older than what was said a moment ago.
    """
    lag = stamp - shown
    if still and lag > line[LINE.lag_s] and line[LINE.still] <= MOST_STILL + STILL_PER_S * line[LINE.jitter_s]:
        recent = stamp - line[LINE.said_client_time] <= MOMENT_S
        if recent and shown >= line[LINE.said_view_time] - allowance:
            return False
    return not abs(lag - line[LINE.lag_s]) <= allowance


@inner
def check_lag(f):
    """Find `view_restless` where the view strays from the tracked lag; works out the view at that lag to rule at.

    A claim without a stamp is taken for as old as the fastest message would be: it is ruled at the tracked lag too, but
    found only where the line's jitter doesn't explain how far it strays. Seconds.
    """
    line, rules = f.line, f.rules
    if not f.claim[CLAIM.has_view] or not is_tracked(line, f.now):
        return NOTHING
    allowance = lag_allowance(line, rules, spacing_of(f.snapshots, f.snapshot_count))
    earliest, latest = stamp_bounds(line, rules, f.claim[CLAIM.earliest], f.claim[CLAIM.latest], f.now)
    stamp, limit = f.claim[CLAIM.client_time], allowance
    if math.isnan(stamp):
        stamp = latest
        limit = allowance + rules[RULES.late_allowance_s] + rules[RULES.jitter_factor] * line[LINE.jitter_s]
    else:
        stamp = max(min(stamp, latest), earliest)
    from_tick, to_tick, fraction = f.claim[CLAIM.from_tick], f.claim[CLAIM.to_tick], f.claim[CLAIM.fraction]
    shown = shown_at(f.snapshots, f.snapshot_count, from_tick, to_tick, fraction)
    if math.isnan(shown):  # too old to be held: ruled at the cap so far
        shown = f.snapshots[TIME] if f.snapshot_count > 0 else math.inf
    strays = strays_at(line, stamp, shown, from_tick == to_tick or fraction >= 1.0, allowance)
    off = abs(stamp - shown - line[LINE.lag_s])
    measured(f, MEASURE.lag, off if strays else min(off, limit), limit)
    if not strays:
        return NOTHING
    if not rules[RULES.restless_is_noted]:
        if off > limit:
            f.found[FOUND.named] = 1.0
            f.found[FOUND.named_from], f.found[FOUND.named_to] = f.found[FOUND.from_slot], f.found[FOUND.to_slot]
            f.found[FOUND.named_fraction] = f.found[FOUND.fraction]
        rule_at(f, stamp - line[LINE.lag_s])
    return found(f, FINDING.view_restless, off, limit) if off > limit else NOTHING


@inner
def check_faces(f):
    """Find `two_faced_clock` where the least trip up that pongs say and the one that claims say can't both be true.

    Both are stamped by one clock and go up one line, so of enough of each the shortest are alike. Seconds.
    """
    line = f.line
    if line[LINE.answers] < ENOUGH_STAMPS or min(line[LINE.pong_trips], line[LINE.claim_trips]) < ENOUGH_STAMPS:
        return NOTHING
    if min(line[LINE.pong_span_s], line[LINE.claim_span_s]) < LEAST_SPAN_S:
        return NOTHING
    apart, limit = abs(line[LINE.pong_trip] - line[LINE.claim_trip]), f.rules[RULES.two_faced_s] + line[LINE.jitter_s]
    if apart <= limit:
        return NOTHING
    measured(f, MEASURE.faces, apart, limit)
    return found(f, FINDING.two_faced_clock, apart, limit)
