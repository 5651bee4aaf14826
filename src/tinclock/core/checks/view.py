"""Whether the view is one that the shooter's screen can have shown. Bounded on both sides by physics, not by trust."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.records import Step
from tinclock.core.timeline.views import View, derived_view, snapped

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import ShotClaim, StrikeClaim, TriggerClaim
    from tinclock.core.combat.roster import Line
    from tinclock.core.records import Finding
    from tinclock.core.rules import Rules
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.timeline.ring import Snapshot
    from tinclock.core.timeline.views import Drawing

ENOUGH_ANSWERS = 8
"""So many pings must have been answered before the shortest of them bounds what can have arrived."""


def check_view(claim: ShotClaim | StrikeClaim | TriggerClaim, context: Context) -> Finding | None:
    """Find `view_unknown`, `view_ahead`, `view_late` or `view_capped`; works out the view to rule at.

    A snapshot goes down and the claim comes up, so a claim can't arrive sooner than one round trip after the newer of
    its snapshots was sent, however the trip splits. It is late when it is older than round trip, interpolation delay,
    the snapshots' spacing and a few times the jitter explain. Older than `max_rewind_s`, it is ruled at that age.
    """
    line, snapshots = context.line, context.history.snapshots
    view = claim.view
    if not line.name:
        return _present(context)
    if view is None:
        view = derived_view(context.history, line.clock, line.drawing, float(claim.client_time or 0.0))
        if view is None:
            return _underived(claim, context)
    elif type(view.fraction) is not float:
        view = View(view.from_tick, view.to_tick, float(view.fraction))
    before, after = snapshots.get(view.from_tick), snapshots.get(view.to_tick)
    if before is None or after is None:
        return _not_held(view, context)
    if view.from_tick > view.to_tick or not 0.0 <= view.fraction <= _furthest(view, before, after, context):
        return _unknown(context, f"{view.from_tick}..{view.to_tick} at {view.fraction:g}", "what the client can draw")
    if before.sent_at < line.since:
        return _before_admission(context, before.sent_at)
    if line.drawing.between == "nearest":
        view = snapped(view)
        before = after = snapshots[view.from_tick]
    return _check_age(view, before, after, context)


def _present(context: Context) -> Finding | None:
    """The server's own shooters see the newest tick as it is."""
    history = context.history
    tick, slot = history.newest_tick, history.newest_slot
    context.view, context.view_time, context.slots = View(tick, tick, 0.0), history.newest_time, (slot, slot)
    return None


def _unknown(context: Context, given: str, expected: str) -> Finding:
    context.steps.append(Step("view", given, expected))
    return context.find("view_unknown", detail=given)


def _before_admission(context: Context, sent_at: float) -> Finding:
    """A view of what was sent before this connection was there."""
    context.steps.append(Step("snapshot sent after admission", sent_at - context.line.since, 0.0, "s"))
    return context.find("view_unknown", detail="shows a snapshot from before this connection was admitted")


def _underived(claim: ShotClaim | StrikeClaim | TriggerClaim, context: Context) -> Finding | None:
    """Why no view follows from the client time: the clock isn't known yet, or the time is long past."""
    history, clock = context.history, context.line.clock
    if not clock.samples or not history.snapshots:
        return _unknown(context, f"client time {claim.client_time}", "an answered ping and a published snapshot")
    return _cap(context, context.received_at - clock.server_time_of(claim.client_time or 0.0))


def _not_held(view: View, context: Context) -> Finding | None:
    """What a view means whose snapshots aren't both held: the future, the distant past, or ticks never sent."""
    history = context.history
    if view.to_tick > history.newest_tick:
        context.steps.append(Step("newest snapshot", view.to_tick, history.newest_tick))
        return context.find("view_ahead", view.to_tick, history.newest_tick, "ticks", "names a tick of the future")
    sane = 0 <= view.from_tick <= view.to_tick and 0.0 <= view.fraction <= 1.0
    if sane and history.snapshots and view.from_tick < next(iter(history.snapshots)):
        return _cap(context, context.received_at - history.first_snapshot_time)
    return _unknown(context, f"{view.from_tick}..{view.to_tick} at {view.fraction:g}", "two published ticks")


def _furthest(view: View, before: Snapshot, after: Snapshot, context: Context) -> float:
    """The largest fraction that the client's way of drawing can reach."""
    drawing = context.line.drawing
    if drawing.when_late == "hold" or before is after:
        return 1.0
    return 1.0 + drawing.extrapolate_s / (after.time - before.time)


def _check_age(view: View, before: Snapshot, after: Snapshot, context: Context) -> Finding | None:
    now, cap = context.received_at, context.rules.view.max_rewind_s
    _, _, shortest, latest, _ = view_limits(context.line, context.rules)
    latest += sparser_by(context.history, context.rules)
    since_sent = now - after.sent_at
    if since_sent < shortest:
        context.steps.append(Step("since the snapshot was sent", since_sent, shortest, "s"))
        return context.find("view_ahead", since_sent, shortest, "s", f"since snapshot {view.to_tick} was sent")
    view_time = before.time + view.fraction * (after.time - before.time)
    age = now - view_time
    if age > cap:
        return _cap(context, age)
    context.view, context.view_time, context.slots = view, view_time, (before.slot, after.slot)
    context.steps.append(Step("view", age, min(latest, cap), "s"))
    if age > latest:
        return context.find("view_late", age, latest, "s")
    return None


def view_limits(line: Line, rules: Rules) -> tuple[int, Drawing | None, float, float, float]:
    """`Line.view_limits`, worked out again only when the clock estimate or the drawing has changed."""
    held = line.view_limits
    if held[0] == line.clock.version and held[1] is line.drawing:
        return held
    back = rules.view.order_allowance_s + rules.view.jitter_factor * line.clock.jitter_s
    fresh = (line.clock.version, line.drawing, shortest_trip(line, rules), latest_age(line, rules), back)
    line.view_limits = fresh
    return fresh


def shortest_trip(line: Line, rules: Rules) -> float:
    """The least time, in seconds, between sending a snapshot and receiving a claim that has seen it.

    The shortest of few pings is longer than the shortest trip that there is, so it bounds nothing until enough were
    answered, and then only less the jitter.
    """
    clock = line.clock
    if clock.answers < ENOUGH_ANSWERS:
        return 0.0
    return max(0.0, clock.least_round_trip_s - rules.view.early_allowance_s - clock.jitter_s)


def sparser_by(history: PoseHistory, rules: Rules) -> float:
    """How much further apart snapshots are than the rules say, in seconds: what is ruled goes by what was sent."""
    return max(0.0, history.snapshot_spacing_s - rules.match.snapshot_every / rules.match.tick_rate_hz)


def latest_age(line: Line, rules: Rules) -> float:
    """The greatest age of a view, in seconds, that the connection and the client's drawing explain.

    Where snapshots are as far apart as the rules say; see `sparser_by`.
    """
    clock, drawing, match, view = line.clock, line.drawing, rules.match, rules.view
    if not clock.samples:
        return float("inf")
    late = drawing.extrapolate_s if drawing.when_late == "extrapolate" else 0.0
    return (
        clock.round_trip_s
        + drawing.interpolation_delay_s
        + match.snapshot_every / match.tick_rate_hz
        + view.jitter_factor * clock.jitter_s
        + view.late_allowance_s
        + late
    )


def _cap(context: Context, age: float) -> Finding:
    """Rule at the greatest age allowed; the finding says how old the claimed view was."""
    limit, history = context.rules.view.max_rewind_s, context.history
    at = max(context.received_at - limit, history.first_snapshot_time)
    if history.snapshots[history.view_at(at).from_tick].sent_at < context.line.since:
        return _before_admission(context, history.snapshots[history.view_at(at).from_tick].sent_at)
    context.view = view = history.view_at(at)
    context.view_time = history.time_of(view)
    context.slots = (history.snapshots[view.from_tick].slot, history.snapshots[view.to_tick].slot)
    context.steps.append(Step("view", age, limit, "s"))
    return context.find("view_capped", age, limit, "s")


def check_view_order(claim: ShotClaim | StrikeClaim | TriggerClaim, context: Context) -> Finding | None:
    """Find `view_backwards` when the view lies before an earlier claim's by more than packets get reordered."""
    line, view_time = context.line, context.view_time
    if view_time is None or not line.name:
        return None
    back = line.newest_view_time - view_time
    allowance = view_limits(line, context.rules)[4]
    if back <= 0.0:
        context.steps.append(Step("view order", 0.0, allowance, "s"))
        return None
    context.steps.append(Step("view order", back, allowance, "s"))
    return context.find("view_backwards", back, allowance, "s") if back > allowance else None


def keep_view(claim: object, context: Context) -> None:
    """What the screen showed when a claim counted: later views are held against it."""
    line, view_time = context.line, context.view_time
    if view_time is not None and view_time > line.newest_view_time:
        line.newest_view_time = view_time
