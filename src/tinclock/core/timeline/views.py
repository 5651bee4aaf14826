"""Views: what a shooter's screen showed, as two snapshots and a fraction between them; and how clients draw."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from msgspec import Struct

from tinclock.core.errors import BadNumberError
from tinclock.core.timeline.instants import is_finite

if TYPE_CHECKING:
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PoseHistory


class View(Struct, frozen=True, array_like=True, gc=False):
    """What a screen showed: `fraction` 0 is the snapshot `from_tick`, 1 is `to_tick`; more than 1 extrapolates."""

    from_tick: int
    to_tick: int
    fraction: float


class Drawing(Struct, frozen=True, gc=False):
    """How a client draws the others.

    interpolation_delay_s : how far behind the fastest snapshots' arrival it draws
    between : what it does between two snapshots: "interpolate", or show the "nearest"
    when_late : what it does when the next snapshot is missing: "hold" the last one, or "extrapolate" the last two
    extrapolate_s : for how long at most; then it holds where it got to
    """

    interpolation_delay_s: float = 0.1
    between: Literal["interpolate", "nearest"] = "interpolate"
    when_late: Literal["hold", "extrapolate"] = "hold"
    extrapolate_s: float = 0.1


def sound_drawing(drawing: Drawing) -> Drawing:
    """A drawing that can be used, with floats; raises `BadNumberError` for what isn't one."""
    if not isinstance(drawing, Drawing):
        raise BadNumberError("drawing", "a Drawing", drawing)
    for name in ("interpolation_delay_s", "extrapolate_s"):
        value = getattr(drawing, name)
        if not (is_finite(value) and value >= 0.0):
            raise BadNumberError(f"drawing.{name}", "a finite number of seconds of at least 0", value)
    if drawing.between not in ("interpolate", "nearest") or drawing.when_late not in ("hold", "extrapolate"):
        expected = "between 'interpolate' or 'nearest', when_late 'hold' or 'extrapolate'"
        raise BadNumberError("drawing", expected, drawing)
    delay, most = float(drawing.interpolation_delay_s), float(drawing.extrapolate_s)
    return Drawing(delay, drawing.between, drawing.when_late, most)


def derived_view(history: PoseHistory, clock: ClockEstimate, drawing: Drawing, client_time: float) -> View | None:
    """The view of a client that can't say it, from the time that its own clock showed when it acted.

    Its screen was behind the server by one trip down and by its interpolation delay. The trip down is taken as half
    the shortest round trip, which is off by as much as the offset is when the path is lopsided, and the other way: on
    a line without jitter the two cancel. None before the first ping was answered, or when no snapshot of that time is
    held.
    """
    if not clock.samples:
        return None
    at = clock.server_time_of(client_time) - clock.round_trip_s / 2.0 - drawing.interpolation_delay_s
    return drawn_view(history, drawing, at)


def drawn_view(history: PoseHistory, drawing: Drawing, server_time: float) -> View | None:
    """What a client that received everything draws for a server time; None when no snapshot of that time is held."""
    if not history.first_snapshot_time <= server_time:
        return None
    view = history.view_at(server_time)
    if view.from_tick != view.to_tick:
        return snapped(view) if drawing.between == "nearest" else view
    beyond = server_time - history.snapshots[view.from_tick].time
    before = history.snapshot_before(view.from_tick)
    if drawing.when_late == "hold" or drawing.between == "nearest" or before is None or beyond <= 0.0:
        return view
    gap = history.snapshots[view.from_tick].time - history.snapshots[before].time
    return View(before, view.to_tick, 1.0 + min(beyond, drawing.extrapolate_s) / gap)


def snapped(view: View) -> View:
    """The view of a client that shows the nearer of its two snapshots; the later one at exactly half way."""
    tick = view.from_tick if view.fraction < 0.5 else view.to_tick
    return View(tick, tick, 0.0)
