"""Move reports: speed, acceleration, walls, leaps, and no more time than there was. What is too much is cut down."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.plain import Fields
from tinclock.core.ruling.checks.form import as_triple
from tinclock.core.ruling.checks.lag import hear
from tinclock.core.ruling.steps import Measure
from tinclock.core.ruling.work import Work
from tinclock.core.timeline.cover import Instant
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.combat.accepted_position import AcceptedPosition
    from tinclock.core.findings import Finding
    from tinclock.core.rules.ruleset import MovementRules
    from tinclock.core.ruling.claims import MoveClaim
    from tinclock.core.timeline.cover import Obstacle
    from tinclock.core.vectors import Triple

LONGEST_PUSH = 1.0 + TOLERANCES.stick
"""A stick's reach, with room for rounding."""
LONGEST_STEP_S = 1.0
"""Nobody moves for longer than this in one report, however long it was silent."""


class MoveWork(Work):
    """A move report.

    accepted, movement : where the body was accepted to be, and how it may move
    position : metres, where the report leaves it; seconds : how much time the report may use
    """

    accepted: AcceptedPosition
    movement: MovementRules
    position: Triple
    seconds: float

    def way(self) -> Triple:
        """From where the body was accepted to be to where the report leaves it, metres."""
        (x, y, z), (ax, ay, az) = self.position, self.accepted.position
        return x - ax, y - ay, z - az

    def found(self) -> Fields:
        """Where the body ends."""
        return {**super().found(), "position": self.__dict__.get("position")}


def _cut_down(work: MoveWork, code: str, position: Triple) -> None:
    """Put the body where the rules let it go, unless they say that this finding is only noted."""
    if work.world.consequences[code] != "note":
        work.position = position


def check_reported(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `moves_not_ruled` where the rules have no movement or the server never put the body anywhere."""
    accepted, movement = work.actor.accepted, work.rules.movement
    if accepted is None or movement is None:
        work.steps.append(Measure.MOVE.step("not reported by clients here"))
        return work.find("moves_not_ruled")
    work.accepted, work.movement = accepted, movement
    work.position = as_triple(claim.position) or accepted.position
    return None


def check_push(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `push_too_long`: an input longer than a stick goes. It is cut down, never used as it is."""
    if claim.push is None:
        return None
    length = math.sqrt(sum(float(v) * float(v) for v in claim.push))
    work.steps.append(Measure.PUSH.step(length, 1.0))
    return work.find("push_too_long", length, 1.0) if length > LONGEST_PUSH else None


def check_clock(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `stale_move` or `fast_clock`; works out `work.seconds`, the time that the report may use."""
    accepted, rules = work.accepted, work.movement
    command, last = float(claim.client_time), accepted.client_time
    if last is not None and command <= last:
        work.steps.append(Measure.TIME_SINCE_THE_LAST_REPORT.step(command - last, 0.0))
        return work.find("stale_move", command - last, 0.0)
    step, there_was = _time(claim, work)
    most = min(there_was, LONGEST_STEP_S + rules.time_allowance_s)
    work.steps.append(Measure.TIME_SINCE_THE_LAST_REPORT.step(step, there_was))
    work.seconds = step if work.world.consequences["fast_clock"] == "note" else min(step, most)
    if step > there_was + TOLERANCES.time_s:
        return work.find("fast_clock", step, there_was)
    return None


def _time(claim: MoveClaim, work: MoveWork) -> tuple[float, float]:
    """How much time a report says has passed since the last one, and how much there was for it."""
    accepted, rules = work.accepted, work.movement
    now, last = work.received_at, accepted.client_time
    first = max(1.0 / work.rules.match.tick_rate_hz, now - accepted.clock_at)
    step = first if last is None else float(claim.client_time) - last
    return step, max(0.0, now + rules.time_allowance_s - accepted.clock_at)


def check_leap(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `teleport`: further than any speed explains, by as much as a whole leap. The body stays where it was."""
    accepted, rules = work.accepted, work.movement
    apart = math.dist(work.position, accepted.position)
    limit = rules.teleport_m + math.hypot(rules.speed_m_s, max(rules.up_m_s, rules.down_m_s)) * work.seconds
    if apart <= limit:
        return None
    work.steps.append(Measure.LEAP.step(apart, limit))
    _cut_down(work, "teleport", accepted.position)
    return work.find("teleport", apart, limit)


def check_speed(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `too_fast`; cuts the way down to what the body can do, over ground and upright by themselves."""
    accepted, rules = work.accepted, work.movement
    dx, dy, dz = work.way()
    seconds = work.seconds
    over = math.hypot(dx, dy)
    most = rules.speed_m_s * seconds + rules.allowance_m
    upright = (rules.up_m_s if dz > 0.0 else rules.down_m_s) * seconds + rules.allowance_m
    work.steps.append(Measure.WAY_OVER_GROUND.step(over, most))
    if over <= most and abs(dz) <= upright:
        return None
    share = most / over if over > most else 1.0
    x, y, z = accepted.position
    _cut_down(work, "too_fast", (x + dx * share, y + dy * share, z + math.copysign(min(abs(dz), upright), dz)))
    if over > most:
        return work.find("too_fast", over, most, f"in {seconds:.3f} s")
    work.steps.append(Measure.WAY_UPRIGHT.step(abs(dz), upright))
    return work.find("too_fast", abs(dz), upright, f"upright in {seconds:.3f} s")


def check_turn(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `too_sharp`; cuts the change of velocity over ground down to what the body can do.

    Walls stop a body or turn it aside for nothing: whatever is left of a velocity v after that lies in the circle that
    has v as its diameter (Thales), and only what lies further off than that counts as acceleration.
    """
    accepted, rules = work.accepted, work.movement
    seconds = work.seconds
    if seconds <= 0.0 or any(finding.code == "teleport" for finding in work.findings):
        return None
    dx, dy, _ = work.way()
    hx, hy = 0.5 * accepted.velocity[0], 0.5 * accepted.velocity[1]
    ax, ay = dx / seconds - hx, dy / seconds - hy
    off, free = math.hypot(ax, ay), math.hypot(hx, hy)
    most = rules.acceleration_m_s2 * seconds + rules.allowance_m / seconds
    work.steps.append(Measure.CHANGE_OF_VELOCITY.step(max(0.0, off - free), most))
    if off - free <= most:
        return None
    share = (free + most) / off
    x, y, _ = accepted.position
    vx, vy = hx + ax * share, hy + ay * share
    _cut_down(work, "too_sharp", (x + vx * seconds, y + vy * seconds, work.position[2]))
    return work.find("too_sharp", off - free, most)


def check_walls(claim: MoveClaim, work: MoveWork) -> Finding | None:
    """Find `through_wall`; the body stops where its ball touches something. It comes last: it sees the cut-down way.

    A door that moves is drawn late on the client's screen, so it stops a body only where it stands in the way both now
    and as the screen showed it.
    """
    accepted, rules = work.accepted, work.movement
    dx, dy, dz = work.way()
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    if length <= TOLERANCES.beyond_m:
        return None
    x, y, z = accepted.position
    start, along = (x, y, z + rules.centre_up_m), (dx / length, dy / length, dz / length)
    wall = _first_wall(work, start, along, length, rules.radius_m)
    if wall is None:
        return None
    work.steps.append(Measure.WALL_ON_THE_WAY.step(wall.distance_m, length))
    reached = max(0.0, wall.distance_m - TOLERANCES.beyond_m)
    _cut_down(work, "through_wall", (x + along[0] * reached, y + along[1] * reached, z + along[2] * reached))
    if length - wall.distance_m <= rules.allowance_m:
        return None
    return work.find("through_wall", length - wall.distance_m, rules.allowance_m, wall.name)


def _first_wall(work: MoveWork, start: Triple, along: Triple, length: float, radius_m: float) -> Obstacle | None:
    """What stops the body's ball. One that touches at its start is tried smaller: somebody who leans on a wall may
    slide along it and leave it, but the middle never crosses a surface.
    """
    now, seen = _instants(work)
    for radius in (radius_m, 0.5 * radius_m, 0.0):
        stops = [
            work.world.cover.first(start, along, length, at, radius_m=radius, ignore=work.actor.entity)
            for at in (now, seen)
        ]
        first, second = stops
        if first is None or second is None:
            return None
        wall = max(first, second, key=lambda stop: stop.distance_m)
        if wall.distance_m > TOLERANCES.beyond_m:
            return wall
    return None if wall.entity else wall  # a door that closed on a body lets it out


def _instants(work: MoveWork) -> tuple[Instant, Instant]:
    """The present, and what the client's screen showed when it moved, no further back than a shot is rewound."""
    history, connection = work.history, work.connection
    slot = history.newest_slot
    present = Instant(slot, slot, 0.0)
    if not connection.clock.samples or not history.snapshots:
        return present, present
    behind = min(connection.clock.round_trip_s + connection.drawing.interpolation_delay_s, work.rules.view.max_rewind_s)
    view = history.view_at(max(work.received_at - behind, history.first_snapshot_time))
    return present, Instant(history.slot_of(view.from_tick), history.slot_of(view.to_tick), view.fraction)


def commit_move(claim: MoveClaim, work: MoveWork) -> None:
    """Accept the place that is left after cutting down, and count the time that was used for it."""
    accepted = work.accepted
    step, there_was = _time(claim, work)
    accepted.client_time = float(claim.client_time)
    # time that a silent client did not use doesn't pile up for long
    accepted.clock_at = max(accepted.clock_at + min(step, there_was), work.received_at - LONGEST_STEP_S)
    dx, dy, dz = work.way()
    seconds = work.seconds
    velocity = (dx / seconds, dy / seconds, dz / seconds) if seconds > 0.0 else accepted.velocity
    hear(work.history, work.connection, claim.view, claim.client_time, work.received_at, claim.sequence)
    accepted.go(work.position, velocity, work.received_at)
    work.steps.append(Measure.ACCEPTED_WAY.step(math.sqrt(dx * dx + dy * dy + dz * dz)))
