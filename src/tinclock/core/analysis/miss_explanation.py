"""Reasons why a shot or a melee attack hit nobody, from the poses around it, and what would have changed that."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.analysis.nearness import FARTHEST_M, bodies_at, gaps, nearest_miss, nearest_point
from tinclock.core.analysis.nearness import Near as Near
from tinclock.core.findings import FINDINGS
from tinclock.core.text import amount, called

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.analysis.shot_scene import HistorySlice
    from tinclock.core.findings import Finding
    from tinclock.core.rules.weapons import WeaponRules
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.timeline.views import View
    from tinclock.core.vectors import Triple

LOOKED_S, LOOK_STEP_S = 0.5, 0.002
"""Other views are tried so far around the ruled one, in these steps."""
BESIDE_M = 3.0
"""Of a shot that a wall stopped, only near misses up to here are a better answer than the wall."""


class OtherView(NamedTuple):
    """Nearest other view at which the same ray would have hit: its age (negative: younger), and the victim."""

    older_s: float
    entity: int
    part: str


class Far(NamedTuple):
    """A body that the aim would have met, or that stood nearest, but too far away: how far, and what was reached."""

    entity: int
    part: str
    away_m: float
    reach_m: float


class Beside(NamedTuple):
    """Somebody within the reach of a melee attack, and missed by it.

    off_rad : angle between the aim and the part's nearest point; cone_rad : the angle that the weapon reaches to each
        side, 0 for none
    gap_m : distance from the part's surface to the ball that was swept, inf where none is
    """

    entity: int
    part: str
    away_m: float
    off_rad: float
    cone_rad: float
    gap_m: float


class MissExplanation(NamedTuple):
    """Answer of `explain_miss`.

    near : the person that a ray passed closest before it ended, of all rays of the shot
    behind : the body that the ray would have met without the wall that stopped it, or, where the shot was not cast,
        behind the first surface on its way; wall_m, surface : distance and name of that wall
    far : the first person beyond the weapon's range; of a melee attack, the nearest person out of reach
    beside : of a melee attack, who was within reach and passed; solid : what stood in between, "" for nothing
    unturned : of a melee attack, whose back was not turned, 0 for nobody
    pellets : how many rays the shot had
    """

    near: Near | None = None
    other: OtherView | None = None
    wall_m: float = math.inf
    surface: str = ""
    behind: Near | None = None
    helps: tuple[str, ...] = ()
    cast: bool = True
    far: Far | None = None
    weapon: str = ""
    kind: str = "shot"
    pellets: int = 1
    beside: Beside | None = None
    solid: str = ""
    unturned: int = 0

    def because(self, names: Mapping[int, str] | None = None) -> str:
        """Return why it hit nobody, to follow on "The shot hit nobody: "; empty where nothing is known."""
        if self.kind == "melee":
            return self._of_a_blow(names)
        pellet = "its nearest pellet" if self.pellets > 1 else "it"
        if self.behind is not None and self.cast:
            before = self.behind.along_m - self.wall_m
            return (
                f"the {_plain(self.surface)} stopped {pellet} {before:.1f} m before {called(self.behind.entity, names)}"
            )
        if self.far is not None:
            return _too_far(self.far, self.weapon, names)
        if not self.cast:
            return ""
        if self.near is not None:
            near = self.near
            part = f"the {_plain(near.part)} of {called(near.entity, names)}"
            return f"{pellet} passed {max(near.gap_m, 0.0):.2f} m {near.where} {part}"
        if self.surface:
            first = "the first pellet" if self.pellets > 1 else "it"
            return f"the {_plain(self.surface)} stopped {first} after {self.wall_m:.1f} m"
        return "nobody was ahead of it within its range" if math.isfinite(self.wall_m) else ""

    def _of_a_blow(self, names: Mapping[int, str] | None) -> str:
        if self.solid:
            return f"the {_plain(self.solid)} was in between"
        if self.unturned:
            return f"{called(self.unturned, names)} did not have their back turned"
        if self.far is not None:
            far, who = self.far, called(self.far.entity, names)
            return f"the {_plain(self.weapon)} reaches {far.reach_m:g} m; {who} was {far.away_m:.1f} m away"
        if self.beside is None:
            return ""
        beside = self.beside
        part = f"the {_plain(beside.part)} of {called(beside.entity, names)}"
        if beside.cone_rad > 0.0 and math.isinf(beside.gap_m):
            off, reached = math.degrees(beside.off_rad), math.degrees(beside.cone_rad)
            return f"{part} was {off:.0f} degrees off the aim; the {_plain(self.weapon)} reaches {reached:g} degrees"
        return f"it passed {beside.gap_m:.2f} m from {part}"

    def describe(self, names: Mapping[int, str] | None = None) -> list[str]:
        """Return what else is known in plain words, a line each; `names` says what to call entities."""
        lines = []
        if self.behind is not None:
            lines.append(
                f"the {_plain(self.surface)} at {self.wall_m:.2f} m "
                f"{'stopped it' if self.cast else 'lies on its way'}; behind that it would have met the "
                f"{_plain(self.behind.part)} of {called(self.behind.entity, names)} at {self.behind.along_m:.2f} m"
            )
        elif self.kind == "melee":
            reason = self._of_a_blow(names)
            lines += [reason] if reason else []
        elif self.far is not None:
            lines.append(_too_far(self.far, self.weapon, names))
        elif self.near is not None and not self.cast:
            lines.append(
                f"at the view that it claims it would have met the {_plain(self.near.part)} of "
                f"{called(self.near.entity, names)}, {self.near.along_m:.1f} m away"
            )
        elif self.near is not None:
            lines.append(
                f"{max(self.near.gap_m, 0.0):.2f} m {self.near.where} the {_plain(self.near.part)} of "
                f"{called(self.near.entity, names)}, {self.near.along_m:.1f} m away"
            )
        if self.other is not None:
            age = "older" if self.other.older_s > 0.0 else "younger"
            lines.append(
                f"would have hit the {_plain(self.other.part)} of {called(self.other.entity, names)} with a view "
                f"{abs(self.other.older_s) * 1000.0:.0f} ms {age}"
            )
        return [*lines, *self.helps]


def _too_far(far: Far, weapon: str, names: Mapping[int, str] | None) -> str:
    return (
        f"out of range: the {_plain(far.part)} of {called(far.entity, names)} was {far.away_m:.1f} m away, "
        f"the {_plain(weapon)} reaches {far.reach_m:g} m"
    )


def _plain(name: str) -> str:
    return name.replace("_", " ")


class Way(NamedTuple):
    """One ray as it was ruled: its number, direction, how far it got in metres, and what stopped it ("": nothing)."""

    ray: int
    direction: Triple
    reached_m: float
    stopped_by: str


def explain_miss(past: HistorySlice, ruling: Ruling, claimed: View | None = None) -> MissExplanation:
    """Return what was missing for a ruling to be a hit, from the poses around it. See `MissExplanation`.

    claimed : the view of the claim: what a shot that was rejected before its view was looked at is held against
    """
    helps = tuple(text for finding in ruling.findings if (text := helped_by(finding, ruling)))
    origin, direction, view = ruling.origin, ruling.direction, _held(past, ruling.view or claimed)
    weapon, nothing = past.rules.weapons.get(ruling.weapon), MissExplanation(helps=helps, weapon=ruling.weapon)
    if ruling.hits or origin is None or direction is None or view is None or weapon is None:
        return nothing
    bodies = bodies_at(past.history, ruling.entity, view)
    if ruling.kind == "melee":
        return _blow(ruling, weapon, bodies, origin, direction, nothing._replace(kind="melee"))
    if ruling.kind != "shot":
        return nothing
    if ruling.view is None or ruling.reached_m is None:
        return _uncast(past, ruling, view, nothing)
    rays = [(ray.direction, ray.reached_m, ray.stopped_by) for ray in ruling.rays]
    ways = [
        Way(k, way, reached, "" if stop is None else stop.explain())
        for k, (way, reached, stop) in enumerate(rays or [(direction, ruling.reached_m, ruling.stopped_by)])
    ]
    found = _cast(past, ruling.entity, view, ways, bodies, origin, weapon.range_m, nothing._replace(pellets=len(ways)))
    if found.behind is not None or found.far is not None:
        return found
    aimed = ways[found.near.ray] if found.near is not None else ways[0]
    return found._replace(other=_other_view(past, ruling.entity, view, origin, aimed.direction, aimed.reached_m))


def _met(past: HistorySlice, shooter: int, view: View, origin: Triple, way: Way) -> Near | None:
    """Return the first person on a ray's way, however far; None for nobody."""
    history = past.history
    slots = history.slot_of(view.from_tick), history.slot_of(view.to_tick)
    hit = history.nearest_body_along((*origin, *way.direction), *slots, float(view.fraction), FARTHEST_M, shooter)
    return None if hit is None else Near(hit.entity, hit.part.name, 0.0, "", hit.distance_m, way.ray)


def _along(near: Near) -> float:
    return near.along_m


def _cast(
    past: HistorySlice, shooter: int, view: View, ways: list[Way], bodies: list[Hitboxes], origin: Triple,
    range_m: float,
    nothing: MissExplanation,
) -> MissExplanation:  # fmt: skip
    """Return why rays that were cast met nobody: what stopped the nearest of them, the range, or a near miss."""
    met = min(filter(None, (_met(past, shooter, view, origin, way) for way in ways)), key=_along, default=None)
    if met is not None and ways[met.ray].stopped_by and met.along_m <= range_m:
        way = ways[met.ray]
        return nothing._replace(wall_m=way.reached_m, surface=way.stopped_by, behind=met)
    missed = [nearest_miss(bodies, origin, way.direction, 0.0, way.reached_m, way.ray) for way in ways]
    near = min((one for one in missed if one is not None), key=lambda one: one.gap_m, default=None)
    if met is not None and not ways[met.ray].stopped_by and (near is None or len(ways) == 1):
        return nothing._replace(far=Far(met.entity, met.part, met.along_m, range_m))
    stopped = next((way for way in ways if way.stopped_by), None)
    if stopped is None:
        return nothing._replace(near=near, wall_m=ways[0].reached_m)
    behind = [
        nearest_miss(bodies, origin, way.direction, way.reached_m, range_m, way.ray) for way in ways if way.stopped_by
    ]
    hidden = min((one.gap_m for one in behind if one is not None), default=math.inf)
    if near is not None and near.gap_m <= min(BESIDE_M, hidden):
        return nothing._replace(near=near, wall_m=ways[near.ray].reached_m)
    return nothing._replace(wall_m=stopped.reached_m, surface=stopped.stopped_by)


def _uncast(past: HistorySlice, ruling: Ruling, view: View, nothing: MissExplanation) -> MissExplanation:
    """Return what a shot that was refused before it was cast would have met at the view that it claims."""
    origin, direction, range_m = ruling.origin, ruling.direction, past.rules.weapons[ruling.weapon].range_m
    assert origin is not None
    assert direction is not None
    wall = None if past.level is None else past.level.first(origin, direction, range_m)
    limit, surface = (range_m, "") if wall is None else (wall.distance_m, wall.surface.name)
    found = nothing._replace(cast=False, wall_m=limit, surface=surface)
    near = _met(past, ruling.entity, view, origin, Way(0, direction, limit, surface))
    if near is None:
        return found._replace(other=_other_view(past, ruling.entity, view, origin, direction, limit))
    if near.along_m <= limit:
        return found._replace(near=near)
    if surface:
        return found._replace(behind=near)
    return found._replace(far=Far(near.entity, near.part, near.along_m, range_m))


def _blow(
    ruling: Ruling,
    weapon: WeaponRules,
    bodies: list[Hitboxes],
    origin: Triple,
    direction: Triple,
    nothing: MissExplanation,
) -> MissExplanation:
    """Return why a melee attack reached nobody: something solid, a back that was not turned, its reach, or its aim."""
    entity = 0
    for step in ruling.checks:
        if step.name == "in reach" and isinstance(step.observed, (int, float)):
            entity = int(step.observed)
        elif step.name == "melee attack stopped by":
            return nothing._replace(solid=str(step.observed))
        elif step.name == "victim's back":
            return nothing._replace(unturned=entity)
    start, best = np.array(origin), None
    for boxes in bodies:
        apart = gaps(boxes, np.tile(start, (len(boxes.parts), 1)))
        part = int(np.argmin(apart))
        if best is None or apart[part] < best[0]:
            best = float(apart[part]), boxes, part
    if best is None:
        return nothing
    away, boxes, part = best
    if away > weapon.range_m:
        return nothing._replace(far=Far(boxes.entity, boxes.parts[part], away, weapon.range_m))
    return nothing._replace(beside=_passed_by(weapon, boxes, part, away, start, np.array(direction)))


def _passed_by(
    weapon: WeaponRules, boxes: Hitboxes, part: int, away_m: float, start: np.ndarray, along: np.ndarray
) -> Beside:
    """Return how far a melee attack passed the nearest body, by its ball where it has one, else by its angle."""
    cone = math.radians(weapon.cone_deg)
    off = nearest_point(boxes, part, start) - start
    length = float(np.linalg.norm(off))
    angle = math.acos(max(-1.0, min(1.0, float(off @ along) / length))) if length > 0.0 else 0.0
    gap = math.inf
    if weapon.radius_m > 0.0:
        swept = np.linspace(0.0, max(weapon.range_m - weapon.radius_m, 0.0), 65)
        apart = np.array([gaps(boxes, np.tile(start + t * along, (len(boxes.parts), 1))) for t in swept])
        part = int(np.argmin(apart.min(axis=0)))
        gap = max(0.0, float(apart.min()) - weapon.radius_m)
    return Beside(boxes.entity, boxes.parts[part], away_m, angle, cone, gap)


def _held(past: HistorySlice, claimed: View | None) -> View | None:
    """A claimed view, where its ticks are held and in order."""
    history = past.history
    if claimed is None or not (history.holds(claimed.from_tick) and history.holds(claimed.to_tick)):
        return None
    return claimed if claimed.from_tick <= claimed.to_tick and 0.0 <= claimed.fraction <= 1.0 else None


def helped_by(finding: Finding, ruling: Ruling) -> str:
    """Return what would have had to be different for a finding not to be made; empty where nothing can be said."""
    if finding.code == "damage_differs" and not ruling.hits:
        return "it hit nobody, so no damage counts"
    kind = FINDINGS.get(finding.code)
    text = "" if kind is None else kind.helps
    return "" if not text or finding.margin is None else text.format(margin=amount(finding.margin, finding.unit))


def _other_view(
    past: HistorySlice, shooter: int, view: View, origin: Triple, direction: Triple, limit_m: float
) -> OtherView | None:
    history, ruled_at = past.history, past.history.time_of(view)
    for step in range(1, round(LOOKED_S / LOOK_STEP_S)):
        for sign in (1.0, -1.0):
            at = ruled_at - sign * step * LOOK_STEP_S
            if not history.first_snapshot_time <= at <= history.newest_time:
                continue
            hit = history.nearest(origin, direction, history.view_at(at), limit_m=limit_m, ignore=shooter)
            if hit is not None and not history.rig_of(hit.entity).blocks_only:
                return OtherView(sign * step * LOOK_STEP_S, hit.entity, hit.part.name)
    return None
