"""A whole match from above: who walked where, and every shot by what was decided about it."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.report.outlines import draw_plan
from tinclock.report.style import INK, OUTCOMES, PAPER, SURFACES, TEAMS, dress, new_figure, pale, save

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling

STUB_M = 3.0


def draw_match(
    path: Path,
    *,
    title: str,
    level: Level,
    rulings: Sequence[Ruling],
    paths: NDArray[np.float32],
    accounts: Sequence[str],
    teams: Mapping[str, str],
) -> Path:
    """Write the picture of a match as a PNG.

    paths : (ticks, players, 2) float32, metres, nan where dead; accounts : the players' names, in that order
    """
    figure = new_figure("draw_match")
    grid = figure.add_gridspec(1, 2, width_ratios=(2.6, 1.0), left=0.045, right=0.985, top=0.87, bottom=0.1, wspace=0.2)
    plan, bars = figure.add_subplot(grid[0]), figure.add_subplot(grid[1])
    draw_plan(plan, level)
    for player, account in enumerate(accounts):
        colour = TEAMS.get(teams[account], "#777777")
        plan.plot(paths[:, player, 0], paths[:, player, 1], color=colour, lw=1.8, alpha=0.55, zorder=1.5)
    _draw_shots(plan, rulings)
    plan.set_aspect("equal")
    margin = 0.6
    low, high = level.vertices.min(axis=0), level.vertices.max(axis=0)
    tall = level.vertices[level.vertices[:, 2] > 0.05]
    if len(tall):
        low, high = tall.min(axis=0), tall.max(axis=0)
    plan.set_xlim(low[0] - margin, high[0] + margin)
    plan.set_ylim(low[1] - margin, high[1] + margin)
    dress(plan, "paths and shots", "metres east", "metres north")
    _draw_bars(bars, rulings, accounts)
    figure.text(0.045, 0.945, title, fontsize=15, color=INK, weight="bold")
    _legend(figure, level, sorted(set(teams.values())))
    return save(figure, path)


def _draw_shots(axes: Axes, rulings: Sequence[Ruling]) -> None:
    from matplotlib.collections import LineCollection

    for outcome, colour in OUTCOMES.items():
        for struck in (False, True):
            lines = [_ends(r) for r in rulings if r.outcome == outcome and bool(r.hits) == struck and r.origin]
            if not lines:
                continue
            faint = outcome == "upheld" and not struck
            style = {"linewidths": 0.6, "alpha": 0.2} if faint else {"linewidths": 0.9, "alpha": 0.7}
            dashes = (0, (2, 2)) if outcome == "denied" else "solid"
            axes.add_collection(LineCollection(lines, colors=colour, linestyles=dashes, **style))
            if struck:
                ends = np.array([line[1] for line in lines])
                axes.plot(ends[:, 0], ends[:, 1], "o", color=colour, ms=5, mec=PAPER, mew=0.7)


def _ends(ruling: Ruling) -> list[tuple[float, float]]:
    (x, y, _), (dx, dy, _) = ruling.origin or (0.0, 0.0, 0.0), ruling.direction or (1.0, 0.0, 0.0)
    reach = STUB_M if ruling.reached_m is None else ruling.reached_m
    return [(x, y), (x + dx * reach, y + dy * reach)]


def _draw_bars(axes: Axes, rulings: Sequence[Ruling], accounts: Sequence[str]) -> None:
    counts: Counter[tuple[str, str]] = Counter((r.account, r.outcome) for r in rulings)
    rows = np.arange(len(accounts))
    start = np.zeros(len(accounts))
    for outcome, colour in OUTCOMES.items():
        width = np.array([counts[account, outcome] for account in accounts], np.float64)
        axes.barh(rows, width, left=start, color=colour, height=0.62)
        for row, (left, wide) in enumerate(zip(start, width, strict=True)):
            if wide:
                axes.text(left + wide / 2, row, f"{int(wide)}", ha="center", va="center", fontsize=8, color="white")
        start += width
    axes.set_yticks(rows, accounts)
    axes.invert_yaxis()
    dress(axes, "rulings by account", "claims", "")


def _legend(figure: Figure, level: Level, teams: Sequence[str]) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = [Line2D([], [], color=TEAMS.get(team, "#777777"), label=f"path, {team}") for team in teams]
    handles += [
        Line2D([], [], color=OUTCOMES["upheld"], marker="o", ms=5, label="upheld, hit"),
        Line2D([], [], color=OUTCOMES["upheld"], alpha=0.35, lw=0.8, label="upheld, hit nobody"),
        Line2D([], [], color=OUTCOMES["amended"], marker="o", ms=5, label="amended"),
        Line2D([], [], color=OUTCOMES["denied"], ls=(0, (2, 2)), label="denied (first 3 m)"),
    ]
    used = {level.surfaces[kind].name for kind in level.kinds} - {"ground"}
    handles += [Patch(fc=pale(name), label=name) for name in SURFACES if name in used]
    figure.legend(
        handles=handles, loc="upper left", bbox_to_anchor=(0.036, 0.935), ncol=11, frameon=False, fontsize=8.5,
        labelcolor=INK, handlelength=1.4, columnspacing=1.2,
    )  # fmt: skip
