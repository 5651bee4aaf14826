"""Whether the view is one that the shooter's screen can have shown. Bounded on both sides by physics, not by trust."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim


def check_view(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `view_unknown`, `view_ahead`, `view_late` or `view_capped`; works out the view to rule at.

    A snapshot goes down and the claim comes up, so a claim can't arrive sooner than one round trip after the newer of
    its snapshots was sent, however the trip splits. It is late when it is older than round trip, interpolation delay,
    the snapshots' spacing and a few times the jitter explain. Older than `max_rewind_s`, it is ruled at that age.
    """
    view, history = claim.view, context.history
    oldest = history.oldest_tick
    if oldest < 0 or view.to_tick > history.newest_tick:
        context.seen = (f"snapshot {view.to_tick}", f"snapshot {history.newest_tick}", "")
        return context.find("view_ahead", view.to_tick, history.newest_tick, "ticks", "names a tick of the future")
    if view.from_tick > view.to_tick or view.from_tick < 0 or not 0.0 <= view.fraction <= _furthest(view, context):
        context.seen = (f"{view.from_tick}..{view.to_tick} at {view.fraction:g}", None, "")
        return context.find("view_unknown", detail=f"{view.from_tick}..{view.to_tick} at {view.fraction:g}")
    if history.oldest_published_time == float("inf"):
        context.seen = (f"snapshot {view.to_tick}", "none published", "")
        return context.find("view_unknown", detail="no snapshot was published yet")
    if view.from_tick < oldest:
        return _cap(context, context.received_at - history.time_of(View(oldest, oldest, 0.0)))
    sent_at = history.sent_at(view.to_tick)
    if sent_at is None or history.sent_at(view.from_tick) is None:
        context.seen = (f"{view.from_tick}..{view.to_tick}", "published ticks", "")
        return context.find("view_unknown", detail=f"{view.from_tick}..{view.to_tick} were not both published")
    return _check_age(view, sent_at, context)


def _furthest(view: View, context: Context) -> float:
    """The largest fraction that the client's way of drawing can reach."""
    drawing, history = context.line.drawing, context.history
    if drawing.when_late == "hold" or view.from_tick == view.to_tick:
        return 1.0
    if not (history.holds(view.from_tick) and history.holds(view.to_tick)):
        return 1.0
    gap = history.time_of(View(view.to_tick, view.to_tick, 0.0)) - history.time_of(
        View(view.from_tick, view.from_tick, 0.0)
    )
    return 1.0 + drawing.extrapolate_s / gap


def _check_age(view: View, sent_at: float, context: Context) -> Finding | None:
    clock, limits, now = context.line.clock, context.rules.view, context.received_at
    since_sent, least_trip = now - sent_at, clock.least_round_trip_s - limits.early_allowance_s
    if since_sent < least_trip:
        context.seen = (since_sent, least_trip, "s")
        return context.find("view_ahead", since_sent, least_trip, "s", f"since snapshot {view.to_tick} was sent")
    view_time = context.history.time_of(view)
    age = now - view_time
    if age > limits.max_rewind_s:
        return _cap(context, age)
    context.view, context.view_time = view, view_time
    latest = latest_age(context)
    context.seen = (age, latest, "s")
    if age > latest:
        return context.find("view_late", age, latest, "s")
    return None


def latest_age(context: Context) -> float:
    """The greatest age of a view, in seconds, that the connection and the client's drawing explain."""
    clock, rules = context.line.clock, context.rules
    if not clock.samples:
        return float("inf")
    spacing = rules.match.snapshot_every / rules.match.tick_rate_hz
    return (
        clock.round_trip_s
        + context.line.drawing.interpolation_delay_s
        + spacing
        + rules.view.jitter_factor * clock.jitter_s
        + rules.view.late_allowance_s
    )


def _cap(context: Context, age: float) -> Finding:
    """Rule at the greatest age allowed; the finding says how old the claimed view was."""
    limit = context.rules.view.max_rewind_s
    history = context.history
    at = max(context.received_at - limit, history.oldest_published_time)
    context.view = history.view_at(at)
    context.view_time = history.time_of(context.view)
    context.seen = (age, limit, "s")
    return context.find("view_capped", age, limit, "s")


def check_view_order(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `view_backwards` when the view lies before an earlier claim's by more than packets get reordered."""
    if context.view_time is None:
        return None
    back = context.line.newest_view_time - context.view_time
    allowance = context.rules.view.order_allowance_s + context.rules.view.jitter_factor * context.line.clock.jitter_s
    context.seen = (max(back, 0.0), allowance, "s")
    context.line.newest_view_time = max(context.line.newest_view_time, context.view_time)
    if back > allowance:
        return context.find("view_backwards", back, allowance, "s")
    return None
