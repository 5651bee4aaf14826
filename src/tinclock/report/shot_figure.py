"""One ruled shot, from above, from the side, and along the ray as the shooter aimed it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.analysis.miss_explanation import MissExplanation
from tinclock.core.text import called
from tinclock.report.outlines import draw_boxes, draw_section
from tinclock.report.style import (
    INK,
    NOW,
    RAY,
    REWOUND,
    STRUCK,
    dress,
    new_figure,
    save,
    surface_colour,
    title_ruling,
)

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from tinclock.core.analysis.shot_scene import ShotScene

BEYOND_M = 2.0


def draw_shot(
    surroundings: ShotScene, path: Path, names: Mapping[int, str] | None = None, reason: MissExplanation | None = None
) -> Path:
    """Write the picture of a shot as a PNG. names : what to call entities; reason : why it hit nobody, from `why`"""
    figure = new_figure("draw_shot")
    grid = figure.add_gridspec(
        2, 2, width_ratios=(1.75, 1.0), left=0.055, right=0.985, top=0.815, bottom=0.075, hspace=0.34, wspace=0.13
    )
    origin, along = np.array(surroundings.origin), np.array(surroundings.direction)
    flat = np.array([along[0], along[1], 0.0])
    ahead = flat / np.linalg.norm(flat) if np.linalg.norm(flat) > 1e-6 else np.array([1.0, 0.0, 0.0])
    left, up = np.array([-ahead[1], ahead[0], 0.0]), np.array([0.0, 0.0, 1.0])
    length = _shown_length(surroundings)
    above, beside = figure.add_subplot(grid[0, 0]), figure.add_subplot(grid[1, 0])
    _view(above, surroundings, np.array([ahead, left]), origin, length)
    dress(above, "from above", "metres along the shot", "metres to its left")
    _view(beside, surroundings, np.array([ahead, up]), np.array([origin[0], origin[1], 0.0]), length)
    dress(beside, "from the side", "metres along the shot", "metres above the ground")
    if surroundings.level is not None:
        draw_section(above, surroundings.level, origin + along * min(length, 6.0), up, np.array([ahead, left]), origin)
        base = np.array([origin[0], origin[1], 0.0])
        draw_section(beside, surroundings.level, origin, tuple(left), np.array([ahead, up]), base)
    beside.set_ylim(-0.25, 3.0)
    above.set_ylim(-2.6, 2.6)
    _aim(figure.add_subplot(grid[:, 1]), surroundings, origin, along)
    _head(figure, surroundings, names or {}, reason or MissExplanation())
    return save(figure, path)


def _shown_length(surroundings: ShotScene) -> float:
    bodies = [boxes for boxes in (surroundings.now, surroundings.rewound) if boxes is not None]
    far = [float(((boxes.centres - surroundings.origin) @ np.array(surroundings.direction)).max()) for boxes in bodies]
    wall = (
        [surroundings.wall_m]
        if np.isfinite(surroundings.wall_m) and surroundings.wall_m < max(far, default=0.0) + 6.0
        else []
    )
    return max([4.0, *far, *wall]) + BEYOND_M


def _view(axes: Axes, surroundings: ShotScene, basis: Any, origin: Any, length: float) -> None:
    struck = surroundings.ruling.hits[0].part if surroundings.ruling.hits else ""
    for boxes in (*surroundings.others, *([surroundings.shooter] if surroundings.shooter is not None else [])):
        draw_boxes(axes, boxes, basis, origin, "#e6e8e8", linewidths=0.3)
    if surroundings.claimed is not None:
        draw_boxes(axes, surroundings.claimed, basis, origin, "none", linestyles="dotted", linewidths=0.9)
    if surroundings.now is not None:
        draw_boxes(axes, surroundings.now, basis, origin, NOW, linewidths=0.4)
    if surroundings.rewound is not None:
        draw_boxes(axes, surroundings.rewound, basis, origin, REWOUND, struck)
    start, reach = np.array(surroundings.origin) - origin, _reached(surroundings)
    ends = np.array([start, start + np.array(surroundings.direction) * min(reach, length)]) @ basis.T
    axes.plot(ends[:, 0], ends[:, 1], color=RAY, lw=1.6, solid_capstyle="round")
    axes.plot(*ends[0], "o", color=RAY, ms=4)
    beyond = np.array([ends[1], (start + np.array(surroundings.direction) * length) @ basis.T])
    axes.plot(beyond[:, 0], beyond[:, 1], color=RAY, lw=0.8, ls=(0, (2, 3)), alpha=0.7)
    for crossed, surface in surroundings.crossings:
        if crossed < min(reach, length) - 1e-6:
            place = (start + np.array(surroundings.direction) * crossed) @ basis.T
            axes.plot(*place, "|", color=surface_colour(surface), ms=12, mew=2.5)
    if np.isfinite(surroundings.wall_m) and surroundings.wall_m <= length:
        meet = (start + np.array(surroundings.direction) * surroundings.wall_m) @ basis.T
        axes.plot(*meet, "X", color=INK, ms=8, mec="white", mew=0.8)
    if surroundings.ruling.hits:
        point = (np.array(surroundings.ruling.hits[0].position) - origin) @ basis.T
        axes.plot(*point, "o", color=STRUCK, ms=6, mec="white", mew=0.8)
    axes.set_xlim(-1.2, length)
    axes.set_aspect("equal", adjustable="box", anchor="W")


def _reached(surroundings: ShotScene) -> float:
    if surroundings.ruling.reached_m is not None:
        return surroundings.ruling.reached_m
    return float(min(surroundings.wall_m, surroundings.range_m))


def _aim(axes: Axes, surroundings: ShotScene, origin: Any, along: Any) -> None:
    """The target as seen along the ray: the crosshair lies at 0, 0."""
    right = np.cross(along, [0.0, 0.0, 1.0])
    right = right / np.linalg.norm(right) if np.linalg.norm(right) > 1e-9 else np.array([1.0, 0.0, 0.0])
    basis = np.array([right, np.cross(right, along)])
    struck = surroundings.ruling.hits[0].part if surroundings.ruling.hits else ""
    bodies = [boxes for boxes in (surroundings.now, surroundings.rewound) if boxes is not None]
    if surroundings.now is not None:
        draw_boxes(axes, surroundings.now, basis, origin, NOW, alpha=0.75)
    if surroundings.rewound is not None:
        draw_boxes(axes, surroundings.rewound, basis, origin, REWOUND, struck, alpha=0.9)
    if surroundings.claimed is not None:
        draw_boxes(axes, surroundings.claimed, basis, origin, "none", linestyles="dotted", linewidths=0.9)
    axes.axhline(0.0, color=RAY, lw=0.7)
    axes.axvline(0.0, color=RAY, lw=0.7)
    axes.plot(0.0, 0.0, "o", mfc="none", mec=RAY, ms=12)
    spread = [1.0] + [float(np.abs((b.centres - origin) @ basis.T).max()) + 0.25 for b in bodies]
    half = min(max(spread), 3.0)
    axes.set_xlim(-half, half)
    axes.set_ylim(-half * 1.45, half * 1.45)
    axes.set_aspect("equal", adjustable="box")
    dress(axes, "along the shot: the crosshair is at 0, 0", "metres to its right", "metres above it")


def _head(figure: Figure, surroundings: ShotScene, names: Mapping[int, str], reason: MissExplanation) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    ruling = surroundings.ruling
    target = names.get(surroundings.target, f"entity {surroundings.target}") if surroundings.target else "nobody"
    told = f"{called(ruling.entity, names)} - {ruling.answer(names, reason.because(names)).rstrip('.')}"
    said = reason.describe(names)
    title_ruling(figure, ruling.number, ruling.outcome, told)
    figure.text(0.055, 0.915, _second_line(surroundings, target)[:160], fontsize=10.5, color=INK)
    figure.text(0.055, 0.888, "; ".join(said[:2])[:150], fontsize=10, color=INK, style="italic")
    handles = [
        Patch(fc=REWOUND, ec=INK, label="target, rewound to the shooter's view"),
        Patch(fc=NOW, ec=INK, label="target, where the server has it now"),
        Patch(fc=STRUCK, ec=INK, label="part hit"),
        Line2D([], [], color=RAY, label="shot"),
        *([Line2D([], [], color=INK, ls=":", label="target at the claimed view")] if surroundings.claimed else []),
        Line2D([], [], color=INK, marker="X", ls="", label=f"first wall ({surroundings.wall_surface or 'none'})"),
    ]
    figure.legend(
        handles=handles, loc="upper left", bbox_to_anchor=(0.046, 0.882), ncol=6, frameon=False, fontsize=9,
        labelcolor=INK, handlelength=1.4, columnspacing=1.6,
    )  # fmt: skip


def _second_line(surroundings: ShotScene, target: str) -> str:
    ruling = surroundings.ruling
    if ruling.findings:
        finding = ruling.findings[0]
        return f"{finding.code}: {finding.explain()}"
    said = []
    if ruling.rewound_s is not None:
        said.append(f"ruled {ruling.rewound_s * 1000:.0f} ms before it arrived")
    if surroundings.target and np.isfinite(surroundings.moved_m):
        said.append(f"{target} has moved {surroundings.moved_m:.2f} m since")
    if surroundings.wall_surface:
        wall, reach = surroundings.wall_m, ruling.reached_m or 0.0
        passed = any(step.name == "passed" for step in ruling.checks)
        if wall > reach + 1e-9:
            after = "stands behind and did not block it"
        else:
            after = "was passed" if passed and ruling.hits else "stopped it"
        said.append(f"the {surroundings.wall_surface} at {wall:.1f} m {after}")
    return ", ".join(said) or "nothing was cast"
