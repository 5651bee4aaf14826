"""Scene of one ruling: everything that a picture or a page needs to show it, taken while it is held."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.analysis.nearness import FARTHEST_M, bodies_at, closest_part, min_gap, nearest_miss
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.claims import ShotClaim
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.vectors import Triple

UNUSABLE = frozenset({"unknown_connection", "malformed", "direction_not_unit", "repeated_sequence"})
"""After one of these a claim holds nothing that could be drawn."""


NEAR_PATH_M, MAX_CROSSINGS, BEYOND_M = 3.0, 12, 1e-4


class HistorySlice(NamedTuple):
    """The poses around a ruling, and what it was ruled by: of a referee, or read back from a recording."""

    history: PoseHistory
    rules: Rules
    level: Level | None


class Glimpse(NamedTuple):
    """The target at one view: how long before the ruling, its hitboxes, and what the shot would have hit there.

    clearance_m : how far the ray passes from the nearest hitbox; 0 or less when it meets one
    """

    age_s: float
    boxes: Hitboxes | None
    part: str
    clearance_m: float


class ShotScene(NamedTuple):
    """A ruled shot and the bodies around it.

    target : the entity that was hit, or else the one closest to the ray, 0 for nobody
    now, rewound : its hitboxes in the newest tick and at the ruled view, None where it is absent
    shooter : the shooter's hitboxes in the newest tick
    clearance_m : how far the ray's line passes from the target's nearest hitbox surface at the view; negative inside
    wall_m : distance to the first surface of the level along the ray, inf for none
    glimpses : the target at five instants, the third of them the ruled view
    claimed : the target at the view that was claimed, where another one was ruled
    others : who else stood near the path, at the ruled view
    crossings : the surfaces on the way: how far along, and which
    """

    ruling: Ruling
    origin: Triple
    direction: Triple
    range_m: float
    target: int
    now: Hitboxes | None
    rewound: Hitboxes | None
    shooter: Hitboxes | None
    clearance_m: float
    wall_m: float
    wall_surface: str
    level: Level | None
    glimpses: tuple[Glimpse, ...] = ()
    claimed: Hitboxes | None = None
    others: tuple[Hitboxes, ...] = ()
    crossings: tuple[tuple[float, str], ...] = ()

    @property
    def moved_m(self) -> float:
        """Return how far the target's first hitbox has moved since the view; nan when it is absent in either."""
        if self.now is None or self.rewound is None:
            return float("nan")
        return float(np.linalg.norm(self.now.centres[0] - self.rewound.centres[0]))


def shot_scene_of(past: HistorySlice, ruling: Ruling, claim: ShotClaim | None) -> ShotScene | None:
    """The surroundings of a ruling on `claim`, to be taken before the history moves on; None when nothing can be shown.

    A claim that was rejected before its view was worked out is shown at the view it claimed, where that is still held.
    """
    history = past.history
    if any(finding.code in UNUSABLE for finding in ruling.findings):
        return None
    view = ruling.view or (claim.view if claim is not None else None)
    if view is None or not (history.holds(view.from_tick) and history.holds(view.to_tick)):
        return None
    weapon, origin, direction = past.rules.weapons.get(ruling.weapon), ruling.origin, ruling.direction
    if weapon is None or origin is None or direction is None:
        return None
    target, gap = _target(past, ruling, view, np.array(origin), np.array(direction))
    wall = None if past.level is None else past.level.first(origin, direction, weapon.range_m)
    latest = View(history.newest_tick, history.newest_tick, 0.0)
    return ShotScene(
        ruling,
        origin,
        direction,
        weapon.range_m,
        target,
        history.hitboxes_at(target, latest) if target else None,
        history.hitboxes_at(target, view) if target else None,
        history.hitboxes_at(ruling.entity, latest),
        gap,
        float("inf") if wall is None else wall.distance_m,
        "" if wall is None else wall.surface.name,
        past.level,
        _glimpses(past, ruling, view, target, origin, direction) if target else (),
        _claimed(past, ruling, claim, target),
        _others(past, view, (ruling.entity, target), np.array(origin), np.array(direction), weapon.range_m),
        _crossings(past.level, np.array(origin), np.array(direction), ruling.reached_m or weapon.range_m),
    )


def _claimed(past: HistorySlice, ruling: Ruling, claim: ShotClaim | None, target: int) -> Hitboxes | None:
    seen = None if claim is None else claim.view
    if not target or seen is None or ruling.view is None or seen == ruling.view:
        return None
    held = past.history.holds(seen.from_tick) and past.history.holds(seen.to_tick)
    return past.history.hitboxes_at(target, seen) if held else None


def _others(
    past: HistorySlice, view: View, known: tuple[int, int], origin: NDArray[np.float64], direction: NDArray[np.float64],
    range_m: float,
) -> tuple[Hitboxes, ...]:  # fmt: skip
    out = []
    for entity in past.history.present(view):
        boxes = None if entity in known else past.history.hitboxes_at(entity, view)
        if boxes is None or not -1.0 < float((boxes.centres[0] - origin) @ direction) < range_m:
            continue
        if min_gap(boxes, origin, direction) < NEAR_PATH_M and _gap(boxes, origin, direction) < NEAR_PATH_M:
            out.append(boxes)
    return tuple(out)


def _crossings(
    level: Level | None, origin: NDArray[np.float64], direction: NDArray[np.float64], until_m: float
) -> tuple[tuple[float, str], ...]:
    """Every surface that the ray goes in at, up to where it ended."""
    out: list[tuple[float, str]] = []
    at = 0.0
    while level is not None and len(out) < MAX_CROSSINGS:
        x, y, z = (origin + at * direction).tolist()
        hit = level.first((x, y, z), tuple(direction.tolist()), until_m - at + BEYOND_M)
        if hit is None:
            break
        at += hit.distance_m
        if hit.facing < 0.0:
            out.append((at, hit.surface.name))
        at += BEYOND_M
        if at > until_m:
            break
    return tuple(out)


def _glimpses(
    past: HistorySlice, ruling: Ruling, view: View, target: int, origin: Triple, direction: Triple
) -> tuple[Glimpse, ...]:
    """The target half as old as the ruled view and twice as far, evenly; the ruled view itself is the third."""
    history, ruled_at = past.history, past.history.time_of(view)
    age = history.newest_time - ruled_at
    out = []
    for share in (0.0, 0.5, 1.0, 1.5, 2.0):
        at = history.newest_time - share * age
        if at < history.first_snapshot_time:
            continue
        here = view if share == 1.0 else history.view_at(at)
        boxes = history.hitboxes_at(target, here)
        hit = history.nearest(origin, direction, here, ignore=ruling.entity)
        gap = float("inf") if boxes is None else _gap(boxes, np.array(origin), np.array(direction))
        part = hit.part.name if hit is not None and hit.entity == target else ""
        out.append(Glimpse(ruling.received_at - history.time_of(here), boxes, part, gap))
    return tuple(out)


def _target(
    past: HistorySlice, ruling: Ruling, view: View, origin: NDArray[np.float64], direction: NDArray[np.float64]
) -> tuple[int, float]:
    if ruling.hits:
        boxes = past.history.hitboxes_at(ruling.hits[0].victim, view)
        return (0, float("inf")) if boxes is None else (boxes.entity, _gap(boxes, origin, direction))
    bodies = bodies_at(past.history, ruling.entity, view)
    near = nearest_miss(bodies, _triple(origin), _triple(direction), 0.0, FARTHEST_M)
    return (0, float("inf")) if near is None else (near.entity, near.gap_m)


def _triple(point: NDArray[np.float64]) -> Triple:
    x, y, z = point.tolist()
    return x, y, z


def _gap(boxes: Hitboxes, origin: NDArray[np.float64], direction: NDArray[np.float64]) -> float:
    return closest_part(boxes, origin, direction, FARTHEST_M).gap_m
