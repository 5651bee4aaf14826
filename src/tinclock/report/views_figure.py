"""One target at five instants, as the shot met it or missed it at each: why a hundred milliseconds matter."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.report.outlines import draw_boxes
from tinclock.report.style import FAINT, INK, NOW, OUTCOMES, RAY, REWOUND, STRUCK, dress, new_figure, save

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from matplotlib.axes import Axes

    from tinclock.core.analysis.shot_scene import Glimpse, ShotScene

MIN_HALF_M, MAX_HALF_M = 0.75, 1.3
TALLNESS = 2.35
"""Height over width of a panel."""


def draw_views(surroundings: ShotScene, path: Path, names: Mapping[int, str] | None = None) -> Path:
    """Write the picture as a PNG: along the shot, the crosshair at 0, 0, one panel an instant."""
    figure = new_figure("draw_views")
    ruling, names = surroundings.ruling, names or {}
    shooter = names.get(ruling.entity, f"entity {ruling.entity}")
    target = names.get(surroundings.target, f"entity {surroundings.target}")
    figure.text(0.04, 0.95, f"Ruling {ruling.number}: ", fontsize=15, color=INK, weight="bold")
    figure.text(0.17, 0.95, ruling.outcome, fontsize=15, color=OUTCOMES[ruling.outcome], weight="bold")
    figure.text(0.25, 0.95, f"what {shooter}'s shot meets of {target} at five instants", fontsize=13, color=INK)
    figure.text(
        0.04, 0.908, "Each panel looks along the same shot; only the instant at which the target is evaluated differs.",
        fontsize=10.5, color=INK,
    )  # fmt: skip
    count = max(1, len(surroundings.glimpses))
    grid = figure.add_gridspec(1, count, left=0.045, right=0.985, top=0.82, bottom=0.09, wspace=0.08)
    origin, along = np.array(surroundings.origin), np.array(surroundings.direction)
    right = np.cross(along, [0.0, 0.0, 1.0])
    right = right / np.linalg.norm(right) if np.linalg.norm(right) > 1e-9 else np.array([1.0, 0.0, 0.0])
    basis = np.array([right, np.cross(right, along)])
    ages = [glimpse.age_s for glimpse in surroundings.glimpses]
    ruled = ages.index(min(ages, key=lambda age: abs(age - (ruling.rewound_s or ages[-1])))) if ages else -1
    wide = [
        float(np.abs((g.boxes.centres - origin) @ basis[0]).max()) for g in surroundings.glimpses if g.boxes is not None
    ]
    half = min(max(MIN_HALF_M, max(wide, default=0.0) + 0.15), MAX_HALF_M)
    for place, glimpse in enumerate(reversed(surroundings.glimpses)):
        axes = figure.add_subplot(grid[place])
        axes.set_xlim(-half, half)
        axes.set_ylim(-half * TALLNESS, half * TALLNESS)
        _panel(axes, glimpse, basis, origin, count - 1 - place == ruled, place == 0)
    return save(figure, path)


def _panel(axes: Axes, glimpse: Glimpse, basis: Any, origin: Any, ruled: bool, first: bool) -> None:
    if glimpse.boxes is not None:
        draw_boxes(axes, glimpse.boxes, basis, origin, REWOUND if ruled else NOW, glimpse.part, alpha=0.9)
    axes.axhline(0.0, color=RAY, lw=0.7)
    axes.axvline(0.0, color=RAY, lw=0.7)
    axes.plot(0.0, 0.0, "o", mfc="none", mec=RAY, ms=12)
    axes.set_aspect("equal", adjustable="box")
    axes.set_xticks([-0.5, 0.0, 0.5])
    dress(axes, "", "metres to its right", "metres above it" if first else "")
    if not first:
        axes.set_yticklabels([])
    if glimpse.boxes is None:
        met, colour = "not there", FAINT
    elif glimpse.part:
        met, colour = f"hits the {glimpse.part.replace('_', ' ')}", STRUCK
    else:
        met, colour = f"misses by {max(glimpse.clearance_m, 0.0):.2f} m", INK
    axes.set_title(f"{glimpse.age_s * 1000:.0f} ms ago", loc="left", fontsize=12, color=INK, weight="bold", pad=22)
    axes.text(0.0, 1.02, met, transform=axes.transAxes, fontsize=10.5, color=colour)
    if ruled:
        axes.text(0.98, 0.02, "ruled here", transform=axes.transAxes, fontsize=10, color=INK, ha="right", weight="bold")
        for side in ("left", "right", "top", "bottom"):
            axes.spines[side].set_visible(True)
            axes.spines[side].set_linewidth(2.0)
            axes.spines[side].set_color(RAY)
