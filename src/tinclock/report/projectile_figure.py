"""A projectile of a recording: its whole flight from the side and from above, and who stood where at its end."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.combat.events import EndEvent, LaunchEvent
from tinclock.core.combat.projectile_motion import ProjectilePath
from tinclock.core.timeline.views import View
from tinclock.report.outlines import draw_boxes, draw_plan, draw_section
from tinclock.report.style import INK, NOW, RAY, REWOUND, STRUCK, dress, new_figure, save, title_ruling

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence
    from pathlib import Path

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from tinclock.core.analysis.shot_scene import HistorySlice
    from tinclock.core.combat.events import Event
    from tinclock.core.ruling.records import Ruling

NEAR_PLANE_M = 2.0
"""Bodies further from the plane of the flight are left out of the view from the side."""
ABOVE = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])


class Flown(NamedTuple):
    """One projectile: its launch and its end."""

    launch: LaunchEvent
    end: EndEvent


def flights_of(events: Iterable[Event], ruling: Ruling) -> list[Flown]:
    """The projectiles that a launch, or a flight's ruling, is about, as far as they had ended."""
    launches: dict[int, LaunchEvent] = {}
    out = []
    for event in events:
        if event.entity != ruling.entity:
            continue
        if isinstance(event, LaunchEvent) and event.sequence == ruling.sequence:
            launches[event.projectile] = event
        elif isinstance(event, EndEvent) and event.projectile in launches:
            out.append(Flown(launches[event.projectile], event))
    return out


def draw_flown(
    path: Path, past: HistorySlice, ruling: Ruling, flights: Sequence[Flown], names: Mapping[int, str]
) -> Path:  # fmt: skip
    """Draw what a claim let fly, as a PNG. past : the poses around the ruling."""
    figure = new_figure("draw_flown")
    grid = figure.add_gridspec(2, 1, left=0.055, right=0.985, top=0.82, bottom=0.075, hspace=0.3)
    beside, above = figure.add_subplot(grid[0]), figure.add_subplot(grid[1])
    lines = [_line(one, past) for one in flights]
    start = np.array(flights[0].launch.position)
    way = lines[0][-1] - start
    ahead = np.array([way[0], way[1], 0.0])
    ahead = ahead / np.linalg.norm(ahead) if np.linalg.norm(ahead) > 1e-6 else np.array([1.0, 0.0, 0.0])
    side, base = np.array([ahead, [0.0, 0.0, 1.0]]), np.array([start[0], start[1], 0.0])
    if past.level is not None:
        draw_section(beside, past.level, base + 0.5, (-ahead[1], ahead[0], 0.0), side, base)
        draw_plan(above, past.level)
    across = np.array([-ahead[1], ahead[0], 0.0])
    _bodies(beside, past, ruling, flights, side, base, lambda place: abs(float((place - base) @ across)) < NEAR_PLANE_M)
    _bodies(above, past, ruling, flights, ABOVE, np.zeros(3), lambda _place: True)
    for one, line in zip(flights, lines, strict=True):
        for axes, flat in ((beside, (line - base) @ side.T), (above, line[:, :2])):
            axes.plot(flat[:, 0], flat[:, 1], color=RAY, lw=1.3)
            hit = bool(one.end.victim)
            axes.plot(*flat[-1], "o" if hit else "x", color=STRUCK if hit else INK, ms=6, zorder=5)
    spots = np.concatenate(lines)
    reach = (spots - base) @ ahead
    _frame(figure, beside, (min(-1.5, float(reach.min()) - 1.5), float(reach.max()) + 3.0),
           (-0.3, max(2.6, float(spots[:, 2].max()) + 0.6)))  # fmt: skip
    low, high = spots[:, :2].min(axis=0) - 2.5, spots[:, :2].max(axis=0) + 2.5
    _frame(figure, above, (low[0], high[0]), (low[1], high[1]))
    dress(beside, "from the side, along the flight", "metres from the launch", "metres above the ground")
    dress(above, "from above", "metres east", "metres north")
    _head(figure, ruling, flights, names)
    return save(figure, path)


def _frame(figure: Figure, axes: Axes, x: tuple[float, float], y: tuple[float, float]) -> None:
    """Show at least so much, and fill the axes with the same scale both ways."""
    box = axes.get_position()
    shape = box.width * figure.get_figwidth() / (box.height * figure.get_figheight())
    wide, high = x[1] - x[0], y[1] - y[0]
    spare_x, spare_y = max(0.0, shape * high - wide), max(0.0, wide / shape - high)
    axes.set_xlim(x[0] - 0.5 * spare_x, x[1] + 0.5 * spare_x)
    axes.set_ylim(y[0] - (0.5 * spare_y if y[0] < -1.0 else 0.0), y[1] + (0.5 if y[0] < -1.0 else 1.0) * spare_y)
    axes.set_aspect("equal")


def _line(one: Flown, past: HistorySlice) -> Any:
    """(n, 3): where it flew."""
    launch, end = one.launch, one.end
    flight = ProjectilePath(launch.motion, launch.server_time, launch.position, launch.velocity, level=past.level)
    line = flight.path(np.linspace(launch.server_time, end.server_time, 200))
    return np.vstack([line[:-1], np.array(end.position)])


def _bodies(
    axes: Axes, past: HistorySlice, ruling: Ruling, flights: Sequence[Flown], basis: Any, origin: Any,
    near: Callable[[Any], bool],
) -> None:  # fmt: skip
    newest = View(past.history.newest_tick, past.history.newest_tick, 0.0)
    hurt = {one.end.victim: one.end.part for one in flights if one.end.victim}
    hurt |= {hit.victim: hit.part for hit in ruling.hits}
    for entity in past.history.present(newest):
        boxes = past.history.hitboxes_at(entity, newest)
        if boxes is None or not near(boxes.centres[0]):
            continue
        colour = REWOUND if entity in hurt else "#dfe3e4" if entity == ruling.entity else NOW
        draw_boxes(axes, boxes, basis, origin, colour, hurt.get(entity, ""))


def _head(figure: Figure, ruling: Ruling, flights: Sequence[Flown], names: Mapping[int, str]) -> None:
    who = names.get(ruling.entity, f"entity {ruling.entity}")
    flown = max(one.end.server_time - one.launch.server_time for one in flights)
    ends = []
    for one in flights:
        met = names.get(one.end.victim, f"entity {one.end.victim}") if one.end.victim else one.end.surface
        ends.append(f"{one.end.cause}{f' {met}' if met else ''}{f', {one.end.part}' if one.end.part else ''}")
    counted = [f"{ends.count(end)} x {end}" if ends.count(end) > 1 else end for end in dict.fromkeys(ends)]
    told = f"{who} let {len(flights)} fly from the {ruling.weapon.replace('_', ' ')}, for {flown:.2f} s"
    title_ruling(figure, ruling.number, ruling.outcome, told)
    figure.text(
        0.055,
        0.905,
        ("ended: " + "; ".join(counted)).replace("_", " ").replace("body ", "at ")[:150],
        fontsize=10.5,
        color=INK,
    )
    how = "Blue: the flight; red dots: where it met a body; yellow: its victim, where it stood as this was ruled."
    figure.text(0.055, 0.875, how, fontsize=9, color=INK)
