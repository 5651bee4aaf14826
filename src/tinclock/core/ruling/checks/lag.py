"""Whether a shot's view is at the lag that its client has said before, and whether its clock has one face only."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.ruling.checks.form import is_count, is_number, is_time
from tinclock.core.ruling.checks.view import ENOUGH_ANSWERS, view_limits
from tinclock.core.ruling.steps import Measure
from tinclock.core.timeline.lag import Said
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Connection
    from tinclock.core.findings import Finding
    from tinclock.core.rules.ruleset import ViewRules
    from tinclock.core.ruling.claims import LaunchClaim, ShotClaim, StrikeClaim, TriggerClaim
    from tinclock.core.ruling.work import ViewWork, Work
    from tinclock.core.timeline.history import PoseHistory

FRESH_S = 2.0
"""What a client last said of its lag so long ago holds no shot any more."""
SOONER_S = 0.001
"""By so much a message may be faster than the fastest of the last while."""
ENOUGH_STAMPS = 24
"""So many pongs and so many messages are compared at the least."""
LEAST_SPAN_S = 15.0
"""Both over at least so long a time: a line that is congested for a while delays whatever goes up then."""


def hear(
    history: PoseHistory, connection: Connection, view: object, client_time: object, received_at: float,
    sequence: int = 0,
) -> bool:  # fmt: skip
    """Take down what a client says that its screen showed at a time of its own clock; returns whether it said anything.

    What can't be true (ticks that were never sent, or that can't have arrived) says nothing; nothing raises.
    """
    if not is_time(client_time):
        return False
    stamp = float(client_time)  # type: ignore[arg-type]
    if view is None:
        connection.transits.take(received_at, received_at - stamp)
        return False
    shown = _as_view(view)
    shown_at = None if shown is None else _shown_at(history, shown)
    if shown is None or shown_at is None or screen_sent_at(history, connection, shown, received_at) is None:
        return False
    connection.transits.take(received_at, received_at - stamp)
    connection.lag.take(Said(stamp, shown_at, received_at, _is_still(shown), sequence))
    return True


def _as_view(view: object) -> View | None:
    if isinstance(view, (tuple, list)) and len(view) == 3:
        view = View(*view)
    good = isinstance(view, View) and is_count(view.from_tick) and is_count(view.to_tick) and is_number(view.fraction)
    return view if good else None  # type: ignore[return-value]


def screen_sent_at(history: PoseHistory, connection: Connection, view: object, received_at: float) -> float | None:
    """When the newest snapshot of a view was sent; None where this client can't have had it."""
    shown = _as_view(view)
    newest = None if shown is None else history.snapshots.get(shown.to_tick)
    if newest is None or newest.sent_at < connection.since:
        return None
    return newest.sent_at if received_at - newest.sent_at >= connection.view_limits.shortest_s else None


def _shown_at(history: PoseHistory, view: View) -> float | None:
    """The server time of a view; None where its snapshots aren't held, or it lies outside what anybody draws."""
    before, after = history.snapshots.get(view.from_tick), history.snapshots.get(view.to_tick)
    if before is None or after is None or view.from_tick > view.to_tick or not 0.0 <= view.fraction <= 16.0:
        return None
    return before.time + float(view.fraction) * (after.time - before.time)


def _is_still(view: View) -> bool:
    """Whether a client shows the newest snapshot that it has, and nothing moves on."""
    return view.from_tick == view.to_tick or view.fraction >= 1.0


def check_lag(claim: ShotClaim | LaunchClaim | StrikeClaim | TriggerClaim, work: ViewWork) -> Finding | None:
    """Find `view_restless` where the view strays from the tracked lag; works out the view at that lag to rule at.

    A claim without a stamp is taken for as old as the fastest message would be: it is ruled at the tracked lag too, but
    found only where the line's jitter doesn't explain how far it strays.
    """
    connection, rules, history = work.connection, work.rules.view, work.history
    if claim.view is None or not _tracks(connection, work.received_at):
        return None
    tracker, allowance = connection.lag, _allowance(connection, rules, history)
    earliest, latest = _stamps(connection, rules, claim.sequence, work.received_at)
    if claim.client_time is None:
        stamp = latest
        limit = allowance + rules.late_allowance_s + rules.jitter_factor * connection.clock.jitter_s
    else:
        stamp, limit = max(min(float(claim.client_time), latest), earliest), allowance
    shown_at = _shown_at(history, claim.view)
    shown = history.first_snapshot_time if shown_at is None else shown_at  # too old to be held: ruled at the cap so far
    still, jitter = _is_still(claim.view), connection.clock.jitter_s
    ruled_at = tracker.ruled_at(stamp, shown, still=still, allowance_s=allowance, jitter_s=jitter)
    off = abs(stamp - shown - tracker.lag_s)
    work.steps.append(Measure.LAG.step(min(off, limit) if ruled_at is None else off, limit))
    if ruled_at is None:
        return None
    if work.world.consequences["view_restless"] != "note":
        if off > limit:
            work.named = work.instant()
        _rule_at(ruled_at, work)
    return work.find("view_restless", off, limit) if off > limit else None


def free_views(
    connection: Connection, rules: ViewRules, history: PoseHistory, sequence: int, received_at: float
) -> tuple[float, float]:
    """Between which server times a claim of a sequence may show the others, by its connection's lag alone.

    Infinite on both sides where no lag is tracked.
    """
    if not _tracks(connection, received_at):
        return float("-inf"), float("inf")
    allowance = _allowance(connection, rules, history)
    earliest, latest = _stamps(connection, rules, sequence, received_at)
    return earliest - connection.lag.lag_s - allowance, latest - connection.lag.lag_s + allowance


def _tracks(connection: Connection, received_at: float) -> bool:
    """Whether its lag is known; what a client that was dead or had nothing to say once said is forgotten."""
    tracker = connection.lag
    return (
        tracker.last is not None
        and tracker.lag_s == tracker.lag_s
        and received_at - tracker.last.received_at <= FRESH_S
    )


def _allowance(connection: Connection, rules: ViewRules, history: PoseHistory) -> float:
    snaps = connection.drawing.between == "nearest"
    return rules.lag_allowance_s + (history.snapshot_spacing_s if snaps else 0.0)


def _stamps(connection: Connection, rules: ViewRules, sequence: int, received_at: float) -> tuple[float, float]:
    """Between which times of its clock the claim was made.

    What was sent before it and after it says so; nothing comes up faster than the fastest did; and what takes longer
    than the line and the client's rate of sending explain was made later than it says.
    """
    earliest, latest = connection.lag.stamps(sequence)
    soonest = received_at - connection.transits.value
    clock = connection.clock
    slow = rules.sends_every_s + rules.jitter_factor * clock.jitter_s
    if clock.answers < ENOUGH_ANSWERS:  # nobody knows yet how long this line may take
        slow = float("inf")
    latest = min(latest, soonest + SOONER_S)
    return min(max(earliest, soonest - slow), latest), latest


def _rule_at(view_time: float, work: ViewWork) -> None:
    """Rule at a server time, within what can have arrived and what the cap allows."""
    history = work.history
    shortest = view_limits(work.connection, work.rules).shortest_s
    newest = max((s.time for s in history.snapshots.values() if work.received_at - s.sent_at >= shortest), default=None)
    oldest = max(work.received_at - work.rules.view.max_rewind_s, history.first_snapshot_time)
    if newest is None or newest < oldest:
        return
    work.view = view = history.view_at(min(max(view_time, oldest), newest))
    work.view_time = history.time_of(view)
    work.slots = (history.snapshots[view.from_tick].slot, history.snapshots[view.to_tick].slot)


def check_faces(claim: object, work: Work) -> Finding | None:
    """Find `two_faced_clock` where the least trip up that pongs say and the one that claims say can't both be true.

    Both are stamped by one clock and go up one line, so of enough of each the shortest are alike.
    """
    connection = work.connection
    if connection.clock.answers < ENOUGH_STAMPS:
        return None
    pongs, claims = connection.clock.transits, connection.transits
    if min(pongs.count, claims.count) < ENOUGH_STAMPS or min(pongs.span_s, claims.span_s) < LEAST_SPAN_S:
        return None
    jitter_s = connection.clock.jitter_s
    apart, limit = abs(pongs.value - claims.value), work.rules.view.two_faced_s + jitter_s
    if apart <= limit:
        return None
    work.steps.append(Measure.FACES.step(apart, limit))
    return work.find("two_faced_clock", apart, limit)
