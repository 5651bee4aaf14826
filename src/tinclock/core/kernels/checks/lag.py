"""Checks of a view against the lag that its line explains and its client reported, and of the client's clock. Seconds.

The age of a view is the time since what it shows, when its claim arrives. The explained age is that of the fastest
message: shortest round trip plus interpolation delay, by the server's clock alone.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.checks.view import rule_at
from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.dtypes import FLAGGED, line_row, rules_row
from tinclock.core.kernels.facts import FINDING, MEASURE, NO_NUMBER, NOTHING, found, measured
from tinclock.core.kernels.hearing import ENOUGH_ANSWERS, RESTARTS_HALVE_S, announced
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.moments import TIME, shown_at, spacing_of, waits_for_tick
from tinclock.core.kernels.registry import check

FRESH_S = 2.0
"""Longest silence after which a shot is still held against the client's own stamps."""
SOONER_S = 0.001
"""By so much a message may be faster than the fastest of the last while."""
GIVE = 0.5
"""Fraction of the jitter by which a view may lie outside the explained ages."""
UNANSWERED_TRIP_S = 0.1
"""Round trip that is assumed for a client that was pinged and has answered nothing."""
UNKNOWN_JITTER_S, UNTOLD_JITTER_S = 0.015, 0.0025
"""Jitter that is assumed before enough pings were answered, and the most that counts for a client that tells no lag."""
KNOWN_TRIP = 16.0
"""Answered pings after which the round trip of the account's last connection no longer counts."""
HOLD_S, RARE = 0.002, 1.5
"""A client may hold a message for the usual gap between its messages and so much, unless that gap is larger than `RARE`
times `max_send_delay_s`: then its shots don't wait for its reports."""
RARE_HOLD_S, UNTOLD_HOLD_S = 0.02, 0.008
"""Seconds for which a client may hold a message if it sends reports rarely, and if it tells no lag."""
MAX_STILL, STILL_PER_S = 0.05, 15.0
"""A client of which a larger share of messages or shots shows a screen that stands still is excused no more: so much on
a quiet line, and so much more for each second of jitter by the server's clock."""
MOMENT_S = 0.15
"""The last message before a shot with such a view is at most so old, by the client's clock."""
ENOUGH_STAMPS = 24
"""Minimum number of pongs, and of messages, that are compared."""
MIN_SPAN_S = 15.0
"""Both over at least so long a time: a line that is congested for a while delays whatever goes up then."""
MAX_RESTARTS = 6.0
"""Restarts of a client's clock lately, of which half are forgotten in a minute: one every 15 s."""


@inner
def is_tracked(line, received_at):
    """True if a line's lag is known at a time, seconds, by stamps that still hold."""
    return not math.isnan(line.lag_s) and received_at - line.said_received_at <= FRESH_S


@inner
def display_delay_tolerance(line, rules, spacing_s):
    """Return the tolerance around the estimated display delay, seconds. spacing_s : between two snapshots"""
    return rules.display_delay_tolerance_s + (spacing_s if line.shows_nearest else 0.0)


@inner
def restarts_lately(line, now):
    """Return how often the client's clock was set lately: half of the restarts are forgotten in a minute. No unit."""
    return line.restarts * 0.5 ** (max(0.0, now - line.restarted_at) / RESTARTS_HALVE_S)


@inner
def _tells(line):
    """True if a client's own stamps tell how late its messages are, because its clock was not set again and again."""
    return not math.isnan(line.late_s) and restarts_lately(line, line.heard_at) <= MAX_RESTARTS


@inner
def line_jitter(line):
    """Return the jitter that pongs, the messages' ages and their arrivals all show, seconds.

    Pongs that are late on purpose and stamps that are too early widen nothing while messages come evenly.
    """
    if line.answers < ENOUGH_ANSWERS and line.trip_before_s == 0.0:
        return max(line.jitter_s, UNKNOWN_JITTER_S)
    if not _tells(line):
        return min(line.jitter_s, UNTOLD_JITTER_S)
    both = min(line.jitter_s, 2.0 * line.late_s)
    return both if line.uneven_s == 0.0 else min(both, 2.0 * line.uneven_s)


@inner
def line_trip(line):
    """Return the shortest round trip, seconds; inf for a line that was never pinged."""
    before = line.trip_before_s
    if line.samples != 0.0:
        trip = line.round_trip_s
        return min(trip, before) if before > 0.0 and line.answers < KNOWN_TRIP else trip
    if before > 0.0:
        return before
    return UNANSWERED_TRIP_S if line.asked > 0.0 else math.inf


@njit(cache=True, error_model="numpy")
def trip_of(line_at):
    """`line_trip` by the row's address; seconds."""
    return line_trip(line_row(line_at))


@inner
def slack(line, rules, tick_s):
    """Return how much later than the fastest message a claim may arrive, seconds.

    By how far apart the client's messages usually come, and by the line's jitter.
    tick_s : length of a tick, where what arrives waits for the next one
    """
    most, gap = rules.max_send_delay_s, line.gap_s + HOLD_S
    hold = min(RARE_HOLD_S if line.gap_s == 0.0 or gap > RARE * most else gap, most)
    if not _tells(line):
        hold = min(UNTOLD_HOLD_S, most)
    return hold + tick_s + rules.jitter_factor * line_jitter(line)


@inner
def explained_age(line, rules, spacing_s, now):
    """Return (age, most) of the fastest message's view, seconds: as tracked, and as the line explains at most.

    Infinite for a line that was never pinged and told nothing.
    """
    trip, delay, buffer = line_trip(line), announced(line, now), line.buffer_s
    most = trip + delay + spacing_s
    if not math.isnan(buffer):
        most = min(most, trip + buffer)
    most += display_delay_tolerance(line, rules, spacing_s) + GIVE * line_jitter(line)
    if is_tracked(line, now):
        return min(line.told_age_s, most), most
    return (trip + delay if math.isnan(buffer) else min(trip + buffer, most)), most


@inner
def ages_allowed(line, rules, spacing_s, tick_s, now):
    """Return (youngest, oldest) that a view may be on arrival, seconds, whatever its client stamps."""
    age, _ = explained_age(line, rules, spacing_s, now)
    give = display_delay_tolerance(line, rules, spacing_s) + GIVE * line_jitter(line)
    youngest = age - give
    if line.answers < ENOUGH_ANSWERS and line.trip_before_s == 0.0:  # the trip may be shorter than it seems
        youngest = -math.inf
    if math.isinf(line_trip(line)):
        return youngest, math.inf
    return youngest, age + slack(line, rules, tick_s) + give


@inner
def stamp_bounds(line, rules, earliest, latest, tick_s, received_at):
    """Between which times of its clock, seconds, a claim was made: (earliest, latest).

    earliest, latest : by the messages around it; NaN: by the newest that came

    What was sent before it and after it says so, within what the line explains: nothing comes up faster than the
    fastest did, and what takes longer than the line and the client's rate of sending explains was made later than it
    says.
    """
    soonest, late = received_at - line.claim_trip.value, slack(line, rules, tick_s)
    if math.isnan(earliest):
        earliest = line.said_counted_at if line.said_sequence > 0.0 else -math.inf
        latest = math.inf
    else:  # it was overtaken: packets are, by the line's jitter, and what waits for the next packet isn't
        late = min(late, tick_s + rules.jitter_factor * line_jitter(line))
    if line.answers < ENOUGH_ANSWERS:  # nobody knows yet how long this line may take
        late = math.inf
    latest = min(max(latest, soonest - late), soonest + SOONER_S)
    return min(max(earliest, soonest - late), latest), latest


@njit(cache=True, error_model="numpy")
def free_times(line_at, rules_at, ticks_at, tick_count, earliest, latest, received_at, spacing_s):
    """Between which server times, seconds, a claim may show the others by its line's lag alone; inf: any.

    line_at, rules_at, ticks_at : addresses of the rows; the others are those of `stamp_bounds` and
    `display_delay_tolerance`
    """
    line, rules = line_row(line_at), rules_row(rules_at)
    tick_s = waits_for_tick(float64_at(ticks_at), tick_count, received_at)
    tracked = is_tracked(line, received_at)
    youngest_age, oldest_age = ages_allowed(line, rules, spacing_s, tick_s, received_at)
    oldest, newest = received_at - oldest_age, received_at - youngest_age
    if tracked:
        allowance = display_delay_tolerance(line, rules, spacing_s)
        earliest, latest = stamp_bounds(line, rules, earliest, latest, tick_s, received_at)
        oldest = max(oldest, earliest - line.lag_s - allowance)
        newest = min(newest, latest - line.lag_s + allowance)
    return min(oldest, newest), newest


@njit(cache=True, error_model="numpy")
def lags_of(line_at, rules_at, received_at, spacing_s):
    """Return (told, explained, tracked) ages of the fastest message's view, seconds; NaN where one isn't known."""
    line, rules = line_row(line_at), rules_row(rules_at)
    told = line.told_age_s if is_tracked(line, received_at) else math.nan
    trip = line_trip(line)
    if math.isinf(trip):
        return told, math.nan, told
    age, _ = explained_age(line, rules, spacing_s, received_at)
    return told, trip + announced(line, received_at), age


@inner
def strays_at(line, stamp, shown, still, allowance):
    """True if a view that showed a time at a stamp, seconds, strays from the told lag.

    A screen that stands still is excused, unless it shows something older than what was said a moment ago.
    """
    lag, excused = stamp - shown, MAX_STILL + STILL_PER_S * line_jitter(line)
    if still and lag > line.lag_s and max(line.still, line.still_shots) <= excused:
        recent = stamp - line.said_client_time <= MOMENT_S
        if recent and shown >= line.said_view_time - allowance:
            return False
    return not abs(lag - line.lag_s) <= allowance


@inner
def _name_view(f):
    """Keep the view that the claim named, before it is ruled at another. No unit."""
    f.found.named = 1.0
    f.found.named_from, f.found.named_to = f.found.from_slot, f.found.to_slot
    f.found.named_fraction = f.found.fraction


@check
def check_lag(f):
    """Find `view_inconsistent` or `view_unexplained`; works out the view to rule at instead. Seconds.

    A view that strays from the lag that its client told is ruled at that lag; one that its line doesn't explain at the
    nearest that it explains. A claim without a stamp is taken for as old as the fastest message would be, and found
    only where the line's jitter doesn't explain how far it strays.
    """
    line, rules, has_view = f.line, f.rules, f.claim.has_view != 0.0
    told = has_view and is_tracked(line, f.now)
    if line.is_servers or not (told or not math.isinf(line_trip(line))):
        return NOTHING
    spacing, tick_s = spacing_of(f.snapshots, f.snapshot_count), waits_for_tick(f.ticks, f.tick_count, f.now)
    shown, still = f.found.view_time, False
    if has_view:
        from_tick, to_tick, fraction = f.claim.from_tick, f.claim.to_tick, f.claim.fraction
        shown, still = shown_at(f.snapshots, f.snapshot_count, from_tick, to_tick, fraction), from_tick == to_tick
        still = still or fraction >= 1.0
        if math.isnan(shown):  # too old to be held: ruled at the cap so far
            shown = f.snapshots[TIME] if f.snapshot_count > 0 else math.inf
    youngest, oldest = ages_allowed(line, rules, spacing, tick_s, f.now)
    if not told:
        return _check_explained(f, shown, youngest, oldest)
    allowance = display_delay_tolerance(line, rules, spacing)
    earliest, latest = stamp_bounds(line, rules, f.claim.earliest, f.claim.latest, tick_s, f.now)
    stamp, limit = f.claim.client_time, allowance
    if math.isnan(stamp):
        stamp = latest
        limit = allowance + rules.late_tolerance_s + rules.jitter_factor * line_jitter(line)
    else:
        stamp = max(min(stamp, latest), earliest)
    strays = strays_at(line, stamp, shown, still, allowance)
    off = abs(stamp - shown - line.lag_s)
    measured(f, MEASURE.display_delay, off if strays else min(off, limit), limit)
    if not strays:
        return NOTHING if still and off > allowance else _check_explained(f, shown, youngest, oldest)
    if f.actions[FINDING.view_inconsistent] != FLAGGED:
        if off > limit:
            _name_view(f)
        shift = line.told_age_s - explained_age(line, rules, spacing, f.now)[0]
        at = min(max(stamp - line.lag_s + shift, f.now - oldest), f.now - youngest)
        rule_at(f, at)
    return found(f, FINDING.view_inconsistent, off, limit) if off > limit else NOTHING


@inner
def _check_explained(f, shown, youngest, oldest):
    """Find `view_unexplained` for a view whose age on arrival its line doesn't explain. Seconds."""
    age = f.now - shown
    nearest = min(max(age, youngest), oldest)
    measured(f, MEASURE.explained, age, nearest)
    if age == nearest or math.isnan(age):
        return NOTHING
    if f.actions[FINDING.view_unexplained] != FLAGGED:
        rule_at(f, f.now - nearest)
    return found(f, FINDING.view_unexplained, age, nearest)


@check
def check_told(f):
    """Find `display_delay_unreported`: the line is known, and the client has reported no delay lately. No unit."""
    line = f.line
    if line.is_servers or not f.claim.has_view or line.answers < ENOUGH_ANSWERS:
        return NOTHING
    if f.now - line.said_received_at <= FRESH_S:
        return NOTHING
    measured(f, MEASURE.display_delay_unreported, NO_NUMBER, NO_NUMBER)
    return found(f, FINDING.display_delay_unreported, NO_NUMBER, NO_NUMBER)


@check
def check_faces(f):
    """Find `clock_mismatch` where the least trip up by pongs and that by claims can't both be true.

    Both are stamped by one clock and go up one line, so of enough of each the shortest are alike, but for the frame
    between a stamp and its sending, and the tick for which what arrives may wait. Find `clock_inconsistent` for a clock
    that was set again and again. Seconds.
    """
    line = f.line
    often = restarts_lately(line, f.now)
    if often > MAX_RESTARTS:
        measured(f, MEASURE.restarts, often, MAX_RESTARTS)
        return found(f, FINDING.clock_inconsistent, often, MAX_RESTARTS)
    if line.answers < ENOUGH_STAMPS or min(line.pong_trip.count, line.claim_trip.count) < ENOUGH_STAMPS:
        return NOTHING
    if min(line.pong_trip.span_s, line.claim_trip.span_s) < MIN_SPAN_S:
        return NOTHING
    apart, limit = abs(line.pong_trip.value - line.claim_trip.value), f.rules.clock_mismatch_tolerance_s + line.jitter_s
    limit += waits_for_tick(f.ticks, f.tick_count, f.now)
    if apart <= limit:
        return NOTHING
    measured(f, MEASURE.clock_mismatch, apart, limit)
    return found(f, FINDING.clock_mismatch, apart, limit)
