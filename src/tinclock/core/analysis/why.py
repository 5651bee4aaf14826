"""Why a shot did nothing: how far off it was, and what would have had to be different."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from tinclock.core.findings import FINDINGS
from tinclock.core.geometry.rig import Shape
from tinclock.core.text import amount, printable

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.analysis.surroundings import Past
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.timeline.views import View
    from tinclock.core.vectors import Triple

LOOKED_S, LOOK_STEP_S = 0.5, 0.002
"""Other views are tried so far around the ruled one, in these steps."""
_ROUNDS = 90
FARTHEST_M, IN_FRONT_M = 10_000.0, 1e-3
"""How far ahead anybody is looked for, and how far ahead of the muzzle a near miss begins."""
_INVERSE_GOLDEN: Final = (5.0**0.5 - 1.0) / 2.0


class Near(NamedTuple):
    """The hitbox that a ray passed closest: how far off (negative: inside), where from it, how far along the ray."""

    entity: int
    part: str
    gap_m: float
    where: str
    along_m: float


class OtherView(NamedTuple):
    """The nearest other view at which the same ray would have hit: how much older (negative: younger), and whom."""

    older_s: float
    entity: int
    part: str


class Far(NamedTuple):
    """Somebody whom the aim would have met, or who stood nearest, but too far away: how far, and what was reached."""

    entity: int
    part: str
    away_m: float
    reach_m: float


class Why(NamedTuple):
    """What `why` found.

    behind : whom the ray would have met without the wall that stopped it, or, where the shot was not cast, behind the
        first surface on its way
    far : whom the shot would have met beyond the weapon's range; of a blow, who was nearest and out of reach
    """

    near: Near | None
    other: OtherView | None
    wall_m: float
    surface: str
    behind: Near | None
    helps: tuple[str, ...]
    cast: bool = True
    far: Far | None = None
    weapon: str = ""
    kind: str = "shot"

    def because(self, names: Mapping[int, str] | None = None) -> str:
        """Why it hit nobody, to follow on "The shot hit nobody: "; empty where nothing is known."""
        if self.behind is not None and self.cast:
            before = self.behind.along_m - self.wall_m
            return f"the {_plain(self.surface)} stopped it {before:.1f} m before {_name(self.behind.entity, names)}"
        if self.far is not None:
            return _too_far(self.far, self.weapon, self.kind, names)
        if self.near is not None and self.near.gap_m > 0.0 and self.cast:
            near = self.near
            return f"it passed {near.gap_m:.2f} m {near.where} the {_plain(near.part)} of {_name(near.entity, names)}"
        return ""

    def say(self, names: Mapping[int, str] | None = None) -> list[str]:
        """In plain words, a line each; `names` says what to call entities."""
        lines = []
        if self.behind is not None:
            lines.append(
                f"the {_plain(self.surface)} at {self.wall_m:.2f} m "
                f"{'stopped it' if self.cast else 'lies on its way'}; "
                f"behind that it would have met the "
                f"{_plain(self.behind.part)} of {_name(self.behind.entity, names)} at {self.behind.along_m:.2f} m"
            )
        elif self.far is not None:
            lines.append(_too_far(self.far, self.weapon, self.kind, names))
        elif self.near is not None and self.near.gap_m <= 0.0:
            lines.append(
                f"at the view that it claims it would have met the {_plain(self.near.part)} of "
                f"{_name(self.near.entity, names)}, {self.near.along_m:.1f} m away"
            )
        elif self.near is not None:
            lines.append(
                f"{self.near.gap_m:.2f} m {self.near.where} the {_plain(self.near.part)} of "
                f"{_name(self.near.entity, names)}, {self.near.along_m:.1f} m away"
            )
        if self.other is not None:
            age = "older" if self.other.older_s > 0.0 else "younger"
            lines.append(
                f"would have hit the {_plain(self.other.part)} of {_name(self.other.entity, names)} with a view "
                f"{abs(self.other.older_s) * 1000.0:.0f} ms {age}"
            )
        return [*lines, *self.helps]


def _too_far(far: Far, weapon: str, kind: str, names: Mapping[int, str] | None) -> str:
    who = _name(far.entity, names)
    if kind == "strike":
        return f"the {_plain(weapon)} reaches {far.reach_m:g} m; {who} was {far.away_m:.1f} m away"
    return (
        f"out of range: the {_plain(far.part)} of {who} was {far.away_m:.1f} m away, "
        f"the {_plain(weapon)} reaches {far.reach_m:g} m"
    )


def _plain(name: str) -> str:
    return name.replace("_", " ")


def _name(entity: int, names: Mapping[int, str] | None) -> str:
    return printable((names or {}).get(entity) or f"entity {entity}")


def why(past: Past, ruling: Ruling, claimed: View | None = None) -> Why:
    """What was missing for a ruling to be a hit, from the poses around it. See `Why`.

    claimed : the view of the claim: what a shot that was denied before its view was looked at is held against
    """
    helps = tuple(text for finding in ruling.findings if (text := helped_by(finding, ruling)))
    origin, direction, view = ruling.origin, ruling.direction, ruling.view or _held(past, claimed)
    weapon, nothing = past.rules.weapons.get(ruling.weapon), Why(None, None, float("inf"), "", None, helps)
    if ruling.hits or origin is None or direction is None or view is None or weapon is None:
        return nothing
    if ruling.kind == "strike":
        return nothing._replace(far=_out_of_reach(past, ruling, view, origin), weapon=ruling.weapon, kind="strike")
    if ruling.kind != "shot":
        return nothing
    limit, surface = _stop(past, ruling, origin, direction, weapon.range_m)
    near = nearest_miss(past, ruling.entity, view, origin, direction)
    if near is not None and near.gap_m <= 0.0 and near.along_m > weapon.range_m and not surface:
        far = Far(near.entity, near.part, near.along_m, weapon.range_m)
        return nothing._replace(far=far, weapon=ruling.weapon)
    if near is not None and near.along_m > weapon.range_m:
        near = nearest_miss(past, ruling.entity, view, origin, direction, weapon.range_m)
    if ruling.view is None and near is not None and near.gap_m <= 0.0 and near.along_m <= limit:
        return Why(near, None, limit, "", None, helps)
    behind = near if near is not None and near.gap_m <= 0.0 and near.along_m > limit else None
    other = None if behind is not None else _other_view(past, ruling, view, origin, direction, limit)
    return Why(None if behind else near, other, limit, surface, behind, helps, ruling.view is not None)


def _out_of_reach(past: Past, ruling: Ruling, view: View, origin: Triple) -> Far | None:
    """Who stood nearest to a blow's start, where that was out of its reach."""
    best: Far | None = None
    for entity in past.history.present(view):
        boxes = None if entity == ruling.entity else past.history.hitboxes_at(entity, view)
        if boxes is None or past.history.rig_of(entity).blocks_only:
            continue
        gaps = _gaps(boxes, np.tile(np.array(origin), (len(boxes.parts), 1)))
        part = int(np.argmin(gaps))
        if best is None or gaps[part] < best.away_m:
            reach = past.rules.weapons[ruling.weapon].range_m
            best = Far(entity, boxes.parts[part], float(gaps[part]), reach)
    return best if best is not None and best.away_m > best.reach_m else None


def _stop(past: Past, ruling: Ruling, origin: Triple, direction: Triple, range_m: float) -> tuple[float, str]:
    """How far a shot got, and the surface that ended it (the first one on its way, where it wasn't cast)."""
    if ruling.view is not None and ruling.reached_m is not None:
        return ruling.reached_m, ruling.stopped_by.explain() if ruling.stopped_by else ""
    wall = None if past.level is None else past.level.first(origin, direction, range_m)
    return (range_m, "") if wall is None else (wall.distance_m, wall.surface.name)


def _held(past: Past, claimed: View | None) -> View | None:
    """A claimed view, where its ticks are held and in order."""
    history = past.history
    if claimed is None or not (history.holds(claimed.from_tick) and history.holds(claimed.to_tick)):
        return None
    return claimed if claimed.from_tick <= claimed.to_tick and 0.0 <= claimed.fraction <= 1.0 else None


def helped_by(finding: Finding, ruling: Ruling) -> str:
    """What would have had to be different for a finding not to be made; empty where nothing can be said."""
    if finding.code == "damage_differs" and not ruling.hits:
        return "it hit nobody, so no damage counts"
    kind = FINDINGS.get(finding.code)
    text = "" if kind is None else kind.helps
    return "" if not text or finding.margin is None else text.format(margin=amount(finding.margin, finding.unit))


def nearest_miss(
    past: Past, shooter: int, view: View, origin: Triple, direction: Triple, limit_m: float = FARTHEST_M
) -> Near | None:
    """The hitbox of anybody else that the ray passes closest, in front of its start; None where nobody is."""
    start, along, best = np.array(origin), np.array(direction), None
    for entity in past.history.present(view):
        boxes = None if entity == shooter else past.history.hitboxes_at(entity, view)
        if boxes is None or past.history.rig_of(entity).blocks_only:
            continue
        part, gap, at, off = closest_part(boxes, start, along, limit_m)
        if gap > 0.0 and not IN_FRONT_M < at < limit_m - IN_FRONT_M:
            continue  # it lies behind the muzzle, or beside the end of the way
        if best is None or gap < best.gap_m:
            best = Near(entity, boxes.parts[part], gap, _where(off, along), at)
    return best


def closest_part(
    boxes: Hitboxes, origin: NDArray[np.float64], direction: NDArray[np.float64], limit_m: float
) -> tuple[int, float, float, NDArray[np.float64]]:
    """(part, gap, distance along the ray, way from the part's middle to the ray there) of the nearest part.

    The distance from a point to a convex shape is convex along a line, so golden section finds its least (Kiefer,
    Sequential minimax search for a maximum, 1953). The gap is negative inside.

    origin, direction : (3,) float64, metres, and unit; the way is (3,) float64, metres.
    """
    low, high = np.zeros(len(boxes.parts)), np.full(len(boxes.parts), limit_m)
    for _ in range(_ROUNDS):
        step = _INVERSE_GOLDEN * (high - low)
        a, b = high - step, low + step
        nearer = _gaps(boxes, origin + a[:, None] * direction) < _gaps(boxes, origin + b[:, None] * direction)
        low, high = np.where(nearer, low, a), np.where(nearer, b, high)
    middle = (low + high) / 2.0
    gaps = _gaps(boxes, origin + middle[:, None] * direction)
    best = int(np.argmin(gaps))
    at = float(middle[best])
    return best, float(gaps[best]), at, origin + at * direction - boxes.centres[best]


def _gaps(boxes: Hitboxes, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Signed distance of one point to each part, metres."""
    local = np.einsum("pij,pi->pj", boxes.axes, points - boxes.centres)
    capsule, box = boxes.shapes == Shape.CAPSULE, boxes.shapes == Shape.BOX
    long = np.where(capsule, boxes.sizes[:, 0], 0.0)
    local[:, 2] -= np.where(capsule, np.clip(local[:, 2], -long, long), 0.0)
    round_ = np.linalg.norm(local, axis=1) - np.where(capsule, boxes.sizes[:, 1], boxes.sizes[:, 0])
    over = np.abs(local) - boxes.sizes
    square = np.linalg.norm(np.maximum(over, 0.0), axis=1) + np.minimum(over.max(axis=1), 0.0)
    return np.asarray(np.where(box, square, round_))


def _where(off: NDArray[np.float64], along: NDArray[np.float64]) -> str:
    """Which side of a body the ray passed, as its shooter sees it."""
    right = np.array([along[1], -along[0], 0.0])
    right = right / np.linalg.norm(right) if np.linalg.norm(right) > 1e-9 else np.array([1.0, 0.0, 0.0])
    up = np.cross(right, along)
    aside, above = float(off @ right), float(off @ up)
    if abs(above) >= abs(aside):
        return "above" if above >= 0.0 else "below"
    return "right of" if aside >= 0.0 else "left of"


def _other_view(
    past: Past, ruling: Ruling, view: View, origin: Triple, direction: Triple, limit_m: float
) -> OtherView | None:
    history, ruled_at = past.history, past.history.time_of(view)
    best: OtherView | None = None
    for step in range(1, round(LOOKED_S / LOOK_STEP_S)):
        for sign in (1.0, -1.0):
            at = ruled_at - sign * step * LOOK_STEP_S
            if not history.first_snapshot_time <= at <= history.newest_time:
                continue
            hit = history.nearest(origin, direction, history.view_at(at), limit_m=limit_m, ignore=ruling.entity)
            if hit is not None and not history.rig_of(hit.entity).blocks_only:
                best = OtherView(sign * step * LOOK_STEP_S, hit.entity, hit.part.name)
                break
        if best is not None:
            break
    return best
