"""A character's vertices and the hitboxes fitted to them, as a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.timeline.hitboxes import pose_hitboxes
from tinclock.report.looks import INK, TEAMS, dress, new_figure, save, title
from tinclock.report.outlines import outlines

if TYPE_CHECKING:
    from pathlib import Path

    from tinclock.core.geometry.rig import Rig
    from tinclock.intake.skin_file import Skin


def draw_rig(path: Path, skin: Skin, body: Rig, name: str) -> Path:
    """Draw a fitted rig at rest into a PNG, from the front and from its right."""
    figure = new_figure("draw_rig")
    about = ("vertices by bone, and the hitboxes fitted to them", {"fontsize": 11, "color": INK})
    title(figure, 0.95, (name, {"fontsize": 15, "color": INK, "weight": "bold"}), about)
    bones = np.hstack([skin.rest, np.tile([0.0, 0.0, 0.0, 1.0], (len(skin.rest), 1))])
    boxes = pose_hitboxes(body, bones, 0, 0.0)
    up, across, along = np.array([0.0, 0.0, 1.0]), np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0])
    for place, (label, right) in enumerate((("from the front", across), ("from its right", along))):
        basis = np.stack([right, up])
        axes = figure.add_axes((0.06 + 0.49 * place, 0.08, 0.42, 0.82))
        flat = skin.vertices @ basis.T
        axes.scatter(flat[:, 0], flat[:, 1], s=3, c=skin.owner % 20, cmap="tab20", linewidths=0, zorder=1)
        for polygon in outlines(boxes, basis, np.zeros(3)):
            axes.fill(*polygon.T, facecolor=TEAMS["copper"], alpha=0.12, zorder=2)
            axes.plot(*np.vstack([polygon, polygon[:1]]).T, color=INK, linewidth=0.9, zorder=3)
        axes.set_aspect("equal")
        dress(axes, label, "metres", "metres up" if place == 0 else "")
    return save(figure, path)
