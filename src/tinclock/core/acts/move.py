"""Move reports: speed, acceleration, walls, leaps, and no more time than there was. What is too much is cut down."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.checks.form import as_triple
from tinclock.core.records import Step
from tinclock.core.timeline.cover import Instant
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import MoveClaim, Triple
    from tinclock.core.combat.stride import Stride
    from tinclock.core.records import Finding
    from tinclock.core.rules import MovementRules
    from tinclock.core.timeline.cover import Obstacle

LONGEST_PUSH = 1.0 + TOLERANCES.stick
"""A stick's reach, with room for rounding."""
LONGEST_STEP_S = 1.0
"""Nobody moves for longer than this in one report, however long it was silent."""


def _both(context: Context) -> tuple[Stride, MovementRules]:
    stride, rules = context.actor.stride, context.rules.movement
    if stride is None or rules is None:  # pragma: no cover - `check_reported` denies
        raise AssertionError("moves are looked at only after check_reported")
    return stride, rules


def _cut_down(context: Context, code: str, position: Triple) -> None:
    """Put the body where the rules let it go, unless they say that this finding is only noted."""
    if context.world.consequences[code] != "note":
        context.position = position


def check_reported(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `moves_not_ruled` where the rules have no movement or the server never put the body anywhere."""
    if context.actor.stride is None or context.rules.movement is None:
        context.steps.append(Step("move", "not reported by clients here"))
        return context.find("moves_not_ruled")
    context.position = as_triple(claim.position)
    return None


def check_push(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `push_too_long`: an input longer than a stick goes. It is cut down, never used as it is."""
    if claim.push is None:
        return None
    length = math.sqrt(sum(float(v) * float(v) for v in claim.push))
    context.steps.append(Step("push", length, 1.0))
    return context.find("push_too_long", length, 1.0, "") if length > LONGEST_PUSH else None


def check_clock(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `stale_move` or `fast_clock`; works out `context.seconds`, the time that the report may use."""
    stride, rules = _both(context)
    command, last = float(claim.client_time), stride.client_time
    if last is not None and command <= last:
        context.steps.append(Step("time since the last report", command - last, 0.0, "s"))
        return context.find("stale_move", command - last, 0.0, "s")
    step, there_was = _time(claim, context)
    most = min(there_was, LONGEST_STEP_S + rules.time_allowance_s)
    context.steps.append(Step("time since the last report", step, there_was, "s"))
    context.seconds = step if context.world.consequences["fast_clock"] == "note" else min(step, most)
    if step > there_was + TOLERANCES.time_s:
        return context.find("fast_clock", step, there_was, "s")
    return None


def _time(claim: MoveClaim, context: Context) -> tuple[float, float]:
    """How much time a report says has passed since the last one, and how much there was for it."""
    stride, rules = _both(context)
    now, last = context.received_at, stride.client_time
    first = max(1.0 / context.rules.match.tick_rate_hz, now - stride.clock_at)
    step = first if last is None else float(claim.client_time) - last
    return step, max(0.0, now + rules.time_allowance_s - stride.clock_at)


def check_leap(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `teleport`: further than any speed explains, by as much as a whole leap. The body stays where it was."""
    stride, rules = _both(context)
    position = context.position
    if position is None:  # pragma: no cover
        return None
    apart = math.dist(position, stride.position)
    limit = rules.teleport_m + math.hypot(rules.speed_m_s, max(rules.up_m_s, rules.down_m_s)) * context.seconds
    if apart <= limit:
        return None
    context.steps.append(Step("leap", apart, limit, "m"))
    _cut_down(context, "teleport", stride.position)
    return context.find("teleport", apart, limit, "m")


def check_speed(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `too_fast`; cuts the way down to what the body can do, over ground and upright by themselves."""
    stride, rules = _both(context)
    dx, dy, dz = _way(stride, context)
    seconds = context.seconds
    over = math.hypot(dx, dy)
    most = rules.speed_m_s * seconds + rules.allowance_m
    upright = (rules.up_m_s if dz > 0.0 else rules.down_m_s) * seconds + rules.allowance_m
    context.steps.append(Step("way over ground", over, most, "m"))
    if over <= most and abs(dz) <= upright:
        return None
    share = most / over if over > most else 1.0
    x, y, z = stride.position
    _cut_down(context, "too_fast", (x + dx * share, y + dy * share, z + math.copysign(min(abs(dz), upright), dz)))
    if over > most:
        return context.find("too_fast", over, most, "m", f"in {seconds:.3f} s")
    context.steps.append(Step("way upright", abs(dz), upright, "m"))
    return context.find("too_fast", abs(dz), upright, "m", f"upright in {seconds:.3f} s")


def check_turn(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `too_sharp`; cuts the change of velocity over ground down to what the body can do.

    Walls stop a body or turn it aside for nothing: whatever is left of a velocity v after that lies in the circle that
    has v as its diameter (Thales), and only what lies further off than that counts as acceleration.
    """
    stride, rules = _both(context)
    seconds = context.seconds
    if seconds <= 0.0 or any(finding.code == "teleport" for finding in context.findings):
        return None
    dx, dy, _ = _way(stride, context)
    hx, hy = 0.5 * stride.velocity[0], 0.5 * stride.velocity[1]
    ax, ay = dx / seconds - hx, dy / seconds - hy
    off, free = math.hypot(ax, ay), math.hypot(hx, hy)
    most = rules.acceleration_m_s2 * seconds + rules.allowance_m / seconds
    context.steps.append(Step("change of velocity", max(0.0, off - free), most, "m/s"))
    if off - free <= most:
        return None
    share = (free + most) / off
    x, y, _ = stride.position
    vx, vy = hx + ax * share, hy + ay * share
    _cut_down(context, "too_sharp", (x + vx * seconds, y + vy * seconds, (context.position or stride.position)[2]))
    return context.find("too_sharp", off - free, most, "m/s")


def check_walls(claim: MoveClaim, context: Context) -> Finding | None:
    """Find `through_wall`; the body stops where its ball touches something. It comes last: it sees the cut-down way.

    A door that moves is drawn late on the client's screen, so it stops a body only where it stands in the way both now
    and as the screen showed it.
    """
    stride, rules = _both(context)
    dx, dy, dz = _way(stride, context)
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    if length <= TOLERANCES.beyond_m:
        return None
    x, y, z = stride.position
    start, along = (x, y, z + rules.centre_up_m), (dx / length, dy / length, dz / length)
    wall = _first_wall(context, start, along, length, rules.radius_m)
    if wall is None:
        return None
    context.steps.append(Step("wall on the way", wall.distance_m, length, "m"))
    reached = max(0.0, wall.distance_m - TOLERANCES.beyond_m)
    _cut_down(context, "through_wall", (x + along[0] * reached, y + along[1] * reached, z + along[2] * reached))
    if length - wall.distance_m <= rules.allowance_m:
        return None
    return context.find("through_wall", length - wall.distance_m, rules.allowance_m, "m", wall.name)


def _first_wall(context: Context, start: Triple, along: Triple, length: float, radius_m: float) -> Obstacle | None:
    """What stops the body's ball. One that touches at its start is tried smaller: somebody who leans on a wall may
    slide along it and leave it, but the middle never crosses a surface.
    """
    now, seen = _instants(context)
    for radius in (radius_m, 0.5 * radius_m, 0.0):
        stops = [
            context.world.cover.first(start, along, length, at, radius_m=radius, ignore=context.actor.entity)
            for at in (now, seen)
        ]
        first, second = stops
        if first is None or second is None:
            return None
        wall = max(first, second, key=lambda stop: stop.distance_m)
        if wall.distance_m > TOLERANCES.beyond_m:
            return wall
    return None if wall.entity else wall  # a door that closed on a body lets it out


def _instants(context: Context) -> tuple[Instant, Instant]:
    """The present, and what the client's screen showed when it moved, no further back than a shot is rewound."""
    history, line = context.history, context.line
    slot = history.newest_slot
    present = Instant(slot, slot, 0.0)
    if not line.clock.samples or not history.snapshots:
        return present, present
    behind = min(line.clock.round_trip_s + line.drawing.interpolation_delay_s, context.rules.view.max_rewind_s)
    view = history.view_at(max(context.received_at - behind, history.first_snapshot_time))
    return present, Instant(history.slot_of(view.from_tick), history.slot_of(view.to_tick), view.fraction)


def _way(stride: Stride, context: Context) -> Triple:
    x, y, z = context.position or stride.position
    return x - stride.position[0], y - stride.position[1], z - stride.position[2]


def perform_move(claim: MoveClaim, context: Context) -> None:
    """Accept the place that is left after cutting down, and count the time that was used for it."""
    stride, _ = _both(context)
    step, there_was = _time(claim, context)
    stride.client_time = float(claim.client_time)
    # time that a silent client did not use doesn't pile up for long
    stride.clock_at = max(stride.clock_at + min(step, there_was), context.received_at - LONGEST_STEP_S)
    position = context.position or stride.position
    dx, dy, dz = _way(stride, context)
    seconds = context.seconds
    velocity = (dx / seconds, dy / seconds, dz / seconds) if seconds > 0.0 else stride.velocity
    stride.go(position, velocity, context.received_at)
    context.steps.append(Step("accepted way", math.sqrt(dx * dx + dy * dy + dz * dz), unit="m"))
