"""Time, drawn: what the referee knows of a connection's clock, and how its views lie within their bounds."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.report.style import FAINT, INK, OUTCOMES, RAY, REWOUND, STRUCK, dress, legend, new_figure, save

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from matplotlib.axes import Axes

    from tinclock.garden.played import BoundPoint, ClockPoint


def draw_clock(points: Sequence[ClockPoint], path: Path, title: str) -> Path:
    """Write a picture of one connection's clock estimate over time as a PNG."""
    figure = new_figure("draw_clock")
    grid = figure.add_gridspec(2, 1, height_ratios=(1.5, 1), left=0.07, right=0.98, top=0.86, bottom=0.08, hspace=0.3)
    offset, trip = figure.add_subplot(grid[0]), figure.add_subplot(grid[1])
    figure.text(0.07, 0.94, title, fontsize=15, color=INK, weight="bold")
    time = np.array([p.server_time for p in points])
    _offsets(offset, points, time)
    trip.plot(time, [p.round_trip_s * 1000 for p in points], "o", color=FAINT, ms=4, label="round trip of an answer")
    trip.plot(time, [p.shortest_s * 1000 for p in points], color=RAY, lw=2, label="shortest of the last 10 s")
    trip.plot(time, [p.jitter_s * 1000 for p in points], color=STRUCK, lw=1.5, label="jitter (RFC 3550)")
    trip.set_ylim(bottom=0.0)
    dress(trip, "round trip", "server time, s", "ms")
    for axes in (offset, trip):
        legend(axes, 4)
        axes.set_xlim(0.0, float(time[-1]) * 1.01 if len(time) else 1.0)
    return save(figure, path)


def _offsets(axes: Axes, points: Sequence[ClockPoint], time: Any) -> None:
    """Everything relative to the true offset, so that the truth is the line at 0."""
    truth = np.array([p.true_offset_s for p in points])
    low, high = (np.array([getattr(p, name) for p in points]) - truth for name in ("offset_low_s", "offset_high_s"))
    estimate = np.array([p.offset_s for p in points]) - truth
    bound = np.array([p.offset_bound_s for p in points])
    axes.vlines(time, low * 1000, high * 1000, color=FAINT, lw=1.0, label="what one answer allows")
    axes.fill_between(
        time, (estimate - bound) * 1000, (estimate + bound) * 1000, color=REWOUND, alpha=0.6, lw=0, step="post",
        label="estimate and its bound",
    )  # fmt: skip
    axes.step(time, estimate * 1000, where="post", color=RAY, lw=2)
    axes.axhline(0.0, color=INK, lw=1.2, ls=(0, (5, 3)), label="truth")
    tall = (
        float(max(np.percentile(np.abs(np.concatenate([low, high])), 80), bound.min())) * 1300 if len(points) else 1.0
    )
    axes.set_ylim(-tall, tall)
    dress(axes, "clock offset, estimate less truth", "", "ms")


def draw_bounds(points: Sequence[BoundPoint], path: Path, title: str) -> Path:
    """Write a picture of one connection's claimed views against their bounds as a PNG."""
    figure = new_figure("draw_bounds")
    axes = figure.add_axes((0.07, 0.09, 0.91, 0.74))
    figure.text(0.07, 0.94, title, fontsize=15, color=INK, weight="bold")
    figure.text(
        0.07, 0.865, "A view above the band can't have reached the client yet; one below it is older than its "
        "connection explains.\nPast the cap it is ruled at the cap; off the estimated display delay, at that lag.",
        fontsize=10.5, color=INK,
    )  # fmt: skip
    time = np.array([p.server_time for p in points])
    newest, oldest = (np.array([getattr(p, name) for p in points]) * 1000 for name in ("newest_s", "oldest_s"))
    cap = points[0].rewind_limit_s * 1000 if points else 400.0
    deepest = max([cap, *(p.claimed_s * 1000 for p in points)]) * 1.12
    axes.fill_between(
        time, newest, np.minimum(oldest, deepest), step="mid", color=REWOUND, alpha=0.4, lw=0, label="allowed band"
    )
    axes.axhline(cap, color=STRUCK, lw=1.5, label=f"cap: max_rewind_s, {cap:.0f} ms")
    ruled = np.array([p.ruled_s for p in points]) * 1000
    claimed = np.array([p.claimed_s for p in points]) * 1000
    moved = np.isfinite(ruled) & (np.abs(ruled - claimed) > 0.01)
    axes.plot(time[np.isfinite(ruled)], claimed[np.isfinite(ruled)], "o", color=RAY, ms=6, label="claimed")
    axes.plot(time[moved], ruled[moved], "D", color=OUTCOMES["adjusted"], ms=7, label="ruled, where that differs")
    axes.vlines(time[moved], ruled[moved], claimed[moved], color=OUTCOMES["adjusted"], lw=1.2)
    unruled = ~np.isfinite(ruled)
    axes.plot(
        time[unruled], claimed[unruled], "x", color=OUTCOMES["rejected"], ms=9, mew=2, label="rejected before its view"
    )
    axes.set_ylim(deepest, 0.0)
    axes.set_xlim(0.0, float(time[-1]) * 1.02 if len(time) else 1.0)
    dress(axes, "", "server time, s", "age of the view on arrival, ms (older is lower)")
    legend(axes, 5)
    return save(figure, path)
