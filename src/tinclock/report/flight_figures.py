"""Pictures of what flies: an arc with its bounces and its burst, one dodge under three compensations, a fast dart."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.report.outlines import draw_boxes, draw_plan, draw_section
from tinclock.report.style import FAINT, INK, NOW, PAPER, RAY, REWOUND, STRUCK, dress, new_figure, save

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from matplotlib.axes import Axes

    from tinclock.garden.flights import ThrowScene

TICK_HZ = 64.0
ABOVE = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
SAYS = {
    "none": (
        "none: in the present",
        "Starts as the claim arrives, meets\nthe runner where it is. The shooter\nmust lead by its whole delay.",
    ),
    "catch_up": (
        "launch: from the view on",
        "Starts where the screen was, so it\ncomes earlier: the runner is met on\nits way, before or after its turn.",
    ),
    "blend": (
        "fading: view to present",
        "Close by the shooter's screen counts,\nfar away the victim's; here the runner\nis met {back:.0f} ms back.",
    ),
}


def draw_mortar(scene: ThrowScene, path: Path) -> Path:
    """A lobbed flight from the side and from above, with its bounces, its burst and its victims, as a PNG."""
    figure = new_figure("draw_mortar")
    grid = figure.add_gridspec(
        2, 2, width_ratios=(1.45, 1.0), left=0.055, right=0.985, top=0.85, bottom=0.07, hspace=0.32, wspace=0.12
    )
    start, end = scene.path[0], scene.path[-1]
    flat = np.array([end[0] - start[0], end[1] - start[1], 0.0])
    ahead = flat / np.linalg.norm(flat)
    side, base = np.array([ahead, [0.0, 0.0, 1.0]]), np.array([start[0], start[1], 0.0])
    beside, above, close = (figure.add_subplot(cell) for cell in (grid[0, :], grid[1, 0], grid[1, 1]))
    radius_m = scene.table.splash.radius_m if scene.table.splash is not None else 0.0
    _bodies(beside, scene, side, base)
    if scene.level is not None:
        draw_section(beside, scene.level, base + 0.5, (-ahead[1], ahead[0], 0.0), side, base)
    _arc(beside, (scene.path - base) @ side.T, [(np.array(b) - base) @ side.T for b in scene.bounces])
    _burst(beside, (end - base) @ side.T, radius_m)
    for axes in (above, close):
        if scene.level is not None:
            draw_plan(axes, scene.level)
        _bodies(axes, scene, ABOVE, np.zeros(3))
        _arc(axes, scene.path[:, :2], [np.array(b)[:2] for b in scene.bounces])
        _burst(axes, end[:2], radius_m)
    for hit in scene.hits:
        place = np.array(hit.position)[:2]
        close.annotate(
            f"{hit.damage:.0f} points at {hit.distance_m:.1f} m", place, (12, 12), textcoords="offset points",
            fontsize=9, color=INK, bbox={"fc": PAPER, "ec": "none", "alpha": 0.8, "pad": 1.5},
        )  # fmt: skip
    _frame(
        beside, (-1.5, float(((scene.path - base) @ side.T)[:, 0].max()) + 4.5), (-0.4, scene.path[:, 2].max() + 0.7)
    )
    _frame(above, (start[0] - 1.5, end[0] + 6.5), (min(start[1], end[1]) - 3.5, max(start[1], end[1]) + 4.5))
    _frame(close, (end[0] - 5.2, end[0] + 5.2), (end[1] - 4.3, end[1] + 4.3))
    dress(beside, "from the side, along the flight", "metres from the launch", "metres above the ground")
    dress(above, "from above", "metres east", "metres north")
    dress(close, "around the burst", "metres east", "")
    flown = scene.end.server_time - scene.launch.server_time
    title = f"A clod: {flown:.2f} s, {len(scene.bounces)} bounces, then its fuse"
    figure.text(0.055, 0.945, title, fontsize=15, color=INK, weight="bold")
    told = "Dashed: the radius of the burst; red: the part of each body nearest to it. What the hedge hides is spared."
    figure.text(0.055, 0.905, told, fontsize=10.5, color=INK)
    return save(figure, path)


def _bodies(axes: Axes, scene: ThrowScene, basis: Any, origin: Any) -> None:
    hurt = {hit.victim: hit.part for hit in scene.hits}
    for entity, boxes in scene.bodies.items():
        draw_boxes(axes, boxes, basis, origin, REWOUND if entity in hurt else NOW, hurt.get(entity, ""))


def _burst(axes: Axes, middle: Any, radius_m: float) -> None:
    turn = np.linspace(0.0, 2.0 * np.pi, 90)
    axes.plot(
        middle[0] + radius_m * np.cos(turn), middle[1] + radius_m * np.sin(turn), color=STRUCK, lw=0.9, ls=(0, (3, 3))
    )
    axes.plot(*middle, "*", color=STRUCK, ms=13, mec="white", mew=0.8)


def _frame(axes: Axes, x: tuple[float, float], y: tuple[float, float]) -> None:
    axes.set_xlim(*x)
    axes.set_ylim(*y)
    axes.set_aspect("equal", adjustable="box", anchor="W")


def _arc(axes: Axes, line: Any, bounces: Sequence[Any]) -> None:
    axes.plot(line[:, 0], line[:, 1], color=RAY, lw=1.6)
    axes.plot(*line[0], "o", color=RAY, ms=5)
    for bounce in bounces:
        axes.plot(*bounce, "v", color=INK, ms=6, mec="white", mew=0.6)


def draw_compensations(scenes: Sequence[ThrowScene], path: Path) -> Path:
    """The same throw at the same dodge, a row a compensation, from above, as a PNG."""
    figure = new_figure("draw_compensations")
    figure.text(0.035, 0.95, "One throw, one dodge, three compensations", fontsize=15, color=INK, weight="bold")
    age = 1000.0 * (scenes[0].ruling.rewound_s or 0.0)
    told = f"Thrown at what the screen shows (dashed), {age:.0f} ms ago; "
    told += "the runner goes north, and turns as the claim arrives."
    figure.text(0.035, 0.91, told, fontsize=10.5, color=INK)
    grid = figure.add_gridspec(
        len(scenes),
        2,
        width_ratios=(0.4, 1.0),
        left=0.035,
        right=0.985,
        top=0.86,
        bottom=0.07,
        hspace=0.22,
        wspace=0.06,
    )
    for place, scene in enumerate(scenes):
        words, axes = figure.add_subplot(grid[place, 0]), figure.add_subplot(grid[place, 1])
        words.axis("off")
        title, said = SAYS[scene.name]
        words.text(0.0, 0.94, title, fontsize=12.5, color=INK, weight="bold", va="top")
        met = f"hits the {scene.hits[0].part}" if scene.hits else "misses"
        words.text(0.0, 0.78, met, fontsize=12, color=STRUCK if scene.hits else FAINT, weight="bold", va="top")
        crossing = _when_nearest(scene)
        back = 1000.0 * (crossing - _met(scene, crossing))
        words.text(0.0, 0.6, said.format(back=back), fontsize=10, color=INK, va="top", linespacing=1.5)
        _dodge(axes, scene)
        dress(axes, "", "metres east" if place == len(scenes) - 1 else "", "metres north")
    return save(figure, path)


def _dodge(axes: Axes, scene: ThrowScene) -> None:
    crossing, (shooter, runner) = _when_nearest(scene), list(scene.bodies)[:2]
    ticks = scene.walked[int((scene.ruling.view_time or 0.0) * TICK_HZ) : int(crossing * TICK_HZ) + 1]
    axes.plot(ticks[:, 0] + 0.5, ticks[:, 1], color=INK, lw=1.0)
    axes.plot(ticks[0, 0] + 0.5, ticks[0, 1], "o", color=INK, ms=4)
    axes.plot(ticks[-1, 0] + 0.5, ticks[-1, 1], "v", color=INK, ms=6)
    draw_boxes(axes, scene.bodies[shooter], ABOVE, np.zeros(3), "#dfe3e4")
    met = _met(scene, crossing)
    marks = [(met, REWOUND, "met here")]
    if abs(met - crossing) > 1e-3:
        marks.insert(0, (crossing, NOW, "is here by then"))
    for at, colour, label in marks:
        x, y = _walked_at(scene, at)
        body = scene.bodies[runner]
        moved = body._replace(centres=body.centres + np.array([x, y, 0.0]) - np.array([*scene.walked[-1], 0.0]))
        draw_boxes(axes, moved, ABOVE, np.zeros(3), colour, alpha=0.9)
        axes.annotate(label, (x + 0.62, y), fontsize=9, color=INK, va="center")
    if scene.seen is not None:
        draw_boxes(axes, scene.seen, ABOVE, np.zeros(3), "none", linewidths=0.8, linestyles="dashed")
    axes.plot(scene.path[:, 0], scene.path[:, 1], color=RAY, lw=1.5)
    if scene.name == "catch_up":
        place, velocity = np.array(scene.launch.position), np.array(scene.launch.velocity)
        gone = place + velocity * (scene.ruling.received_at - scene.launch.server_time)
        axes.plot(gone[0], gone[1], ">", color=RAY, ms=9)
        axes.annotate(
            "appears here for the others", (gone[0], gone[1]), (0, -18), textcoords="offset points", fontsize=9,
            color=INK, ha="center",
        )  # fmt: skip
    axes.set_xlim(-7.5, 2.4)
    axes.set_ylim(-0.75, 1.35)
    axes.set_aspect("equal", adjustable="box", anchor="W")


def _when_nearest(scene: ThrowScene) -> float:
    """Return the time at which the dart's path crosses the runner's line, or ends."""
    if scene.hits:
        return scene.end.server_time
    speed = math.sqrt(sum(v * v for v in scene.launch.velocity))
    return scene.launch.server_time + _away(scene) / speed


def _away(scene: ThrowScene) -> float:
    """Metres from the launch to the line on which the target walks."""
    return float(scene.walked[0, 0] - scene.launch.position[0])


def _met(scene: ThrowScene, at: float) -> float:
    if scene.name != "blend":
        return at
    blend_s = scene.table.projectile.blend_s if scene.table.projectile is not None else 1.0
    age, gone = scene.ruling.rewound_s or 0.0, at - scene.launch.server_time
    return at - age * max(0.0, 1.0 - gone / blend_s)


def _walked_at(scene: ThrowScene, at: float) -> tuple[float, float]:
    place = min(max(at * TICK_HZ, 0.0), len(scene.walked) - 1.001)
    k, share = int(place), place - int(place)
    x, y = (1.0 - share) * scene.walked[k] + share * scene.walked[k + 1]
    return float(x), float(y)


def draw_dart(scene: ThrowScene, path: Path) -> Path:
    """A strip: where the dart is at one tick and at the next, and the body in between, as a PNG."""
    figure = new_figure("draw_dart")
    speed, start = np.array(scene.launch.velocity), np.array(scene.launch.position)
    title = f"A dart at {np.linalg.norm(speed):.0f} m/s and one tick of 1/{TICK_HZ:.0f} s"
    figure.text(0.045, 0.94, title, fontsize=15, color=INK, weight="bold")
    told = "At neither tick does it touch anybody: a test of each tick's place sees nothing. "
    told += f"The sweep meets the {scene.hits[0].part}." if scene.hits else "Nor does the sweep."
    figure.text(0.045, 0.9, told, fontsize=10.5, color=INK)
    grid = figure.add_gridspec(3, 1, left=0.05, right=0.985, top=0.85, bottom=0.07, hspace=0.42)
    first = math.floor(scene.end.server_time * TICK_HZ)
    side = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    between = (scene.end.server_time, "in between: what the sweep meets", True)
    after = ((first + 1) / TICK_HZ, f"tick {first + 1}, as a per-tick test would have it", False)
    panels = ((first / TICK_HZ, f"tick {first}", False), between, after)
    entities = list(scene.bodies)
    for row, (at, title, met) in enumerate(panels):
        axes = figure.add_subplot(grid[row])
        for entity in entities:
            struck = scene.hits[0].part if met and entity == scene.hits[0].victim else ""
            draw_boxes(axes, scene.bodies[entity], side, np.zeros(3), REWOUND if struck else NOW, struck)
        gone = start + speed * (at - scene.launch.server_time)
        axes.plot([start[0], gone[0]], [start[2], gone[2]], color=RAY, lw=1.0, alpha=0.5)
        axes.plot(gone[0], gone[2], ">", color=RAY, ms=9)
        _frame(axes, (-8.0, 6.4), (0.0, 2.0))
        dress(axes, title, "metres east" if row == 2 else "", "metres up")
    return save(figure, path)
