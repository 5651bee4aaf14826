"""What a client says of its lag, taken down as it comes; shots are held against it: `kernels.checks.lag`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.kernels.checks.lag import free_times
from tinclock.core.plain import plain_number
from tinclock.core.ruling.checks.form import is_count, is_number, is_time
from tinclock.core.timeline.lag import Said
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Connection
    from tinclock.core.rules.numbers import RuleNumbers
    from tinclock.core.timeline.history import PoseHistory


def hear(
    history: PoseHistory, connection: Connection, view: object, client_time: object, received_at: float,
    sequence: int = 0,
) -> bool:  # fmt: skip
    """Take down what a client says that its screen showed at a time of its own clock; returns whether it said anything.

    What can't be true (ticks that were never sent, or that can't have arrived) says nothing; nothing raises.
    """
    said = plain_number(client_time)
    if not is_time(said):
        return False
    stamp = float(said)
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
    if isinstance(view, View):
        view = view.from_tick, view.to_tick, view.fraction
    if isinstance(view, (tuple, list)) and len(view) == 3:
        view = View(*map(plain_number, view))
    good = isinstance(view, View) and is_count(view.from_tick) and is_count(view.to_tick) and is_number(view.fraction)
    return view if good else None  # type: ignore[return-value]


def screen_sent_at(history: PoseHistory, connection: Connection, view: object, received_at: float) -> float | None:
    """When the newest snapshot of a view was sent; None where this client can't have had it."""
    shown = _as_view(view)
    newest = None if shown is None else history.snapshots.get(shown.to_tick)
    if newest is None or newest.sent_at < connection.since:
        return None
    return newest.sent_at if received_at - newest.sent_at >= connection.shortest_s else None


def _shown_at(history: PoseHistory, view: View) -> float | None:
    """The server time of a view; None where its snapshots aren't held, or it lies outside what anybody draws."""
    before, after = history.snapshots.get(view.from_tick), history.snapshots.get(view.to_tick)
    if before is None or after is None or view.from_tick > view.to_tick or not 0.0 <= view.fraction <= 16.0:
        return None
    return before.time + float(view.fraction) * (after.time - before.time)


def _is_still(view: View) -> bool:
    """True if a client shows the newest snapshot that it has, and nothing moves on."""
    return view.from_tick == view.to_tick or view.fraction >= 1.0


def free_views(
    connection: Connection, rules: RuleNumbers, history: PoseHistory, sequence: int, received_at: float
) -> tuple[float, float]:
    """Between which server times a claim of a sequence may show the others, by its connection's lag alone.

    Infinite on both sides where no lag is tracked.
    """
    stamps = connection.lag.stamps(sequence)
    oldest, newest = free_times(connection.at, rules.at, *stamps, received_at, history.snapshot_spacing_s)
    return float(oldest), float(newest)
