"""Move reports: speed, acceleration, leaps, and time. Excess is cut down.

Metres and seconds. `f.moved` points at the row of the body's accepted place. A second body, the model, keeps to the
rules exactly and follows the reports as fast as the rules allow. The accepted place may be ahead of the model by an
allowance, so a client gets that allowance once, and not with every report. See `walls` and `ground` for the rest.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.committing import ACCEPTED, tell_standing
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.facts import FINDING, MEASURE, NO_NUMBER, NOTHING, found, measured
from tinclock.core.kernels.hearing import hear
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.moments import waits_for_tick
from tinclock.core.kernels.rows import (
    CLAIM,
    FOUND,
    LINE,
    MOST_PLACES,
    MOVED,
    NOTED,
    PLACE_FIELDS,
    PLACES_FROM,
    RULES,
)
from tinclock.core.tolerances import TOLERANCES

LONGEST_PUSH = 1.0 + TOLERANCES.stick
"""A stick's reach, with room for rounding."""
LONGEST_STEP_S = 1.0
"""Nobody moves for longer than this in one report, however long it was silent."""
LEAST_AHEAD_S = 0.02
"""Time by which a report may come sooner than earlier ones on a line without jitter."""
UNKNOWN_AHEAD_S = 0.1
"""The same on a line that has not answered a ping yet."""
DRIFT = 0.001
"""Share by which a client's clock may run fast."""
REFILL = 0.002
"""Share of its way over ground by which a body's spare way is refilled."""
LEAST_PAUSE_S, PAUSE_REPORTS = 0.1, 3.5
"""A pause between two reports is free up to this, and up to so many of the client's usual intervals."""
PAUSE_SHARE, MOST_PAUSE_S = 0.05, 1.0
"""Longer pauses are free where pongs were late too, up to a budget: this share of the time, saved up to this."""
UNUSED_S, HELD_UP_S = 0.05, 1.0
"""Time constants with which unused time expires: usually, and after a silence of the line."""
FORGOTTEN, MOST_EARLY_S = 0.01, 0.02
"""Seconds cut off a client's time before they are a finding, and the share of time by which that sum shrinks."""
USUAL_REPORTS = 16.0
SHORTEST_S, LONGEST_S = 1.0 / 256.0, 1.0 / 8.0
"""Number of reports over which the usual interval is averaged, within these bounds."""
_TIME_S = TOLERANCES.time_s


@inner
def way_of(f):
    """Return the way from the last accepted place to this report's: (x, y, z), metres."""
    return (
        f.found[FOUND.place_x] - f.moved[MOVED.x],
        f.found[FOUND.place_y] - f.moved[MOVED.y],
        f.found[FOUND.place_z] - f.moved[MOVED.z],
    )


@inner
def cut_down(f, code, x, y, z):
    """Put the body where the rules let it go, metres, unless they say that this finding is only noted."""
    if f.consequences[code] != NOTED:
        f.found[FOUND.place_x], f.found[FOUND.place_y], f.found[FOUND.place_z] = x, y, z


@inner
def check_reported(f):
    """Find `moves_not_ruled` where the rules have no movement or the server never put the body anywhere. No unit."""
    if not f.is_put or not f.rules[RULES.has_movement]:
        measured(f, MEASURE.move, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.moves_not_ruled, NO_NUMBER, NO_NUMBER)
    f.found[FOUND.is_placed] = 1.0
    f.found[FOUND.place_x], f.found[FOUND.place_y], f.found[FOUND.place_z] = (
        f.claim[CLAIM.origin_x],
        f.claim[CLAIM.origin_y],
        f.claim[CLAIM.origin_z],
    )
    return NOTHING


@inner
def check_push(f):
    """Find `push_too_long`: an input longer than a stick goes. It is cut down, never used as it is. No unit."""
    length = f.claim[CLAIM.push]
    if math.isnan(length):
        return NOTHING
    measured(f, MEASURE.push, length, 1.0)
    return found(f, FINDING.push_too_long, length, 1.0) if length > LONGEST_PUSH else NOTHING


@inner
def _ahead(f):
    """Return the most that a client's time may run ahead of the server's, seconds, by its line's jitter."""
    line, rules = f.line, f.rules
    explained = UNKNOWN_AHEAD_S if line[LINE.asked] > 0.0 else rules[RULES.time_allowance_s]
    if line[LINE.answers] > 0.0:
        explained = LEAST_AHEAD_S + rules[RULES.jitter_factor] * line[LINE.jitter_s]
        explained += waits_for_tick(f.ticks, f.tick_count, f.now)
    return min(rules[RULES.time_allowance_s], explained)


@inner
def _pause(f, since):
    """Return how much of the time since the last report counts, seconds: (usual pause, further silence of the line)."""
    line, moved = f.line, f.moved
    free = max(LEAST_PAUSE_S, PAUSE_REPORTS * moved[MOVED.interval_s])
    if line[LINE.answers] == 0.0:
        return min(since, free), 0.0
    free += f.rules[RULES.jitter_factor] * line[LINE.jitter_s]
    answered = f.now - line[LINE.pong_at]
    late = max(answered - line[LINE.pong_every_s], line[LINE.pong_late_s] if answered < LEAST_PAUSE_S else 0.0)
    saved = min(MOST_PAUSE_S, moved[MOVED.silence_s] + PAUSE_SHARE * since)
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
    held_up = moved[MOVED.held_up_s] * math.exp(-since / HELD_UP_S)
    left = max(0.0, moved[MOVED.reported_at] - moved[MOVED.clock_at])
    kept = min(left, free + held_up)
    kept += (left - kept) * math.exp(-since / UNUSED_S)
    return usual + silent + kept, silent + held_up


@inner
def check_clock(f):
    """Find `stale_move` or `fast_clock`; works out the time, seconds, that the report may use.

    A late packet of a heavy tail takes a few milliseconds off the next reports: only what adds up is found.
    """
    moved, last = f.moved, f.moved[MOVED.client_time]
    step = f.claim[CLAIM.client_time] - last
    if f.claim[CLAIM.client_time] <= last:
        measured(f, MEASURE.time_since_the_last_report, step, 0.0)
        return found(f, FINDING.stale_move, step, 0.0)
    since = f.now - moved[MOVED.reported_at]
    usable, held_up = _usable(f, since)
    begin = max(moved[MOVED.clock_at], f.now - usable)
    if math.isnan(last) or moved[MOVED.was_put]:  # what a client says of the time before that counts for nothing
        step = max(1.0 / f.rules[RULES.tick_rate_hz], f.now - begin)
    until = f.now + _ahead(f)
    there_was = max(0.0, until - begin)
    paused = max(0.0, min(begin - moved[MOVED.clock_at], step - there_was))
    measured(f, MEASURE.time_since_the_last_report, step, there_was + paused)
    is_noted = f.consequences[FINDING.fast_clock] == NOTED
    f.found[FOUND.seconds] = step - paused if is_noted else min(step, there_was)
    f.found[FOUND.held_up_s] = held_up
    f.found[FOUND.clock_from], f.found[FOUND.clock_until] = begin, begin + max(there_was, f.found[FOUND.seconds])
    f.found[FOUND.owed_m] = moved[MOVED.owed_m] + f.rules[RULES.speed_m_s] * min(paused, LONGEST_STEP_S)
    excess = max(0.0, step - there_was - paused - DRIFT * step)
    early = max(0.0, moved[MOVED.too_early_s] - FORGOTTEN * since) + excess
    f.found[FOUND.too_early_s] = min(early, 5.0 * MOST_EARLY_S)  # a clock that was set once is forgotten within seconds
    if excess > _TIME_S and f.found[FOUND.too_early_s] > MOST_EARLY_S:
        return found(f, FINDING.fast_clock, step, there_was + paused)
    return NOTHING


@inner
def check_leap(f):
    """Find `teleport`: further than any speed explains, by a whole leap; metres. The body stays where it was."""
    rules = f.rules
    dx, dy, dz = way_of(f)
    apart = length_of(dx, dy, dz)
    fastest = length_of(rules[RULES.speed_m_s], max(rules[RULES.up_m_s], rules[RULES.down_m_s]), 0.0)
    limit = rules[RULES.teleport_m] + fastest * f.found[FOUND.seconds] + f.found[FOUND.owed_m]
    if apart <= limit:
        return NOTHING
    measured(f, MEASURE.leap, apart, limit)
    cut_down(f, FINDING.teleport, f.moved[MOVED.x], f.moved[MOVED.y], f.moved[MOVED.z])
    f.found[FOUND.leapt] = 1.0
    return found(f, FINDING.teleport, apart, limit)


@inner
def begun_at(f):
    """Return the model's place after the last report: (x, y, z), metres."""
    moved = f.moved
    return (
        moved[MOVED.x] - moved[MOVED.lead_x],
        moved[MOVED.y] - moved[MOVED.lead_y],
        moved[MOVED.z] - moved[MOVED.lead_z],
    )


@inner
def _steps(f, dz):
    """Return how far a body gets up or down in a report's time, metres; with gravity a stair comes on top."""
    rules, seconds = f.rules, f.found[FOUND.seconds]
    step, up = 0.0, rules[RULES.up_m_s]
    if rules[RULES.gravity_m_s2] > 0.0 and f.has_level:
        step, up = rules[RULES.step_m], max(up, rules[RULES.jump_m_s])
    return (up if dz > 0.0 else rules[RULES.down_m_s]) * seconds + step


@inner
def check_speed(f):
    """Find `too_fast`; cuts the way, metres, down to what the body can do, over ground and upright by themselves.

    A way that takes longer than the report says uses up more of the time that there is, and the next report may give it
    back: stamps are as coarse as frames, and places are rounded.
    What it may make up after a pause is `catching_up`: cut down as well, but nothing to hold against anybody.
    """
    rules, out = f.rules, f.found
    x, y, z = begun_at(f)
    dx, dy, dz = out[FOUND.place_x] - x, out[FOUND.place_y] - y, out[FOUND.place_z] - z
    over, allowance = length_of(dx, dy, 0.0), rules[RULES.rounding_m]
    there_is = out[FOUND.clock_until] - out[FOUND.clock_from]
    needed, step = min(over / rules[RULES.speed_m_s], there_is), out[FOUND.seconds]
    seconds = max(needed, step - f.moved[MOVED.extra_s])
    out[FOUND.seconds], out[FOUND.extra_s] = seconds, max(0.0, seconds - step)
    most, upright = rules[RULES.speed_m_s] * seconds, _steps(f, dz)
    share = most / over if over > most else 1.0
    mx, my, mz = x + dx * share, y + dy * share, z + math.copysign(min(abs(dz), upright), dz)
    out[FOUND.model_x], out[FOUND.model_y], out[FOUND.model_z] = mx, my, mz
    measured(f, MEASURE.way_over_ground, over, most + allowance)
    too_far, too_high = over - most - allowance, abs(dz) - upright - allowance
    if too_far <= 0.0 and too_high <= 0.0:
        return NOTHING
    lead = allowance / over if too_far > 0.0 else (1.0 - share)
    lift = math.copysign(min(max(0.0, abs(dz) - upright), allowance), dz)
    code = FINDING.catching_up if too_far <= out[FOUND.owed_m] and too_high <= 0.0 else FINDING.too_fast
    cut_down(f, code, mx + dx * lead, my + dy * lead, mz + lift)
    if f.consequences[code] == NOTED:
        out[FOUND.model_x], out[FOUND.model_y], out[FOUND.model_z] = x + dx, y + dy, z + dz
    if too_far > 0.0:
        return found(f, code, over, most + allowance, seconds)
    measured(f, MEASURE.way_upright, abs(dz), upright + allowance)
    return found(f, code, abs(dz), upright + allowance, -seconds)


@inner
def check_turn(f):
    """Find `too_sharp`; cuts the change of velocity over ground, metres a second, down to what the body can do.

    Walls stop a body or turn it aside for nothing: whatever is left of a velocity v after that lies in the circle that
    has v as its diameter (Thales), and only what lies further off than that counts as acceleration. Between the middles
    of two reports lies half of both their times.
    """
    rules, seconds, out, moved = f.rules, f.found[FOUND.seconds], f.found, f.moved
    out[FOUND.model_vx], out[FOUND.model_vy] = moved[MOVED.velocity_x], moved[MOVED.velocity_y]
    if seconds <= 0.0 or out[FOUND.leapt]:
        return NOTHING
    x, y, _ = begun_at(f)
    vx, vy = (out[FOUND.model_x] - x) / seconds, (out[FOUND.model_y] - y) / seconds
    hx, hy = 0.5 * moved[MOVED.velocity_x], 0.5 * moved[MOVED.velocity_y]
    ax, ay = vx - hx, vy - hy
    off, free = length_of(ax, ay, 0.0), length_of(hx, hy, 0.0)
    most = rules[RULES.acceleration_m_s2] * max(seconds, 0.5 * (seconds + moved[MOVED.step_s]))
    measured(f, MEASURE.change_of_velocity, max(0.0, off - free), most)
    out[FOUND.model_vx], out[FOUND.model_vy] = vx, vy
    if off - free <= most:
        return NOTHING
    share = (free + most) / off
    out[FOUND.model_vx], out[FOUND.model_vy] = hx + ax * share, hy + ay * share
    mx, my = x + out[FOUND.model_vx] * seconds, y + out[FOUND.model_vy] * seconds
    aside = length_of(out[FOUND.model_x] - mx, out[FOUND.model_y] - my, 0.0) - rules[RULES.rounding_m]
    if 0.0 < aside <= moved[MOVED.spare_m]:
        out[FOUND.spent_m] = aside
        return NOTHING
    out[FOUND.model_x], out[FOUND.model_y] = mx, my
    if aside <= 0.0:
        return NOTHING
    cut_down(f, FINDING.too_sharp, mx, my, out[FOUND.place_z])
    return found(f, FINDING.too_sharp, off - free, most)


@inner
def keep_place(moved, now, x, y, z):
    """The body is accepted to be at a place from a server time on; metres, seconds."""
    moved[MOVED.x], moved[MOVED.y], moved[MOVED.z] = x, y, z
    at = PLACES_FROM + PLACE_FIELDS * (int(moved[MOVED.past]) % MOST_PLACES)
    moved[at], moved[at + 1], moved[at + 2], moved[at + 3] = now, x, y, z
    moved[MOVED.past] += 1.0


@inner
def usual(mean, gap):
    """Return the usual interval, seconds, after one more gap."""
    return mean + (min(max(gap, SHORTEST_S), LONGEST_S) - mean) / USUAL_REPORTS


@inner
def _go(f):
    """Move the model on; metres and seconds."""
    moved, out, seconds = f.moved, f.found, f.found[FOUND.seconds]
    px, py, pz = out[FOUND.place_x], out[FOUND.place_y], out[FOUND.place_z]
    moved[MOVED.lead_x], moved[MOVED.lead_y] = px - out[FOUND.model_x], py - out[FOUND.model_y]
    moved[MOVED.lead_z] = pz - out[FOUND.model_z]
    moved[MOVED.velocity_x], moved[MOVED.velocity_y] = out[FOUND.model_vx], out[FOUND.model_vy]
    moved[MOVED.stands], moved[MOVED.rise_m_s] = out[FOUND.stands], out[FOUND.rise_m_s]
    moved[MOVED.has_ground], moved[MOVED.was_put] = out[FOUND.has_ground], 0.0
    dx, dy, _ = way_of(f)
    walked = REFILL * length_of(dx, dy, 0.0)
    moved[MOVED.spare_m] = min(f.rules[RULES.allowance_m], moved[MOVED.spare_m] - out[FOUND.spent_m] + walked)
    if seconds > 0.0:
        moved[MOVED.step_s] = seconds
    missing = length_of(f.claim[CLAIM.origin_x] - px, f.claim[CLAIM.origin_y] - py, 0.0)
    moved[MOVED.owed_m] = min(out[FOUND.owed_m], missing)


@inner
def _count_time(f):
    """Count the time that a report used, and take its pause from the budget for pauses; seconds."""
    moved = f.moved
    since = f.now - moved[MOVED.reported_at]
    _, silent = _pause(f, since)
    moved[MOVED.silence_s] = min(MOST_PAUSE_S, moved[MOVED.silence_s] + PAUSE_SHARE * since) - silent
    moved[MOVED.interval_s] = usual(moved[MOVED.interval_s], since)
    moved[MOVED.too_early_s] = f.found[FOUND.too_early_s]
    moved[MOVED.reported_at], moved[MOVED.extra_s] = f.now, f.found[FOUND.extra_s]
    moved[MOVED.client_time] = f.claim[CLAIM.client_time]
    moved[MOVED.clock_at] = f.found[FOUND.clock_from] + (1.0 - DRIFT) * f.found[FOUND.seconds]
    moved[MOVED.held_up_s] = min(f.found[FOUND.held_up_s], max(0.0, f.now - moved[MOVED.clock_at]))


@inner
def commit_move(f):
    """Accept the place that is left after cutting down, metres, and count the time that was used for it."""
    dx, dy, dz = way_of(f)
    _count_time(f)
    _go(f)
    f.found[FOUND.heard] = hear(f)
    keep_place(f.moved, f.now, f.found[FOUND.place_x], f.found[FOUND.place_y], f.found[FOUND.place_z])
    f.line[LINE.highest_sequence] = max(f.line[LINE.highest_sequence], f.claim[CLAIM.sequence])
    f.found[FOUND.became] = ACCEPTED
    measured(f, MEASURE.accepted_way, math.sqrt(dx * dx + dy * dy + dz * dz), NO_NUMBER)
    tell_standing(f)
    return NOTHING
