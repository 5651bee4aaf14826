"""One ruled shot, from above, from the side, and along the ray as the shooter aimed it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.wording import explain_finding
from tinclock.report.looks import (
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
from tinclock.report.outlines import draw_boxes, draw_section

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

    from tinclock.core.tableau import Tableau

BEYOND_M = 2.0


def draw_shot(tableau: Tableau, path: Path, names: Mapping[int, str] | None = None, said: Sequence[str] = ()) -> Path:
    """Write the picture of a shot as a PNG. `names` gives entities a name to show; `said` is what `Why.say` says."""
    figure = new_figure("draw_shot")
    grid = figure.add_gridspec(
        2, 2, width_ratios=(1.75, 1.0), left=0.055, right=0.985, top=0.815, bottom=0.075, hspace=0.34, wspace=0.13
    )
    origin, along = np.array(tableau.origin), np.array(tableau.direction)
    flat = np.array([along[0], along[1], 0.0])
    ahead = flat / np.linalg.norm(flat) if np.linalg.norm(flat) > 1e-6 else np.array([1.0, 0.0, 0.0])
    left, up = np.array([-ahead[1], ahead[0], 0.0]), np.array([0.0, 0.0, 1.0])
    length = _shown_length(tableau)
    above, beside = figure.add_subplot(grid[0, 0]), figure.add_subplot(grid[1, 0])
    _view(above, tableau, np.array([ahead, left]), origin, length)
    dress(above, "from above", "metres along the shot", "metres to its left")
    _view(beside, tableau, np.array([ahead, up]), np.array([origin[0], origin[1], 0.0]), length)
    dress(beside, "from the side", "metres along the shot", "metres above the ground")
    if tableau.level is not None:
        draw_section(above, tableau.level, origin + along * min(length, 6.0), up, np.array([ahead, left]), origin)
        base = np.array([origin[0], origin[1], 0.0])
        draw_section(beside, tableau.level, origin, tuple(left), np.array([ahead, up]), base)
    beside.set_ylim(-0.25, 3.0)
    above.set_ylim(-2.6, 2.6)
    _aim(figure.add_subplot(grid[:, 1]), tableau, origin, along)
    _head(figure, tableau, names or {}, said)
    return save(figure, path)


def _shown_length(tableau: Tableau) -> float:
    bodies = [boxes for boxes in (tableau.now, tableau.rewound) if boxes is not None]
    far = [float(((boxes.centres - tableau.origin) @ np.array(tableau.direction)).max()) for boxes in bodies]
    wall = [tableau.wall_m] if np.isfinite(tableau.wall_m) and tableau.wall_m < max(far, default=0.0) + 6.0 else []
    return max([4.0, *far, *wall]) + BEYOND_M


def _view(axes: Any, tableau: Tableau, basis: Any, origin: Any, length: float) -> None:
    struck = tableau.ruling.hits[0].part if tableau.ruling.hits else ""
    for boxes in (*tableau.others, *([tableau.shooter] if tableau.shooter is not None else [])):
        draw_boxes(axes, boxes, basis, origin, "#e6e8e8", linewidths=0.3)
    if tableau.claimed is not None:
        draw_boxes(axes, tableau.claimed, basis, origin, "none", linestyles="dotted", linewidths=0.9)
    if tableau.now is not None:
        draw_boxes(axes, tableau.now, basis, origin, NOW, linewidths=0.4)
    if tableau.rewound is not None:
        draw_boxes(axes, tableau.rewound, basis, origin, REWOUND, struck)
    start, reach = np.array(tableau.origin) - origin, _reached(tableau)
    ends = np.array([start, start + np.array(tableau.direction) * min(reach, length)]) @ basis.T
    axes.plot(ends[:, 0], ends[:, 1], color=RAY, lw=1.6, solid_capstyle="round")
    axes.plot(*ends[0], "o", color=RAY, ms=4)
    beyond = np.array([ends[1], (start + np.array(tableau.direction) * length) @ basis.T])
    axes.plot(beyond[:, 0], beyond[:, 1], color=RAY, lw=0.8, ls=(0, (2, 3)), alpha=0.7)
    for crossed, surface in tableau.crossings:
        if crossed < min(reach, length) - 1e-6:
            place = (start + np.array(tableau.direction) * crossed) @ basis.T
            axes.plot(*place, "|", color=surface_colour(surface), ms=12, mew=2.5)
    if np.isfinite(tableau.wall_m) and tableau.wall_m <= length:
        meet = (start + np.array(tableau.direction) * tableau.wall_m) @ basis.T
        axes.plot(*meet, "X", color=INK, ms=8, mec="white", mew=0.8)
    if tableau.ruling.hits:
        point = (np.array(tableau.ruling.hits[0].point) - origin) @ basis.T
        axes.plot(*point, "o", color=STRUCK, ms=6, mec="white", mew=0.8)
    axes.set_xlim(-1.2, length)
    axes.set_aspect("equal", adjustable="box", anchor="W")


def _reached(tableau: Tableau) -> float:
    if tableau.ruling.reached_m is not None:
        return tableau.ruling.reached_m
    return float(min(tableau.wall_m, tableau.range_m))


def _aim(axes: Any, tableau: Tableau, origin: Any, along: Any) -> None:
    """The target as seen along the ray: the crosshair lies at 0, 0."""
    right = np.cross(along, [0.0, 0.0, 1.0])
    right = right / np.linalg.norm(right) if np.linalg.norm(right) > 1e-9 else np.array([1.0, 0.0, 0.0])
    basis = np.array([right, np.cross(right, along)])
    struck = tableau.ruling.hits[0].part if tableau.ruling.hits else ""
    bodies = [boxes for boxes in (tableau.now, tableau.rewound) if boxes is not None]
    if tableau.now is not None:
        draw_boxes(axes, tableau.now, basis, origin, NOW, alpha=0.75)
    if tableau.rewound is not None:
        draw_boxes(axes, tableau.rewound, basis, origin, REWOUND, struck, alpha=0.9)
    if tableau.claimed is not None:
        draw_boxes(axes, tableau.claimed, basis, origin, "none", linestyles="dotted", linewidths=0.9)
    axes.axhline(0.0, color=RAY, lw=0.7)
    axes.axvline(0.0, color=RAY, lw=0.7)
    axes.plot(0.0, 0.0, "o", mfc="none", mec=RAY, ms=12)
    spread = [1.0] + [float(np.abs((b.centres - origin) @ basis.T).max()) + 0.25 for b in bodies]
    half = min(max(spread), 3.0)
    axes.set_xlim(-half, half)
    axes.set_ylim(-half * 1.45, half * 1.45)
    axes.set_aspect("equal", adjustable="box")
    dress(axes, "along the shot: the crosshair is at 0, 0", "metres to its right", "metres above it")


def _head(figure: Any, tableau: Tableau, names: Mapping[int, str], said: Sequence[str]) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    ruling = tableau.ruling
    shooter = names.get(ruling.entity, f"entity {ruling.entity}")
    target = names.get(tableau.target, f"entity {tableau.target}") if tableau.target else "nobody"
    if ruling.hits:
        hit = ruling.hits[0]
        told = f"{shooter} hit {target} in the {hit.part.replace('_', ' ')} at {hit.distance_m:.1f} m"
        told += f" for {hit.damage:.1f}" + (", killing" if hit.lethal else "")
    else:
        passed = f"{max(tableau.clearance_m, 0.0):.2f} m from {target}" if tableau.target else "nobody near"
        told = f"{shooter} hit nobody: passed {passed}"
        if ruling.outcome != "denied" and tableau.wall_surface and (ruling.stopped_by or "") == tableau.wall_surface:
            told = f"{shooter} hit nobody: the {tableau.wall_surface} stopped it after {tableau.wall_m:.1f} m"
    title_ruling(figure, ruling.number, ruling.outcome, told)
    figure.text(0.055, 0.915, _second_line(tableau, target)[:160], fontsize=10.5, color=INK)
    figure.text(0.055, 0.888, "; ".join(said[:2])[:150], fontsize=10, color=INK, style="italic")
    handles = [
        Patch(fc=REWOUND, ec=INK, label="target, rewound to the shooter's view"),
        Patch(fc=NOW, ec=INK, label="target, where the server has it now"),
        Patch(fc=STRUCK, ec=INK, label="part hit"),
        Line2D([], [], color=RAY, label="shot"),
        *([Line2D([], [], color=INK, ls=":", label="target at the claimed view")] if tableau.claimed else []),
        Line2D([], [], color=INK, marker="X", ls="", label=f"first wall ({tableau.wall_surface or 'none'})"),
    ]
    figure.legend(
        handles=handles, loc="upper left", bbox_to_anchor=(0.046, 0.882), ncol=6, frameon=False, fontsize=9,
        labelcolor=INK, handlelength=1.4, columnspacing=1.6,
    )  # fmt: skip


def _second_line(tableau: Tableau, target: str) -> str:
    ruling = tableau.ruling
    if ruling.findings:
        finding = ruling.findings[0]
        return f"{finding.code}: {explain_finding(finding)}"
    said = []
    if ruling.rewound_s is not None:
        said.append(f"ruled {ruling.rewound_s * 1000:.0f} ms before it arrived")
    if tableau.target and np.isfinite(tableau.moved_m):
        said.append(f"{target} has moved {tableau.moved_m:.2f} m since")
    if tableau.wall_surface:
        wall, reach = tableau.wall_m, ruling.reached_m or 0.0
        passed = any(step.name == "passed" for step in ruling.steps)
        if wall > reach + 1e-9:
            after = "stands behind and did not block it"
        else:
            after = "was passed" if passed and ruling.hits else "stopped it"
        said.append(f"the {tableau.wall_surface} at {wall:.1f} m {after}")
    return ", ".join(said) or "nothing was cast"
