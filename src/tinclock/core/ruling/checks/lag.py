"""Lag that a client reports, kept as it comes; `kernels.checks.lag` compares shots with it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from tinclock.core.kernels.call_rows import MOMENT
from tinclock.core.kernels.checks.lag import free_times, lags_of
from tinclock.core.kernels.hearing import hear_message
from tinclock.core.plain import plain_number
from tinclock.core.ruling.checks.form import is_count, is_number, is_time
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from tinclock.core.combat.connections import Connection
    from tinclock.core.rules.numbers import RuleNumbers
    from tinclock.core.timeline.history import PoseHistory


class HoldsSnapshots(Protocol):
    """Rows of snapshots for kernels. moments : see `kernels.call_rows.MomentFields`"""

    moments: NDArray[np.int64]

    @property
    def snapshot_spacing_s(self) -> float: ...


def hear(
    history: HoldsSnapshots, connection: Connection, view: object, client_time: object, received_at: float,
    sequence: int = 0,
) -> bool:  # fmt: skip
    """Take down the screen and the clock that a client reports; returns whether the report can be true.

    Ticks that were never sent, or that can't have arrived, tell nothing; nothing raises.
    """
    stamp, shown = plain_number(client_time), None if view is None else _as_view(view)
    if not is_time(stamp) or (view is not None and shown is None):
        return False
    moments, lag = history.moments, connection.lag
    from_tick, to_tick, fraction = (0, 0, 0.0) if shown is None else (shown.from_tick, shown.to_tick, shown.fraction)
    told = hear_message(
        connection.at, lag.said_at, int(moments[MOMENT.snapshots]), int(moments[MOMENT.snapshot_count]),
        shown is not None, from_tick, to_tick, float(fraction), float(stamp), received_at, sequence,
    )  # fmt: skip
    if told == 2.0:
        connection.transits.make_room()
    return told != 0.0 and shown is not None


def _as_view(view: object) -> View | None:
    if isinstance(view, View):
        view = view.from_tick, view.to_tick, view.fraction
    if isinstance(view, (tuple, list)) and len(view) == 3:
        view = View(*map(plain_number, view))
    good = isinstance(view, View) and is_count(view.from_tick) and is_count(view.to_tick) and is_number(view.fraction)
    return view if good else None  # type: ignore[return-value]


def screen_sent_at(history: PoseHistory, connection: Connection, view: object, received_at: float) -> float | None:
    """Return the server time at which a view's newest snapshot was sent; None if this client can't have had it."""
    shown = _as_view(view)
    newest = None if shown is None else history.snapshots.get(shown.to_tick)
    if newest is None or newest.sent_at < connection.since:
        return None
    return newest.sent_at if received_at - newest.sent_at >= connection.shortest_s else None


def free_views(
    connection: Connection, rules: RuleNumbers, history: PoseHistory, sequence: int, received_at: float
) -> tuple[float, float]:
    """Between which server times a claim of a sequence may show the others, by its connection's lag alone.

    Infinite on both sides where no lag is tracked.
    """
    lag = connection.lag
    stamps = lag.stamps(sequence) if sequence < lag.newest_sequence else (float("nan"), float("nan"))
    moments = history.moments
    oldest, newest = free_times(
        connection.at, rules.at, int(moments[MOMENT.ticks]), int(moments[MOMENT.tick_count]), *stamps, received_at,
        history.snapshot_spacing_s,
    )  # fmt: skip
    return float(oldest), float(newest)


def display_delays(
    connection: Connection, rules: RuleNumbers, history: HoldsSnapshots, received_at: float
) -> tuple[float, float, float]:
    """Return the told, explained and tracked age of a connection's views on the arrival of its fastest message.

    In seconds; NaN where one isn't known.
    """
    told, explained, tracked = lags_of(connection.at, rules.at, received_at, history.snapshot_spacing_s)
    return float(told), float(explained), float(tracked)
