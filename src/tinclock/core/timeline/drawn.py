"""View that a client was interpolation, worked out from its clock and its interpolation."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.kernels.call_rows import MOMENT
from tinclock.core.kernels.moments import view_drawn_of
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.timeline.views import Interpolation


def derived_view(
    history: PoseHistory, clock: ClockEstimate, interpolation: Interpolation, client_time: float
) -> View | None:
    """The view of a client that can't say it, from the time that its own clock showed when it acted.

    Its screen was behind the server by one trip down and by its interpolation delay. The trip down is taken as half
    the shortest round trip, which is off by as much as the offset is when the path is lopsided, and the other way: on
    a line without jitter the two cancel. None before the first ping was answered, or when no snapshot of that time is
    held.
    """
    if not clock.samples:
        return None
    at = clock.server_time_of(client_time) - clock.round_trip_s / 2.0 - interpolation.interpolation_delay_s
    return drawn_view(history, interpolation, at)


def drawn_view(history: PoseHistory, interpolation: Interpolation, server_time: float) -> View | None:
    """Return the view that a client with all snapshots draws for a server time; None when none of that time is held."""
    moments = history.moments
    from_tick, to_tick, fraction = view_drawn_of(
        moments[MOMENT.snapshots], moments[MOMENT.snapshot_count], float(server_time),
        interpolation.between == "nearest",
        interpolation.when_late == "extrapolate", float(interpolation.extrapolate_s),
    )  # fmt: skip
    return None if from_tick < 0 else View(from_tick, to_tick, fraction)
