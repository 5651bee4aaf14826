"""Costs of a rewind limit for shooters and its gain for victims, so that a designer can choose one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.plain import Fields
from tinclock.report.style import INK, PAPER, STRUCK, dress, legend, new_figure, save

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from matplotlib.axes import Axes

LINES = {"wired": "#2d7d5a", "home_wireless": "#1f5f8b", "mobile": "#b4622a", "distant": "#8a2f6b", "awful": "#7a7f82"}


def draw_fairness(path: Path, rows: Sequence[Fields], rewind_limit_s: float, name: str) -> Path:
    """Draw both sides against max_rewind_s. rows : of `tinclock fairness --sweep`; rewind_limit_s : as recorded"""
    figure = new_figure("draw_fairness")
    figure.text(0.06, 0.945, f"{name}: cost of max_rewind by side", fontsize=15, color=INK, weight="bold")
    told = "Left: honest shots that were hits on their shooter's own screen. "
    told += "Right: hits that came when the victim, on its own screen, was in cover."
    figure.text(0.06, 0.905, told, fontsize=10.5, color=INK)
    grid = figure.add_gridspec(1, 2, left=0.06, right=0.94, top=0.84, bottom=0.2, wspace=0.16)
    shooters, victims = figure.add_subplot(grid[0, 0]), figure.add_subplot(grid[0, 1])
    at = [1000.0 * row["max_rewind_s"] for row in rows]
    _shooters(shooters, at, rows)
    _victims(victims, at, rows)
    for axes in (shooters, victims):
        axes.axvline(1000.0 * rewind_limit_s, color=INK, lw=0.8, ls=(0, (3, 3)))
        axes.set_ylim(bottom=0.0)
    below = "max_rewind, ms (dashed: as recorded)"
    dress(shooters, "honest hits on screen that hit the same player", below, "percent")
    dress(victims, "how long after reaching cover victims are hit", below, "ms")
    return save(figure, path)


def _shooters(axes: Axes, at: list[float], rows: Sequence[Fields]) -> None:
    names = sorted({name for row in rows for name in row["shooters"]} - {"all"}, key=list(LINES).index)
    for name in names:
        shares = [row["shooters"].get(name, {}).get("fraction_counted") for row in rows]
        hits = max(row["shooters"].get(name, {}).get("hits", 0) for row in rows)
        label = f"{name.replace('_', ' ')} ({hits} hits)"
        axes.plot(at, _percent(shares), "o-", color=LINES[name], ms=3.5, lw=1.2, label=label)
    for key, style, label in (
        ("fraction_counted", "-", "all"),
        ("fraction_accepted", ":", "all, accepted just as claimed"),
    ):
        whole = [row["shooters"].get("all", {}).get(key) for row in rows]
        axes.plot(at, _percent(whole), style, color=INK, lw=2.4, label=label)
    axes.set_ylim(0.0, 103.0)
    legend(axes, 3, below=True)


def _percent(shares: Sequence[float | None]) -> list[float]:
    return [float("nan") if share is None else 100.0 * share for share in shares]


def _victims(axes: Axes, at: list[float], rows: Sequence[Fields]) -> None:
    looks = (("median_s", "median", ":"), ("p95_s", "95th percentile", "-"), ("worst_s", "worst", (0, (4, 2))))
    for key, label, style in looks:
        values = [row["victims"]["all"][key] for row in rows]
        seconds = [float("nan") if value is None else 1000.0 * value for value in values]
        axes.plot(at, seconds, "o", ls=style, color=STRUCK, ms=3.5, lw=1.4, label=label)
    share = [_after(row["victims"]["all"]) for row in rows]
    beside = axes.twinx()
    beside.bar(at, share, width=0.35 * (at[1] - at[0] if len(at) > 1 else 10.0), color="#cdd5da", zorder=0)
    beside.set_facecolor(PAPER)
    beside.set_ylim(0.0, max(20.0, 3.0 * max(share, default=0.0)))
    beside.set_ylabel("bars: percent of hits that came after cover", fontsize=9, color=INK)
    beside.tick_params(labelsize=8, colors=INK)
    beside.spines["top"].set_visible(False)
    axes.set_zorder(beside.get_zorder() + 1)
    axes.patch.set_visible(False)
    legend(axes, 3, below=True)


def _after(row: Fields) -> float:
    return 100.0 * row["after_cover"] / row["hits"] if row["hits"] else 0.0
