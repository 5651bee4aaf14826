"""A character's vertices and the hitboxes fitted to them, as a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.timeline.hitboxes import pose_hitboxes
from tinclock.report.outlines import outlines
from tinclock.report.style import INK, PAPER, TEAMS, dress, legend, new_figure, save, title

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig
    from tinclock.intake.meshes.rig_fit import Fit
    from tinclock.intake.meshes.skin_file import Skin


TOP, BOTTOM, LEFT, GAP = 0.88, 0.09, 0.07, 0.06
MIN_BARS, NAMES = 0.25, 0.1
"""Shares of the width for the bars at the right, and for the names beside them."""
MARGIN_M = 0.04


def draw_rig(path: Path, skin: Skin, body: Rig, name: str, fits: Sequence[Fit] = ()) -> Path:
    """Draw a fitted rig at rest into a PNG, from the front and from its right, and how well each part fits."""
    figure = new_figure("draw_rig")
    about = ("vertices by bone, and the hitboxes fitted to them", {"fontsize": 11, "color": INK})
    title(figure, 0.95, (name, {"fontsize": 15, "color": INK, "weight": "bold"}), about)
    bones = np.hstack([skin.rest, np.tile([0.0, 0.0, 0.0, 1.0], (len(skin.rest), 1))])
    boxes = pose_hitboxes(body, bones, 0, 0.0)
    up, across, along = np.array([0.0, 0.0, 1.0]), np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0])
    views = []
    for label, right in (("from the front", across), ("from its right", along)):
        basis = np.stack([right, up])
        shapes = list(outlines(boxes, basis, np.zeros(3)))
        flat = skin.vertices @ basis.T
        all_of_it = np.vstack([flat, *shapes])
        views.append((label, flat, shapes, all_of_it.min(0) - MARGIN_M, all_of_it.max(0) + MARGIN_M))
    room = 1.0 - LEFT - 2 * GAP - (MIN_BARS + NAMES if fits else 0.0)
    wide, high = sum(hi[0] - lo[0] for *_, lo, hi in views), max(hi[1] - lo[1] for *_, lo, hi in views)
    inches = min(room * figure.get_figwidth() / wide, (TOP - BOTTOM) * figure.get_figheight() / high)
    at = LEFT
    for place, (label, flat, shapes, lo, hi) in enumerate(views):
        width = (hi[0] - lo[0]) * inches / figure.get_figwidth()
        axes = figure.add_axes((at, BOTTOM, width, (hi[1] - lo[1]) * inches / figure.get_figheight()))
        axes.scatter(flat[:, 0], flat[:, 1], s=3, c=skin.owner % 20, cmap="tab20", linewidths=0, zorder=1)
        for part, polygon in zip(body.parts, shapes, strict=True):
            if place == 0:
                _name(axes, part.name, polygon)
            axes.fill(*polygon.T, facecolor=TEAMS["copper"], alpha=0.12, zorder=2)
            axes.plot(*np.vstack([polygon, polygon[:1]]).T, color=INK, linewidth=0.9, zorder=3)
        axes.set(xlim=(lo[0], hi[0]), ylim=(lo[1], hi[1]))
        axes.locator_params(axis="x", nbins=max(int(width * 20), 2))
        dress(axes, label, "metres", "metres up" if place == 0 else "")
        at += width + GAP
    if fits:
        _bars(figure.add_axes((at + NAMES, BOTTOM, 0.97 - at - NAMES, TOP - BOTTOM)), fits)
    return save(figure, path)


def _name(axes: Axes, part: str, polygon: NDArray[np.float64]) -> None:
    """Labels of parts, in their middle, or above them."""
    low, high = polygon.min(0), polygon.max(0)
    middle, (wide, tall) = (low + high) / 2.0, high - low
    lying = wide > 2.0 * tall  # a name is wider than an arm that is held out: it stands above
    axes.text(
        middle[0], high[1] + 0.01 if lying else middle[1], part.replace("_", "\n"), fontsize=8.5, color=INK,
        ha="center", va="bottom" if lying else "center", zorder=5, linespacing=0.95,
        bbox={"fc": PAPER, "ec": "none", "alpha": 0.75, "pad": 0.6},
    )  # fmt: skip


def _bars(axes: Axes, fits: Sequence[Fit]) -> None:
    """For each part, the share of its vertices that it covers, and of it that is air."""
    rows = np.arange(len(fits))[::-1]
    axes.barh(rows + 0.2, [100.0 * fit.covered for fit in fits], 0.34, color=TEAMS["pewter"], label="covered")
    axes.barh(rows - 0.2, [100.0 * fit.air for fit in fits], 0.34, color=TEAMS["copper"], label="air")
    axes.set_yticks(rows, [fit.part.replace("_", " ") for fit in fits], fontsize=9)
    axes.set_xlim(0.0, 100.0)
    legend(axes, 2)
    dress(axes, "", "% of its vertices; % of itself", "")
