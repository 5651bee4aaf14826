"""A whole match from above: who walked where, and every shot by what was decided about it."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.ruling.records import counted_as
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
    sides = sorted(set(teams.values())) or [""]
    grid = figure.add_gridspec(
        2,
        len(sides),
        height_ratios=(3.1, 1.0),
        left=0.045,
        right=0.985,
        top=0.87,
        bottom=0.075,
        hspace=0.24,
        wspace=0.1,
    )
    of_account = {ruling.account: ruling.entity for ruling in rulings}
    for place, side in enumerate(sides):
        plan = figure.add_subplot(grid[0, place])
        _draw_plan(plan, level, paths, accounts, teams)
        own = {of_account[account] for account in accounts if teams[account] == side and account in of_account}
        _draw_shots(plan, [ruling for ruling in rulings if ruling.entity in own])
        dress(plan, f"shots of {side or 'everybody'}", "metres east", "metres north" if place == 0 else "")
    _draw_bars(figure.add_subplot(grid[1, :]), rulings, accounts, teams)
    figure.text(0.045, 0.945, title, fontsize=15, color=INK, weight="bold")
    _legend(figure, level, sides)
    return save(figure, path)


def _draw_plan(
    axes: Axes, level: Level, paths: NDArray[np.float32], accounts: Sequence[str], teams: Mapping[str, str]
) -> None:
    """The level from above, where everybody walked, and whose way each is, where it ended."""
    draw_plan(axes, level)
    for player, account in enumerate(accounts):
        way, colour = paths[:, player], TEAMS.get(teams[account], "#777777")
        axes.plot(way[:, 0], way[:, 1], color=colour, lw=1.6, alpha=0.5, zorder=1.5)
        alive = np.flatnonzero(np.isfinite(way[:, 0]))
        if len(alive):
            x, y = way[alive[-1]].tolist()
            axes.plot(x, y, "o", color=colour, ms=4, zorder=4)
            axes.annotate(
                account, (x, y), (0, 6), textcoords="offset points", fontsize=8.5, color=colour, ha="center", zorder=5,
                bbox={"fc": PAPER, "ec": "none", "alpha": 0.75, "pad": 0.8},
            )  # fmt: skip
    axes.set_aspect("equal")
    margin = 0.6
    low, high = level.vertices.min(axis=0), level.vertices.max(axis=0)
    tall = level.vertices[level.vertices[:, 2] > 0.05]
    if len(tall):
        low, high = tall.min(axis=0), tall.max(axis=0)
    axes.set_xlim(low[0] - margin, high[0] + margin)
    axes.set_ylim(low[1] - margin, high[1] + margin)


def _draw_shots(axes: Axes, rulings: Sequence[Ruling]) -> None:
    from matplotlib.collections import LineCollection

    for outcome, colour in OUTCOMES.items():
        for struck in (False, True):
            lines = [_ends(r) for r in rulings if r.outcome == outcome and bool(r.hits) == struck and r.origin]
            if not lines:
                continue
            faint = outcome == "accepted" and not struck
            style = {"linewidths": 0.6, "alpha": 0.2} if faint else {"linewidths": 0.9, "alpha": 0.7}
            dashes = (0, (2, 2)) if outcome == "rejected" else "solid"
            axes.add_collection(LineCollection(lines, colors=colour, linestyles=dashes, **style))
            if struck:
                ends = np.array([line[1] for line in lines])
                axes.plot(ends[:, 0], ends[:, 1], "o", color=colour, ms=5, mec=PAPER, mew=0.7)


def _ends(ruling: Ruling) -> list[tuple[float, float]]:
    (x, y, _), (dx, dy, _) = ruling.origin or (0.0, 0.0, 0.0), ruling.direction or (1.0, 0.0, 0.0)
    reach = STUB_M if ruling.reached_m is None else ruling.reached_m
    return [(x, y), (x + dx * reach, y + dy * reach)]


def _draw_bars(axes: Axes, rulings: Sequence[Ruling], accounts: Sequence[str], teams: Mapping[str, str]) -> None:
    """Counts of each account's claims by outcome, side by side."""
    counts: Counter[tuple[str, str]] = Counter((r.account, counted_as(r)) for r in rulings)
    places = np.arange(len(accounts))
    for k, (outcome, colour) in enumerate(OUTCOMES.items()):
        height = [counts[account, outcome] for account in accounts]
        bars = axes.bar(places + 0.27 * (k - 1), height, 0.25, color=colour)
        axes.bar_label(bars, [str(one) if one else "" for one in height], fontsize=8.5, color=INK)
    axes.set_xticks(places, accounts)
    for label, account in zip(axes.get_xticklabels(), accounts, strict=True):
        label.set_color(TEAMS.get(teams[account], INK))
    axes.margins(x=0.02, y=0.15)
    dress(axes, "claims that fired, by account and outcome", "", "claims")
    axes.tick_params(axis="x", labelsize=9.5)


def _legend(figure: Figure, level: Level, teams: Sequence[str]) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = [Line2D([], [], color=TEAMS.get(team, "#777777"), label=f"path, {team}") for team in teams]
    handles += [
        Line2D([], [], color=OUTCOMES["accepted"], marker="o", ms=5, label="accepted, hit"),
        Line2D([], [], color=OUTCOMES["accepted"], alpha=0.35, lw=0.8, label="accepted, hit nobody"),
        Line2D([], [], color=OUTCOMES["adjusted"], marker="o", ms=5, label="adjusted"),
        Line2D([], [], color=OUTCOMES["rejected"], ls=(0, (2, 2)), label="rejected (first 3 m)"),
    ]
    used = {level.surfaces[kind].name for kind in level.kinds} - {"ground"}
    handles += [Patch(fc=pale(name), label=name) for name in SURFACES if name in used]
    figure.legend(
        handles=handles, loc="upper left", bbox_to_anchor=(0.036, 0.935), ncol=11, frameon=False, fontsize=8.5,
        labelcolor=INK, handlelength=1.4, columnspacing=1.2,
    )  # fmt: skip
