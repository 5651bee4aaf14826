"""Whether the view is one that the shooter's screen can have shown. Bounded on both sides by physics, not by trust."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.roster import ViewLimits
from tinclock.core.ruling.steps import Measure
from tinclock.core.timeline.drawn import derived_view
from tinclock.core.timeline.views import View, snapped

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Connection
    from tinclock.core.findings import Finding
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.claims import ShotClaim, StrikeClaim, TriggerClaim
    from tinclock.core.ruling.work import ViewWork
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.timeline.ring import Snapshot

ENOUGH_ANSWERS = 8
"""So many pings must have been answered before the shortest of them bounds what can have arrived."""


def check_view(claim: ShotClaim | StrikeClaim | TriggerClaim, work: ViewWork) -> Finding | None:
    """Find `view_unknown`, `view_ahead`, `view_late` or `view_capped`; works out the view to rule at.

    A snapshot goes down and the claim comes up, so a claim can't arrive sooner than one round trip after the newer of
    its snapshots was sent, however the trip splits. It is late when it is older than round trip, interpolation delay,
    the snapshots' spacing and a few times the jitter explain. Older than `max_rewind_s`, it is ruled at that age.
    """
    connection, snapshots = work.connection, work.history.snapshots
    view = claim.view
    if not connection.name:
        return _present(work)
    if view is None:
        view = derived_view(work.history, connection.clock, connection.drawing, float(claim.client_time or 0.0))
        if view is None:
            return _underived(claim, work)
    elif type(view.fraction) is not float:
        view = View(view.from_tick, view.to_tick, float(view.fraction))
    before, after = snapshots.get(view.from_tick), snapshots.get(view.to_tick)
    if before is None or after is None:
        return _not_held(view, work)
    if view.from_tick > view.to_tick or not 0.0 <= view.fraction <= _furthest(view, before, after, work):
        return _unknown(work, f"{view.from_tick}..{view.to_tick} at {view.fraction:g}", "what the client can draw")
    if before.sent_at < connection.since:
        return _before_admission(work, before.sent_at)
    if connection.drawing.between == "nearest":
        view = snapped(view)
        before = after = snapshots[view.from_tick]
    return _check_age(view, before, after, work)


def _present(work: ViewWork) -> Finding | None:
    """The server's own shooters see the newest tick as it is."""
    history = work.history
    tick, slot = history.newest_tick, history.newest_slot
    work.view, work.view_time, work.slots = View(tick, tick, 0.0), history.newest_time, (slot, slot)
    return None


def _unknown(work: ViewWork, given: str, expected: str) -> Finding:
    work.steps.append(Measure.VIEW.step(given, expected))
    return work.find("view_unknown", detail=given)


def _before_admission(work: ViewWork, sent_at: float) -> Finding:
    """A view of what was sent before this connection was there."""
    work.steps.append(Measure.SNAPSHOT_SENT_AFTER_ADMISSION.step(sent_at - work.connection.since, 0.0))
    return work.find("view_unknown", detail="shows a snapshot from before this connection was admitted")


def _underived(claim: ShotClaim | StrikeClaim | TriggerClaim, work: ViewWork) -> Finding | None:
    """Why no view follows from the client time: the clock isn't known yet, or the time is long past."""
    history, clock = work.history, work.connection.clock
    if not clock.samples or not history.snapshots:
        return _unknown(work, f"client time {claim.client_time}", "an answered ping and a published snapshot")
    return _cap(work, work.received_at - clock.server_time_of(claim.client_time or 0.0))


def _not_held(view: View, work: ViewWork) -> Finding | None:
    """What a view means whose snapshots aren't both held: the future, the distant past, or ticks never sent."""
    history = work.history
    if view.to_tick > history.newest_tick:
        work.steps.append(Measure.NEWEST_SNAPSHOT.step(view.to_tick, history.newest_tick))
        return work.find("view_ahead", view.to_tick, history.newest_tick, "names a tick of the future", unit="ticks")
    sane = 0 <= view.from_tick <= view.to_tick and 0.0 <= view.fraction <= 1.0
    if sane and history.snapshots and view.from_tick < next(iter(history.snapshots)):
        return _cap(work, work.received_at - history.first_snapshot_time)
    return _unknown(work, f"{view.from_tick}..{view.to_tick} at {view.fraction:g}", "two published ticks")


def _furthest(view: View, before: Snapshot, after: Snapshot, work: ViewWork) -> float:
    """The largest fraction that the client's way of drawing can reach."""
    drawing = work.connection.drawing
    if drawing.when_late == "hold" or before is after:
        return 1.0
    return 1.0 + drawing.extrapolate_s / (after.time - before.time)


def _check_age(view: View, before: Snapshot, after: Snapshot, work: ViewWork) -> Finding | None:
    now, cap = work.received_at, work.rules.view.max_rewind_s
    limits = view_limits(work.connection, work.rules)
    shortest, latest = limits.shortest_s, limits.latest_s + sparser_by(work.history, work.rules)
    since_sent = now - after.sent_at
    if since_sent < shortest:
        work.steps.append(Measure.SINCE_THE_SNAPSHOT_WAS_SENT.step(since_sent, shortest))
        return work.find("view_ahead", since_sent, shortest, f"since snapshot {view.to_tick} was sent")
    view_time = before.time + view.fraction * (after.time - before.time)
    age = now - view_time
    if age > cap:
        return _cap(work, age)
    work.view, work.view_time, work.slots = view, view_time, (before.slot, after.slot)
    work.steps.append(Measure.VIEW.step(age, min(latest, cap)))
    if age > latest:
        return work.find("view_late", age, latest)
    return None


def view_limits(connection: Connection, rules: Rules) -> ViewLimits:
    """`Connection.view_limits`, worked out again only when the clock estimate or the drawing has changed."""
    held, clock = connection.view_limits, connection.clock
    if held.clock_version == clock.version and held.drawing is connection.drawing:
        return held
    back = rules.view.order_allowance_s + rules.view.jitter_factor * clock.jitter_s
    shortest, latest = shortest_trip(connection, rules), latest_age(connection, rules)
    connection.view_limits = fresh = ViewLimits(clock.version, connection.drawing, shortest, latest, back)
    return fresh


def shortest_trip(connection: Connection, rules: Rules) -> float:
    """The least time, in seconds, between sending a snapshot and receiving a claim that has seen it.

    The shortest of few pings is longer than the shortest trip that there is, so it bounds nothing until enough were
    answered, and then only less the jitter.
    """
    clock = connection.clock
    if clock.answers < ENOUGH_ANSWERS:
        return 0.0
    return max(0.0, clock.least_round_trip_s - rules.view.early_allowance_s - clock.jitter_s)


def sparser_by(history: PoseHistory, rules: Rules) -> float:
    """How much further apart snapshots are than the rules say, in seconds: what is ruled goes by what was sent."""
    return max(0.0, history.snapshot_spacing_s - rules.match.snapshot_every / rules.match.tick_rate_hz)


def latest_age(connection: Connection, rules: Rules) -> float:
    """The greatest age of a view, in seconds, that the connection and the client's drawing explain.

    Where snapshots are as far apart as the rules say; see `sparser_by`.
    """
    clock, drawing, match, view = connection.clock, connection.drawing, rules.match, rules.view
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


def _cap(work: ViewWork, age: float) -> Finding:
    """Rule at the greatest age allowed; the finding says how old the claimed view was."""
    limit, history = work.rules.view.max_rewind_s, work.history
    at = max(work.received_at - limit, history.first_snapshot_time)
    if history.snapshots[history.view_at(at).from_tick].sent_at < work.connection.since:
        return _before_admission(work, history.snapshots[history.view_at(at).from_tick].sent_at)
    work.view = view = history.view_at(at)
    work.view_time = history.time_of(view)
    work.slots = (history.snapshots[view.from_tick].slot, history.snapshots[view.to_tick].slot)
    work.steps.append(Measure.VIEW.step(age, limit))
    return work.find("view_capped", age, limit)


def check_view_order(claim: ShotClaim | StrikeClaim | TriggerClaim, work: ViewWork) -> Finding | None:
    """Find `view_backwards` when the view lies before an earlier claim's by more than packets get reordered."""
    connection, view_time = work.connection, work.view_time
    if not connection.name:
        return None
    back = connection.newest_view_time - view_time
    allowance = view_limits(connection, work.rules).back_s
    if back <= 0.0:
        work.steps.append(Measure.VIEW_ORDER.step(0.0, allowance))
        return None
    work.steps.append(Measure.VIEW_ORDER.step(back, allowance))
    return work.find("view_backwards", back, allowance) if back > allowance else None
