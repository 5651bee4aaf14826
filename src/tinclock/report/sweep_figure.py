"""One setting swept over a recording: what became of its claims."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.plain import Fields
from tinclock.report.style import INK, OUTCOMES, RAY, dress, legend, new_figure, save

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path


def draw_sweep(path: Path, setting: str, recorded: object, rows: Sequence[Fields], name: str) -> Path:
    """Outcomes, damage and flipped rulings against the values of a setting, as a PNG. rows : of `tinclock replay`."""
    figure = new_figure("draw_sweep")
    figure.text(0.055, 0.945, f"{name}: {setting}", fontsize=15, color=INK, weight="bold")
    figure.text(0.055, 0.905, "Everything was ruled again at each value; players act as they did.", fontsize=10.5)
    grid = figure.add_gridspec(1, 3, left=0.06, right=0.985, top=0.84, bottom=0.09, wspace=0.22)
    values = [row["value"] for row in rows]
    share, dealt, flips = (figure.add_subplot(cell) for cell in grid)
    whole = [max(1, row["accepted"] + row["adjusted"] + row["rejected"]) for row in rows]
    for outcome in ("adjusted", "rejected"):
        parts = [100.0 * row[outcome] / total for row, total in zip(rows, whole, strict=True)]
        share.plot(values, parts, "o-", color=OUTCOMES[outcome], label=outcome, ms=4)
    legend(share, 2)
    dealt.plot(values, [row["damage"] for row in rows], "o-", color=RAY, ms=4)
    flips.plot(values, [row["flipped"] for row in rows], "o-", color=INK, ms=4)
    dress(share, "not accepted", setting, "percent of all rulings")
    dress(dealt, "damage dealt", setting, "points")
    dress(flips, "rulings that differ from the recorded ones", setting, "rulings")
    for axes in (share, dealt, flips):
        axes.set_ylim(bottom=0.0)
        if isinstance(recorded, (int, float)) and min(values) <= recorded <= max(values):
            axes.axvline(recorded, color=INK, lw=0.8, ls=(0, (3, 3)))
            axes.text(  # above the frame, where no curve goes
                recorded, 1.005, "as recorded", fontsize=8, color=INK, ha="center",
                transform=axes.get_xaxis_transform(),
            )  # fmt: skip
    return save(figure, path)
