"""Figure of detection: fractions found by cheat and strength, times, ROC, precision, recall, peaks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.plain import Fields
from tinclock.report.style import FAINT, INK, OUTCOMES, RAY, STRUCK, TEAMS, dress, legend, new_figure, save, title

if TYPE_CHECKING:
    from pathlib import Path

    from matplotlib.axes import Axes
    from numpy.typing import NDArray


def draw_detection(path: Path, report: Fields, heights: tuple[NDArray[np.float64], NDArray[np.float64]]) -> Path:
    """Draw what `tinclock detection` reports into a PNG. heights : peak decibans of honest and of cheating accounts."""
    figure = new_figure("draw_detection")
    title(
        figure, 0.955, ("What is found of each cheat", {"fontsize": 15, "color": INK, "weight": "bold"}),
        (f"{len(heights[1])} cheating and {len(heights[0])} honest accounts", {"fontsize": 11, "color": INK}),
    )  # fmt: skip
    _shares(figure.add_axes((0.165, 0.07, 0.40, 0.83)), report["rows"])
    _roc(figure.add_axes((0.65, 0.63, 0.32, 0.27)), report["curves"])
    _precision(figure.add_axes((0.65, 0.345, 0.32, 0.20)), report["curves"])
    _peaks(figure.add_axes((0.65, 0.07, 0.32, 0.19)), heights, report["limit_decibans"])
    return save(figure, path)


def _shares(axes: Axes, rows: list[Fields]) -> None:
    kinds = sorted({row["kind"] for row in rows}, reverse=True)
    cheats = sorted({row["strength"] for row in rows})
    place = {kind: k for k, kind in enumerate(kinds)}
    for row in rows:
        x0, y = cheats.index(row["strength"]) * 5, place[row["kind"]]
        for k, share in enumerate(row["found"]):
            axes.add_patch(_cell(x0 + k, y, share))
            if 0.0 < share < 1.0:
                axes.text(x0 + k + 0.5, y + 0.5, f"{100 * share:.0f}", ha="center", va="center", fontsize=8, color=INK)
    axes.set_xlim(0, 5 * len(cheats) - 1)
    axes.set_ylim(0, len(kinds))
    dress(axes, "percent with a case after 1, 3, 5, 10 minutes", "", "")
    axes.set_yticks(np.arange(len(kinds)) + 0.5, [kind.replace("_", " ") for kind in kinds])
    axes.set_xticks([5 * k + 2 for k in range(len(cheats))], [f"strength {strength:g}" for strength in cheats])
    axes.tick_params(length=0)
    for side in ("left", "bottom"):
        axes.spines[side].set_visible(False)


def _cell(x: float, y: float, share: float) -> Any:
    from matplotlib.colors import to_rgb
    from matplotlib.patches import Rectangle

    low, high = np.array(to_rgb("#dfe4e7")), np.array(to_rgb(OUTCOMES["accepted"]))
    return Rectangle((x + 0.04, y + 0.08), 0.92, 0.84, color=tuple(low + share * (high - low)))


def _roc(axes: Axes, told: Fields) -> None:
    axes.step(np.maximum(told["false"], 1e-4), told["found"], where="post", color=STRUCK, linewidth=2)
    axes.set_xscale("symlog", linthresh=0.005)
    axes.set_xlim(0, 1)
    axes.set_ylim(0, 1.02)
    dress(axes, f"ROC: area {told['roc_area']:.3f}", "share of honest accounts above the line", "of cheating ones")


def _precision(axes: Axes, told: Fields) -> None:
    axes.step(told["found"], told["precision"], where="post", color=RAY, linewidth=2)
    axes.set_xlim(0, 1)
    axes.set_ylim(0, 1.03)
    dress(
        axes, f"precision and recall: area {told['pr_area']:.3f}", "share of cheating accounts found", "right of those"
    )


def _peaks(axes: Axes, heights: tuple[NDArray[np.float64], NDArray[np.float64]], limit: float) -> None:
    edges = np.linspace(-5.0, 80.0, 35)
    for values, colour, name in ((heights[0], TEAMS["pewter"], "honest"), (heights[1], TEAMS["copper"], "cheating")):
        clipped = np.clip(values, edges[0], edges[-1] - 1e-6)
        axes.hist(
            clipped,
            edges.tolist(),
            color=colour,
            alpha=0.65,
            label=name,
            calibration=np.full(len(values), 1.0 / max(len(values), 1)),
        )
    axes.axvline(limit, color=INK, linestyle="--", linewidth=1)
    axes.text(limit + 1, axes.get_ylim()[1] * 0.86, "a case opens", fontsize=8, color=INK)
    legend(axes, 2)
    axes.axvline(0, color=FAINT, linewidth=0.5)
    dress(axes, "the most decibans in one match", "decibans; the last bar is 80 and more", "share")
