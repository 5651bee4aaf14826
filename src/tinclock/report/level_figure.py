"""A level from above, as a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.report.outlines import draw_plan
from tinclock.report.style import dress, new_figure, save

if TYPE_CHECKING:
    from pathlib import Path

    from tinclock.core.geometry.level import Level


def draw_level(path: Path, found: Level, name: str) -> Path:
    """Draw a level's plan into a PNG."""
    figure = new_figure("draw_level")
    axes = figure.add_axes((0.06, 0.08, 0.9, 0.84))
    draw_plan(axes, found)
    low, high = found.vertices.min(0), found.vertices.max(0)
    axes.set_xlim(low[0] - 0.5, high[0] + 0.5)
    axes.set_ylim(low[1] - 0.5, high[1] + 0.5)
    axes.set_aspect("equal")
    dress(axes, f"{name} from above", "metres east", "metres north")
    return save(figure, path)
