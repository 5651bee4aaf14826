"""Bounds of a claim's view: by the snapshots that can have reached its client, by its line, and by the rules.

A snapshot goes down and the claim comes up, so a claim can't arrive sooner than one round trip after the newer of its
snapshots was sent, however the trip splits. All times are seconds.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.dtypes import line_row, rules_row
from tinclock.core.kernels.facts import FINDING, MEASURE, NO_NUMBER, NOTHING, found, measured
from tinclock.core.kernels.hearing import ENOUGH_ANSWERS
from tinclock.core.kernels.moments import (
    SENT_AT,
    SLOT,
    SNAPSHOT_FIELDS,
    TICK,
    TICK_FIELDS,
    TICK_SLOT,
    TIME,
    snapshot_of,
    spacing_of,
    view_around,
    view_drawn,
)
from tinclock.core.kernels.registry import check

UNDRAWN, FROM_BEFORE = 0.0, 1.0
"""Reasons for an unknown view: nobody draws it, or it shows a snapshot from before its client's admission."""
OF_THE_FUTURE = -1.0
"""Reason for a view ahead: its tick is still to come. Otherwise the tick of the snapshot that can't have arrived."""


@inner
def shortest_trip(line, rules):
    """The least time, seconds, between sending a snapshot and receiving a claim that has seen it.

    The shortest of few pings is longer than the shortest trip that there is, so it bounds nothing until enough were
    answered, and then only less the jitter.
    """
    if line.answers < ENOUGH_ANSWERS:
        return 0.0
    return max(0.0, line.min_round_trip_s - rules.early_tolerance_s - line.jitter_s)


@inner
def latest_age(line, rules):
    """The greatest age of a view, seconds, that the connection and the client's drawing explain.

    Where snapshots are as far apart as the rules say; see `sparser_by`.
    """
    if line.samples == 0.0:
        return math.inf
    late = line.extrapolate_s if line.extrapolates else 0.0
    return (
        line.round_trip_s
        + line.interpolation_delay_s
        + rules.snapshot_every / rules.tick_rate_hz
        + rules.jitter_factor * line.jitter_s
        + rules.late_tolerance_s
        + late
    )


@inner
def sparser_by(spacing_s, rules):
    """Return the seconds by which snapshots are further apart than the rules say: rulings use those that were sent."""
    return max(0.0, spacing_s - rules.snapshot_every / rules.tick_rate_hz)


@inner
def bound_views(line, rules):
    """Work out what bounds a line's views, seconds, into its row."""
    line.shortest_s = shortest_trip(line, rules)
    line.latest_s = latest_age(line, rules)
    line.back_s = rules.max_view_backstep_s + rules.jitter_factor * line.jitter_s


@njit(cache=True, error_model="numpy")
def bound_line(line_at, rules_at):
    """`bound_views` by the addresses of both rows; seconds."""
    bound_views(line_row(line_at), rules_row(rules_at))


@njit(cache=True, error_model="numpy")
def ages_of_line(line_at, rules_at, spacing_s):
    """(youngest, oldest) that a line's views may be on arrival, seconds, with snapshots `spacing_s` apart."""
    line, rules = line_row(line_at), rules_row(rules_at)
    return shortest_trip(line, rules), latest_age(line, rules) + sparser_by(spacing_s, rules)


@inner
def _rule_between(f, before, after, fraction):
    """Rule at a view between two snapshots, by their places; no unit."""
    a, b = SNAPSHOT_FIELDS * before, SNAPSHOT_FIELDS * after
    f.found.from_tick, f.found.to_tick = f.snapshots[a + TICK], f.snapshots[b + TICK]
    f.found.fraction = fraction
    start = f.snapshots[a + TIME]
    f.found.view_time = start + fraction * (f.snapshots[b + TIME] - start)
    f.found.from_slot, f.found.to_slot = f.snapshots[a + SLOT], f.snapshots[b + SLOT]


@inner
def rule_at(f, view_time):
    """Rule at a server time, seconds, within what can have arrived and what the cap allows."""
    bound_views(f.line, f.rules)
    shortest, newest = f.line.shortest_s, -math.inf
    for place in range(f.snapshot_count):
        at = SNAPSHOT_FIELDS * place
        if f.now - f.snapshots[at + SENT_AT] >= shortest:
            newest = max(newest, f.snapshots[at + TIME])
    first = f.snapshots[TIME] if f.snapshot_count > 0 else math.inf
    oldest = max(f.now - f.rules.max_rewind_s, first)
    if newest < oldest:
        return
    before, after, fraction = view_around(f.snapshots, f.snapshot_count, min(max(view_time, oldest), newest))
    _rule_between(f, before, after, fraction)


@inner
def _before_admission(f, sent_at):
    """Find `view_unknown` for a view of what was sent, seconds, before this connection was there."""
    measured(f, MEASURE.snapshot_sent_after_admission, sent_at - f.line.since, 0.0)
    return found(f, FINDING.view_unknown, NO_NUMBER, NO_NUMBER, FROM_BEFORE)


@inner
def _cap(f, age):
    """Rule at the greatest age allowed; the finding says how old, seconds, the claimed view was."""
    limit = f.rules.max_rewind_s
    at = max(f.now - limit, f.snapshots[TIME])
    before, after, fraction = view_around(f.snapshots, f.snapshot_count, at)
    sent_at = f.snapshots[SNAPSHOT_FIELDS * before + SENT_AT]
    if sent_at < f.line.since:
        return _before_admission(f, sent_at)
    _rule_between(f, before, after, fraction)
    measured(f, MEASURE.age_of_view, age, limit)
    return found(f, FINDING.over_rewind_limit, age, limit)


@inner
def _present(f):
    """The server's own shooters see the newest tick as it is. No unit."""
    at = TICK_FIELDS * (f.tick_count - 1)
    known = f.tick_count > 0
    f.found.from_tick = f.found.to_tick = f.ticks[at + TICK] if known else -1.0
    f.found.fraction = 0.0
    f.found.view_time = f.ticks[at + TIME] if known else -math.inf
    f.found.from_slot = f.found.to_slot = f.ticks[at + TICK_SLOT] if known else 0.0
    return NOTHING


@inner
def _derived(f):
    """The view of a client that can't say it, from the time of its clock: (place, place, fraction), place -1 for none.

    Its screen was behind the server by one trip down and by its interpolation delay. The trip down is taken as half
    the shortest round trip, which is off by as much as the offset is when the path is lopsided, and the other way: on
    a line without jitter the two cancel.
    """
    line = f.line
    if line.samples == 0.0:
        return -1, -1, 0.0
    stamp = f.claim.client_time
    stamp = 0.0 if math.isnan(stamp) else stamp
    at = stamp - line.offset_s - line.round_trip_s / 2.0 - line.interpolation_delay_s
    return view_drawn(
        f.snapshots, f.snapshot_count, at, line.shows_nearest != 0.0, line.extrapolates != 0.0,
        line.extrapolate_s,
    )  # fmt: skip


@inner
def _underived(f):
    """Find that no view follows from the client time: the clock isn't known yet, or the time is long past. Seconds."""
    if f.line.samples == 0.0 or f.snapshot_count == 0:
        measured(f, MEASURE.view_underived, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.view_unknown, NO_NUMBER, NO_NUMBER, UNDRAWN)
    stamp = f.claim.client_time
    return _cap(f, f.now - ((0.0 if math.isnan(stamp) else stamp) - f.line.offset_s))


@inner
def _not_held(f, from_tick, to_tick, fraction):
    """Rule on a view whose snapshots aren't both held: the future, the distant past, or ticks that were never sent."""
    newest = f.ticks[TICK_FIELDS * (f.tick_count - 1) + TICK] if f.tick_count > 0 else -1.0
    if to_tick > newest:
        measured(f, MEASURE.newest_snapshot, to_tick, newest)
        return found(f, FINDING.view_ahead, to_tick, newest, OF_THE_FUTURE)
    sane = 0.0 <= from_tick <= to_tick and 0.0 <= fraction <= 1.0
    if sane and f.snapshot_count > 0 and from_tick < f.snapshots[TICK]:
        return _cap(f, f.now - f.snapshots[TIME])
    measured(f, MEASURE.view_unsent, NO_NUMBER, NO_NUMBER)
    return found(f, FINDING.view_unknown, NO_NUMBER, NO_NUMBER, UNDRAWN)


@inner
def _is_drawn(f, before, after, fraction):
    """True if a client that draws like this one can have got to a fraction between two snapshots. No unit."""
    furthest = 1.0
    if f.line.extrapolates and before != after:
        gap = f.snapshots[SNAPSHOT_FIELDS * after + TIME] - f.snapshots[SNAPSHOT_FIELDS * before + TIME]
        furthest = 1.0 + f.line.extrapolate_s / gap
    return 0.0 <= fraction <= furthest


@check
def check_view(f):
    """Find `view_unknown`, `view_ahead`, `view_late` or `over_rewind_limit`; works out the view to rule at. Seconds.

    It is late when it is older than round trip, interpolation delay, the snapshots' spacing and a few times the jitter
    explain. Older than `max_rewind_s`, it is ruled at that age.
    """
    if f.line.is_servers:
        return _present(f)
    if f.claim.has_view:
        from_tick, to_tick, fraction = f.claim.from_tick, f.claim.to_tick, f.claim.fraction
        before = snapshot_of(f.snapshots, f.snapshot_count, from_tick)
        after = snapshot_of(f.snapshots, f.snapshot_count, to_tick)
        if before < 0 or after < 0:
            return _not_held(f, from_tick, to_tick, fraction)
    else:
        before, after, fraction = _derived(f)
        if before < 0:
            return _underived(f)
    if before > after or not _is_drawn(f, before, after, fraction):
        measured(f, MEASURE.view_undrawn, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.view_unknown, NO_NUMBER, NO_NUMBER, UNDRAWN)
    sent_at = f.snapshots[SNAPSHOT_FIELDS * before + SENT_AT]
    if sent_at < f.line.since:
        return _before_admission(f, sent_at)
    if f.line.shows_nearest:
        before = after = before if fraction < 0.5 else after
        fraction = 0.0
    return _check_age(f, before, after, fraction)


@inner
def _check_age(f, before, after, fraction):
    """`check_view` of a view between two snapshots that are held, by their places. Seconds."""
    cap = f.rules.max_rewind_s
    bound_views(f.line, f.rules)
    shortest = f.line.shortest_s
    latest = f.line.latest_s + sparser_by(spacing_of(f.snapshots, f.snapshot_count), f.rules)
    since_sent = f.now - f.snapshots[SNAPSHOT_FIELDS * after + SENT_AT]
    if since_sent < shortest:
        measured(f, MEASURE.since_the_snapshot_was_sent, since_sent, shortest)
        newer = f.snapshots[SNAPSHOT_FIELDS * after + TICK]
        return found(f, FINDING.view_ahead, since_sent, shortest, newer)
    start = f.snapshots[SNAPSHOT_FIELDS * before + TIME]
    age = f.now - (start + fraction * (f.snapshots[SNAPSHOT_FIELDS * after + TIME] - start))
    if age > cap:
        return _cap(f, age)
    _rule_between(f, before, after, fraction)
    measured(f, MEASURE.age_of_view, age, min(latest, cap))
    if age > latest:
        return found(f, FINDING.view_late, age, latest)
    return NOTHING


@check
def check_view_order(f):
    """Find `view_backstep` when the view lies before an earlier one by more than packets get reordered; seconds."""
    if f.line.is_servers:
        return NOTHING
    back = f.line.newest_view_time - f.found.view_time
    bound_views(f.line, f.rules)
    allowance = f.line.back_s
    if back <= 0.0:
        measured(f, MEASURE.view_order, 0.0, allowance)
        return NOTHING
    measured(f, MEASURE.view_order, back, allowance)
    return found(f, FINDING.view_backstep, back, allowance) if back > allowance else NOTHING
