"""Colours and figure set-up: cool tin greys for paper and ink, copper and pewter for the teams, one accent."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.errors import MissingExtraError
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from pathlib import Path

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

PAPER, INK, FAINT = "#eef1f3", "#22282e", "#8d979d"
TEAMS = {"copper": "#b4622a", "pewter": "#4f6a7d"}
OUTCOMES = {"accepted": "#2d7d5a", "adjusted": "#c98a12", "rejected": "#8a2f6b"}
NOW, REWOUND, STRUCK, RAY = "#b4bdc3", "#e3bd62", "#c0262d", "#1f5f8b"
SURFACES = {
    "brick": "#a5644e", "hedge": "#5d8a4a", "wood": "#8b6b45", "glass": "#8fc3d6", "soil": "#6e5a48",
    "ground": "#d5d9d8",
}  # fmt: skip
WIDTH_IN, HEIGHT_IN, DPI = 12.8, 8.0, 100


def surface_colour(name: str) -> str:
    """The colour of a surface kind; grey for kinds that the palette doesn't know."""
    return SURFACES.get(name, "#8d8d86")


def pale(surface: str, share: float = 0.55) -> tuple[float, ...]:
    """A surface's colour, mixed with paper so that what happens on it stands out."""
    from matplotlib.colors import to_rgb

    return tuple(
        share * a + (1 - share) * b for a, b in zip(to_rgb(surface_colour(surface)), to_rgb(PAPER), strict=True)
    )


def new_figure(caller: str) -> Any:
    """An empty 1280x800 matplotlib figure that needs no screen. Raises `MissingExtraError` without matplotlib."""
    try:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
    except ImportError:
        raise MissingExtraError(caller, "matplotlib", "figures") from None
    figure = Figure(figsize=(WIDTH_IN, HEIGHT_IN), dpi=DPI, facecolor=PAPER)
    FigureCanvasAgg(figure)
    return figure


def dress(axes: Axes, title: str, x: str, y: str) -> None:
    """Title, axis names and quiet lines."""
    axes.set_facecolor(PAPER)
    axes.set_title(title, loc="left", fontsize=11, color=INK)
    axes.set_xlabel(x, fontsize=9, color=INK)
    axes.set_ylabel(y, fontsize=9, color=INK)
    axes.tick_params(labelsize=8, colors=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def legend(axes: Axes, columns: int, below: bool = False) -> None:
    """Draw the legend, beside the data and never over them: above the axes at the right, or below them.

    columns : entries in a row
    """
    place = {"loc": "upper left", "bbox_to_anchor": (0.0, -0.12)}
    if not below:
        place = {"loc": "lower right", "bbox_to_anchor": (1.0, 1.0)}
    axes.legend(ncols=columns, frameon=False, fontsize=9, labelcolor=INK, borderaxespad=0.2, columnspacing=1.2, **place)


def title(figure: Figure, y: float, *pieces: tuple[str, Fields]) -> None:
    """A line of text in pieces of different looks, one after another."""
    x = 0.055
    for text, look in pieces:
        drawn = figure.text(x, y, text, **look)
        box = drawn.get_window_extent()
        x = box.x1 / figure.bbox.width + 0.008


def title_ruling(figure: Figure, number: int, outcome: str, told: str) -> None:
    """The first line of a ruling's picture: which, what came of it, what happened."""
    title(
        figure, 0.95,
        (f"Ruling {number}:", {"fontsize": 15, "color": INK, "weight": "bold"}),
        (outcome, {"fontsize": 15, "color": OUTCOMES[outcome], "weight": "bold"}),
        (told, {"fontsize": 13, "color": INK}),
    )  # fmt: skip


def save(figure: Figure, path: Path) -> Path:
    """Write a PNG, the same bytes for the same figure."""
    figure.savefig(path, metadata={"Software": None}, facecolor=PAPER)
    return path
