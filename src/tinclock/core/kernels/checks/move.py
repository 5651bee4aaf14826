"""Move reports: speed, acceleration, leaps, and time. Excess is cut down.

Metres and seconds. `f.moved` points at the row of the body's accepted place. A second body, the model, keeps to the
rules exactly and follows the reports as fast as the rules allow. The accepted place may be ahead of the model by an
allowance, so a client gets that allowance once, and not with every report. See `walls` and `ground` for the rest.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.committing import ACCEPTED, tell_standing
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.dtypes import (
    FLAGGED,
    MAX_PLACES,
)
from tinclock.core.kernels.facts import FINDING, MEASURE, NO_NUMBER, NOTHING, found, late_on, measured, stored_of
from tinclock.core.kernels.hearing import hear
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.moments import TICK_FIELDS, TICK_SLOT, waits_for_tick
from tinclock.core.kernels.poses import epochs_at
from tinclock.core.kernels.registry import check
from tinclock.core.tolerances import TOLERANCES

LONGEST_PUSH = 1.0 + TOLERANCES.stick
"""A stick's reach, with room for rounding."""
LONGEST_STEP_S = 1.0
"""Nobody moves for longer than this in one report, however long it was silent."""
MIN_AHEAD_S = 0.02
"""Time by which a report may come sooner than earlier ones on a line without jitter."""
UNKNOWN_AHEAD_S = 0.1
"""The same on a line that has not answered a ping yet."""
DRIFT = 0.001
"""Share by which a client's clock may run fast."""
REFILL = 0.002
"""Share of its way over ground by which a body's spare way is refilled."""
MIN_PAUSE_S, PAUSE_REPORTS = 0.1, 3.5
"""A pause between two reports is free up to this, and up to so many of the client's usual intervals."""
PAUSE_SHARE, MAX_PAUSE_S = 0.05, 1.0
"""Longer pauses are free where pongs were late too, up to a budget: this share of the time, saved up to this."""
UNUSED_S, HELD_UP_S = 0.05, 1.0
"""Time constants with which unused time expires: usually, and after a silence of the line."""
FORGOTTEN, MAX_EARLY_S = 0.01, 0.02
"""Seconds cut off a client's time before they are a finding, and the share of time by which that sum shrinks."""
USUAL_REPORTS = 16.0
SHORTEST_S, LONGEST_S = 1.0 / 256.0, 1.0 / 8.0
"""Number of reports over which the usual interval is averaged, within these bounds."""
_TIME_S = TOLERANCES.time_s


@inner
def way_of(f):
    """Return the way from the last accepted place to this report's: (x, y, z), metres."""
    return (
        f.found.place_x - f.moved.x,
        f.found.place_y - f.moved.y,
        f.found.place_z - f.moved.z,
    )


@inner
def cut_down(f, code, x, y, z):
    """Put the body where the rules let it go, metres, unless they say that this finding is only flagged."""
    if f.actions[code] != FLAGGED:
        f.found.place_x, f.found.place_y, f.found.place_z = x, y, z


@inner
def late(f):
    """Return how late a client may know of something that the server decides, seconds: by its round trip."""
    return late_on(f.line, f.rules)


@inner
def rides(f):
    """True if the body rides something that is here, or did when its client sent the report."""
    column = int(f.body.vehicle)
    if column < 0 or f.tick_count == 0 or not f.body.rode_until > f.now - late(f):
        return False
    slot = int(f.ticks[TICK_FIELDS * (f.tick_count - 1) + TICK_SLOT])
    return epochs_at(stored_of(f)[0], slot)[column] > 0


@inner
def is_free(f):
    """True if the server lets this body move without limits, or did when its client sent the report."""
    return f.body.free_until > f.now - late(f) or rides(f)


@inner
def speed_factor(f):
    """Return the factor of the body's speed: the highest that its client may still know of. No unit."""
    body, factor = f.body, 1.0
    if body.speed_until > f.now:
        factor = body.speed_factor
    if body.speed_until > f.now - late(f):
        factor = max(factor, body.speed_factor)
    if body.speed_since > f.now - late(f):
        factor = max(factor, body.speed_before)
    return factor


@inner
def is_pushed(f):
    """True if the body may still move by a push of the server's."""
    return f.body.push_until > f.now - late(f)


@check
def check_phase_of_move(f):
    """Find `not_in_phase` for a move report in a phase without moves. No unit."""
    if not f.rules.moves_closed:
        return NOTHING
    measured(f, MEASURE.phase, NO_NUMBER, NO_NUMBER)
    return found(f, FINDING.not_in_phase, NO_NUMBER, NO_NUMBER)


@check
def check_reported(f):
    """Find `moves_not_ruled` where the rules have no movement or the server never put the body anywhere. No unit."""
    if not f.is_put or not f.limits.has_movement:
        measured(f, MEASURE.move, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.moves_not_ruled, NO_NUMBER, NO_NUMBER)
    f.found.is_placed = 1.0
    f.found.place_x, f.found.place_y, f.found.place_z = (
        f.claim.origin_x,
        f.claim.origin_y,
        f.claim.origin_z,
    )
    return NOTHING


@check
def check_push(f):
    """Find `input_too_long`: an input longer than a stick goes. It is cut down, never used as it is. No unit."""
    length = f.claim.push
    if math.isnan(length):
        return NOTHING
    measured(f, MEASURE.push, length, 1.0)
    return found(f, FINDING.input_too_long, length, 1.0) if length > LONGEST_PUSH else NOTHING


@inner
def _ahead(f):
    """Return the most that a client's time may run ahead of the server's, seconds, by its line's jitter."""
    line, rules = f.line, f.limits
    explained = UNKNOWN_AHEAD_S if line.asked > 0.0 else rules.time_tolerance_s
    if line.answers > 0.0:
        explained = MIN_AHEAD_S + rules.jitter_factor * line.jitter_s
        explained += waits_for_tick(f.ticks, f.tick_count, f.now)
    return min(rules.time_tolerance_s, explained)


@inner
def _pause(f, since):
    """Return how much of the time since the last report counts, seconds: (usual pause, further silence of the line)."""
    line, moved = f.line, f.moved
    free = max(MIN_PAUSE_S, PAUSE_REPORTS * moved.interval_s)
    if line.answers == 0.0:
        return min(since, free), 0.0
    free += f.limits.jitter_factor * line.jitter_s
    answered = f.now - line.pong_at
    late = max(answered - line.pong_every_s, line.pong_late_s if answered < MIN_PAUSE_S else 0.0)
    saved = min(MAX_PAUSE_S, moved.silence_s + PAUSE_SHARE * since)
    most = min(since - free, LONGEST_STEP_S - free)
    return min(since, free), max(0.0, min(min(late, saved), most))


@inner
def _usable(f, since):
    """Return the time before the present that a report may use, seconds: (all of it, the part that the line held up).

    It is the time since the last report, and the time which that report left unused. Unused time counts as far as the
    jitter explains it, and longer after a silence of the line, because the reports that were held up arrive together.
    """
    moved, free = f.moved, _ahead(f)
    usual, silent = _pause(f, since)
    held_up = moved.held_up_s * math.exp(-since / HELD_UP_S)
    left = max(0.0, moved.reported_at - moved.clock_at)
    kept = min(left, free + held_up)
    kept += (left - kept) * math.exp(-since / UNUSED_S)
    return usual + silent + kept, silent + held_up


@check
def check_clock(f):
    """Find `stale_move` or `fast_clock`; works out the time, seconds, that the report may use.

    A late packet of a heavy tail takes a few milliseconds off the next reports: only what adds up is found.
    """
    moved, last = f.moved, f.moved.client_time
    step = f.claim.client_time - last
    if f.claim.client_time <= last:
        measured(f, MEASURE.time_since_the_last_report, step, 0.0)
        return found(f, FINDING.stale_move, step, 0.0)
    since = f.now - moved.reported_at
    usable, held_up = _usable(f, since)
    begin = max(moved.clock_at, f.now - usable)
    if math.isnan(last) or moved.was_put:  # what a client says of the time before that counts for nothing
        step = max(1.0 / f.limits.tick_rate_hz, f.now - begin)
    until = f.now + _ahead(f)
    there_was = max(0.0, until - begin)
    paused = max(0.0, min(begin - moved.clock_at, step - there_was))
    measured(f, MEASURE.time_since_the_last_report, step, there_was + paused)
    is_flagged = f.actions[FINDING.fast_clock] == FLAGGED
    f.found.seconds = step - paused if is_flagged else min(step, there_was)
    f.found.held_up_s = held_up
    f.found.clock_from, f.found.clock_until = begin, begin + max(there_was, f.found.seconds)
    f.found.owed_m = moved.owed_m + f.limits.speed_m_s * min(paused, LONGEST_STEP_S)
    excess = max(0.0, step - there_was - paused - DRIFT * step)
    early = max(0.0, moved.too_early_s - FORGOTTEN * since) + excess
    f.found.too_early_s = min(early, 5.0 * MAX_EARLY_S)  # a clock that was set once is forgotten within seconds
    if excess > _TIME_S and f.found.too_early_s > MAX_EARLY_S:
        return found(f, FINDING.fast_clock, step, there_was + paused)
    return NOTHING


@check
def check_leap(f):
    """Find `teleport`: further than any speed explains, by a whole leap; metres. The body stays where it was."""
    rules = f.limits
    dx, dy, dz = way_of(f)
    apart = length_of(dx, dy, dz)
    fastest = length_of(rules.speed_m_s, max(rules.up_m_s, rules.down_m_s), 0.0)
    limit = rules.teleport_m + fastest * speed_factor(f) * f.found.seconds + f.found.owed_m
    if is_pushed(f):
        limit += f.body.push_m + f.body.push_z * f.found.seconds
    if apart <= limit or is_free(f):
        return NOTHING
    measured(f, MEASURE.leap, apart, limit)
    cut_down(f, FINDING.teleport, f.moved.x, f.moved.y, f.moved.z)
    f.found.leapt = 1.0
    return found(f, FINDING.teleport, apart, limit)


@inner
def begun_at(f):
    """Return the model's place after the last report: (x, y, z), metres."""
    moved = f.moved
    return (
        moved.x - moved.lead_x,
        moved.y - moved.lead_y,
        moved.z - moved.lead_z,
    )


@inner
def _steps(f, dz):
    """Return how far a body gets up or down in a report's time, metres; with gravity a stair comes on top."""
    rules, seconds = f.limits, f.found.seconds
    step, up = 0.0, rules.up_m_s
    if rules.gravity_m_s2 > 0.0 and f.has_level:
        step, up = rules.step_m, max(up, rules.jump_m_s)
    if dz > 0.0 and is_pushed(f):
        up = max(up, f.body.push_z)
    return (up if dz > 0.0 else rules.down_m_s) * seconds + step


@inner
def _pushed(f, dx, dy):
    """Return the part of a way over ground, metres, that a push explains: along it, and no more than is left of it."""
    body = f.body
    px, py = body.push_x, body.push_y
    size = length_of(px, py, 0.0)
    if size == 0.0 or not is_pushed(f):
        return 0.0, 0.0
    along = min(max(0.0, (dx * px + dy * py) / size), size * f.found.seconds, body.push_m)
    own = f.limits.speed_m_s * speed_factor(f) * f.found.seconds  # its own legs come first
    along = min(along, max(0.0, length_of(dx, dy, 0.0) - own))
    return along * px / size, along * py / size


@check
def check_speed(f):
    """Find `too_fast`; cuts the way, metres, down to what the body can do, over ground and upright by themselves.

    A way that takes longer than the report says uses up more of the time that there is, and the next report may give it
    back: stamps are as coarse as frames, and places are rounded.
    What it may make up after a pause is `catching_up`: cut down as well, but nothing to hold against anybody.
    """
    rules, out = f.limits, f.found
    x, y, z = begun_at(f)
    dx, dy, dz = out.place_x - x, out.place_y - y, out.place_z - z
    if is_free(f):
        out.model_x, out.model_y, out.model_z = out.place_x, out.place_y, out.place_z
        return NOTHING
    out.pushed_x, out.pushed_y = _pushed(f, dx, dy)
    dx, dy = dx - out.pushed_x, dy - out.pushed_y
    x, y = x + out.pushed_x, y + out.pushed_y
    over, allowance = length_of(dx, dy, 0.0), rules.rounding_m
    fastest, there_is = rules.speed_m_s * speed_factor(f), out.clock_until - out.clock_from
    needed, step = min(over / fastest, there_is) if fastest > 0.0 else there_is, out.seconds
    seconds = max(needed, step - f.moved.extra_s)
    out.seconds, out.extra_s = seconds, max(0.0, seconds - step)
    most, upright = fastest * seconds, _steps(f, dz)
    share = most / over if over > most else 1.0
    mx, my, mz = x + dx * share, y + dy * share, z + math.copysign(min(abs(dz), upright), dz)
    out.model_x, out.model_y, out.model_z = mx, my, mz
    measured(f, MEASURE.way_over_ground, over, most + allowance)
    too_far, too_high = over - most - allowance, abs(dz) - upright - allowance
    if too_far <= 0.0 and too_high <= 0.0:
        return NOTHING
    lead = allowance / over if too_far > 0.0 else (1.0 - share)
    lift = math.copysign(min(max(0.0, abs(dz) - upright), allowance), dz)
    code = FINDING.catching_up if too_far <= out.owed_m and too_high <= 0.0 else FINDING.too_fast
    cut_down(f, code, mx + dx * lead, my + dy * lead, mz + lift)
    if f.actions[code] == FLAGGED:
        out.model_x, out.model_y, out.model_z = x + dx, y + dy, z + dz
    if too_far > 0.0:
        return found(f, code, over, most + allowance, seconds)
    measured(f, MEASURE.way_upright, abs(dz), upright + allowance)
    return found(f, code, abs(dz), upright + allowance, -seconds)


@check
def check_turn(f):
    """Find `turns_too_sharply`; cuts the change of velocity over ground, metres a second, down to what the body can do.

    Walls stop a body or turn it aside for nothing: whatever is left of a velocity v after that lies in the circle that
    has v as its diameter (Thales), and only what lies further off than that counts as acceleration. Between the middles
    of two reports lies half of both their times.
    """
    rules, seconds, out, moved = f.limits, f.found.seconds, f.found, f.moved
    out.model_vx, out.model_vy = moved.velocity_x, moved.velocity_y
    if seconds <= 0.0 or out.leapt:
        return NOTHING
    x, y, _ = begun_at(f)
    x, y = x + out.pushed_x, y + out.pushed_y
    vx, vy = (out.model_x - x) / seconds, (out.model_y - y) / seconds
    if is_free(f):
        out.model_vx, out.model_vy = vx, vy
        return NOTHING
    hx, hy = 0.5 * moved.velocity_x, 0.5 * moved.velocity_y
    ax, ay = vx - hx, vy - hy
    off, free = length_of(ax, ay, 0.0), length_of(hx, hy, 0.0)
    most = rules.acceleration_m_s2 * max(1.0, speed_factor(f)) * max(seconds, 0.5 * (seconds + moved.step_s))
    measured(f, MEASURE.change_of_velocity, max(0.0, off - free), most)
    out.model_vx, out.model_vy = vx, vy
    if off - free <= most:
        return NOTHING
    share = (free + most) / off
    out.model_vx, out.model_vy = hx + ax * share, hy + ay * share
    mx, my = x + out.model_vx * seconds, y + out.model_vy * seconds
    aside = length_of(out.model_x - mx, out.model_y - my, 0.0) - rules.rounding_m
    if 0.0 < aside <= moved.spare_m:
        out.spent_m = aside
        return NOTHING
    out.model_x, out.model_y = mx, my
    if aside <= 0.0:
        return NOTHING
    cut_down(f, FINDING.turns_too_sharply, mx, my, out.place_z)
    return found(f, FINDING.turns_too_sharply, off - free, most)


@inner
def keep_place(moved, now, x, y, z):
    """The body is accepted to be at a place from a server time on; metres, seconds."""
    moved.x, moved.y, moved.z = x, y, z
    place = moved.places[int(moved.past) % MAX_PLACES]
    place.since, place.x, place.y, place.z = now, x, y, z
    moved.past += 1.0


@inner
def usual(mean, gap):
    """Return the usual interval, seconds, after one more gap."""
    return mean + (min(max(gap, SHORTEST_S), LONGEST_S) - mean) / USUAL_REPORTS


@inner
def _go(f):
    """Move the model on; metres and seconds."""
    moved, out, seconds = f.moved, f.found, f.found.seconds
    px, py, pz = out.place_x, out.place_y, out.place_z
    moved.lead_x, moved.lead_y = px - out.model_x, py - out.model_y
    moved.lead_z = pz - out.model_z
    moved.velocity_x, moved.velocity_y = out.model_vx, out.model_vy
    moved.stands, moved.rise_m_s = out.stands, out.rise_m_s
    moved.has_ground, moved.was_put = out.has_ground, 0.0
    dx, dy, _ = way_of(f)
    walked = REFILL * length_of(dx, dy, 0.0)
    moved.spare_m = min(f.limits.tolerance_m, moved.spare_m - out.spent_m + walked)
    if seconds > 0.0:
        moved.step_s = seconds
    f.body.push_m -= length_of(out.pushed_x, out.pushed_y, 0.0)
    f.body.push_z = max(0.0, f.body.push_z - out.pushed_z)
    missing = length_of(f.claim.origin_x - px, f.claim.origin_y - py, 0.0)
    moved.owed_m = min(out.owed_m, missing)


@inner
def _count_time(f):
    """Count the time that a report used, and take its pause from the budget for pauses; seconds."""
    moved = f.moved
    since = f.now - moved.reported_at
    _, silent = _pause(f, since)
    moved.silence_s = min(MAX_PAUSE_S, moved.silence_s + PAUSE_SHARE * since) - silent
    moved.interval_s = usual(moved.interval_s, since)
    moved.too_early_s = f.found.too_early_s
    moved.reported_at, moved.extra_s = f.now, f.found.extra_s
    moved.client_time = f.claim.client_time
    moved.clock_at = f.found.clock_from + (1.0 - DRIFT) * f.found.seconds
    moved.held_up_s = min(f.found.held_up_s, max(0.0, f.now - moved.clock_at))


@check
def commit_move(f):
    """Accept the place that is left after cutting down, metres, and count the time that was used for it."""
    dx, dy, dz = way_of(f)
    _count_time(f)
    _go(f)
    f.found.heard = hear(f)
    keep_place(f.moved, f.now, f.found.place_x, f.found.place_y, f.found.place_z)
    f.line.highest_sequence = max(f.line.highest_sequence, f.claim.sequence)
    f.found.became = ACCEPTED
    measured(f, MEASURE.accepted_way, math.sqrt(dx * dx + dy * dy + dz * dz), NO_NUMBER)
    tell_standing(f)
    return NOTHING
