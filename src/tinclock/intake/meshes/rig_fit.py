"""Fitting hitboxes to the vertices that each bone moves, and saying how well they fit."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from tinclock.core.plain import Fields
from tinclock.core.rules.plausible import LONGEST_M, SHORTEST_M, body_size_m
from tinclock.core.rules.rigs import BoneRules, MountRules, PartRules, RigRules

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.intake.meshes.skin_file import Skin

COVERED = 0.97
"""The share of a part's vertices that its hitbox must hold; stray ones (straps, hair) may stick out."""
ALIKE = 0.98
"""Two directions in which points spread alike, as a ratio: which of them is the longer one is chance."""
FEWEST = 8
MIN_M, SLACK_M = 0.005, 2e-4
ZONES: Final = (
    ("head", r"head|skull|jaw|face|eye|hair|helm"),
    ("neck", r"neck"),
    ("arm", r"arm|hand|shoulder|clavicle|collar|elbow|wrist|finger|thumb|index|middle|ring|pinky"),
    ("leg", r"leg|thigh|shin|calf|knee|foot|toe|ankle"),
    ("torso", r"spine|chest|pelvis|hip|abdomen|torso|root|body|back|breast|rib|waist|belly"),
)
"""Zones of usual names; the first that fits counts, and torso where none does."""
_SIDES: Final = (("left", r"(^|[^a-z])(l|left)([^a-z]|$)|left"), ("right", r"(^|[^a-z])(r|right)([^a-z]|$)|right"))


class Named(NamedTuple):
    """Name and zone of a joint."""

    name: str
    side: str
    zone: str


class Fit(NamedTuple):
    """Fit of a part's hitbox.

    covered : of its vertices; air : of its volume, what their convex hull doesn't fill
    joints : whose vertices it holds
    """

    part: str
    shape: str
    vertices: int
    covered: float
    air: float
    joints: tuple[str, ...]


def named(joint: str) -> Named:
    """A joint's name by the habits of modelling programs: what is before ":" dropped, sides told, words joined."""
    plain = re.sub(r"([a-z0-9])([A-Z])", r"\1_\2", joint.rpartition(":")[2])
    plain = re.sub(r"[^A-Za-z0-9]+", "_", plain).strip("_").lower() or "bone"
    side = next((name for name, pattern in _SIDES if re.search(pattern, plain)), "middle")
    if side != "middle":
        rest = re.sub(r"(^|_)(l|r|left|right)(?=_|$)", "", plain).replace(side, "").strip("_")
        plain = f"{side}_{re.sub(r'_+', '_', rest) or 'bone'}"
    return Named(plain, side, _zone(plain) or "torso")


def _zone(plain: str) -> str | None:
    """Return the zone that a name stands for; None where it stands for none."""
    return next((zone for zone, pattern in ZONES if re.search(pattern, plain)), None)


def unusual_in(skin: Skin, rules: RigRules, mapping: Mapping[str, Mapping[str, str]] | None = None) -> list[str]:
    """Return one line for each thing that is probably not meant: sizes, names that say nothing, no head."""
    out, size = [], body_size_m(rules)
    if size > LONGEST_M:
        out.append(f"the body is {size:.3g} m long; if the file is in centimetres, add --metres-per-unit 0.01")
    elif size < SHORTEST_M:
        out.append(f"the body is {size:.2g} m long; does the file have other units? See --metres-per-unit")
    told = {joint for joint, row in (mapping or {}).items() if "zone" in row or row.get("part") == "none"}
    unknown = [joint for joint in skin.names if joint not in told and _zone(named(joint).name) is None]
    if unknown:
        shown = ", ".join(unknown[:5]) + (f" and {len(unknown) - 5} more" if len(unknown) > 5 else "")
        out.append(f'names that say nothing, so their zone is "torso": {shown}; give zones with --names')
    if not any(part.zone == "head" for part in rules.parts):
        out.append("no hitbox is a head: nothing takes head damage; give zones with --names")
    if skin.unmoved:
        out.append(f"{skin.unmoved:,} vertices have no weights and are left out: no joint moves them")
    return out


def fit_rig(
    skin: Skin, max_parts: int = 20, mapping: Mapping[str, Mapping[str, str]] | None = None
) -> tuple[RigRules, list[Fit]]:
    """A rig of at most so many hitboxes, and how each fits.

    mapping : by joint, `name`, `side` and `zone` where the guesses are wrong, `part = "none"` for one without a hitbox

    Joints with the fewest vertices are merged into their parents (fingers into hands) until no more parts are left.
    """
    known = {**{joint: named(joint) for joint in skin.names}, **_given(mapping or {})}
    none = {joint for joint, row in (mapping or {}).items() if row.get("part") == "none"}
    groups = {k: [k] for k, joint in enumerate(skin.names) if joint not in none}
    counts = np.bincount(skin.owner, minlength=len(skin.names)).astype(float)
    while True:
        sizes = {k: counts[members].sum() for k, members in groups.items()}
        small = min(sizes, key=lambda k: (sizes[k], -k), default=-1)
        if small < 0 or (len(groups) <= max_parts and sizes[small] >= FEWEST):
            break
        above = int(skin.parents[small])
        while above >= 0 and above not in groups:
            above = int(skin.parents[above])
        members = groups.pop(small)
        if above >= 0:
            groups[above] += members
    names = _unlike([known[joint].name for joint in skin.names])
    bones = [BoneRules(name=name, rest=_point(at)) for name, at in zip(names, skin.rest, strict=True)]
    parts, fits = [], []
    for joint, members in sorted(groups.items()):
        points = skin.vertices[np.isin(skin.owner, members)] - skin.rest[joint]
        shape, covered, volume = _tightest(points)
        told = known[skin.names[joint]]
        parts.append(PartRules(name=names[joint], bone=names[joint], zone=told.zone, side=told.side, **shape))  # type: ignore[arg-type]
        joints = tuple(skin.names[k] for k in members)
        fits.append(
            Fit(names[joint], shape["shape"], len(points), covered, max(0.0, 1.0 - _hull(points) / volume), joints)
        )
    eye = next((names[k] for k, joint in enumerate(skin.names) if known[joint].zone == "head"), names[0])
    return RigRules(bones=bones, parts=parts, eye=MountRules(bone=eye, at=(0.08, 0.0, 0.06))), fits


def _given(mapping: Mapping[str, Mapping[str, str]]) -> dict[str, Named]:
    out = {}
    for joint, row in mapping.items():
        guess = named(joint)
        out[joint] = Named(row.get("name", guess.name), row.get("side", guess.side), row.get("zone", guess.zone))
    return out


def _unlike(names: list[str]) -> list[str]:
    seen: dict[str, int] = {}
    out = []
    for name in names:
        seen[name] = seen.get(name, 0) + 1
        out.append(name if seen[name] == 1 else f"{name}_{seen[name]}")
    return out


def _point(values: NDArray[np.float64]) -> tuple[float, float, float]:
    x, y, z = (np.round(values, 4) + 0.0).tolist()  # no minus before a zero
    return x, y, z


def _tightest(points: NDArray[np.float64]) -> tuple[Fields, float, float]:
    """The smallest of a sphere, a capsule and a box that each hold `COVERED` of the points."""
    made = [_sphere(points), _capsule(points), _box(points)]
    holding = [item for item in made if item[1] >= COVERED - 0.01] or [max(made, key=lambda item: item[1])]
    return min(holding, key=lambda item: item[2])


def _sphere(points: NDArray[np.float64]) -> tuple[Fields, float, float]:
    centre = (points.min(0) + points.max(0)) / 2.0
    away = np.linalg.norm(points - centre, axis=1)
    radius = max(float(np.quantile(away, COVERED)), MIN_M)
    shape = {"shape": "sphere", "centre": _point(centre), "radius_m": _up(radius)}
    return shape, float((away <= radius + SLACK_M).mean()), 4.0 / 3.0 * np.pi * radius**3


def _axes(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Rows: the directions in which the points spread most, second and least; right-handed."""
    _, sizes, rows = np.linalg.svd(points - points.mean(0), full_matrices=False)
    if len(rows) < 3 or sizes[2] >= ALIKE * sizes[0]:
        return np.eye(3)  # the same in all directions: those of the bone
    if sizes[1] >= ALIKE * sizes[0]:
        rows = _turned(rows[[2, 0, 1]], points)[[1, 2, 0]]
    elif sizes[2] >= ALIKE * sizes[1]:
        rows = _turned(rows, points)
    strongest = np.abs(rows).argmax(1)
    rows = rows * np.sign(rows[np.arange(3), strongest])[:, None]
    return np.asarray(rows) if np.linalg.det(rows) > 0.0 else rows * np.array([[1.0], [1.0], [-1.0]])


def _turned(rows: NDArray[np.float64], points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return axes with the second and third turned about the first until they enclose the least area.

    The points spread as far one way as the other there, so rounding alone would choose. Equal areas go to the turn
    that is nearest to the bone's own axes.
    """
    first = rows[0] * np.sign(rows[0][np.abs(rows[0]).argmax()])
    near = np.eye(3)[np.abs(first).argmin()]
    second = near - (near @ first) * first
    second /= np.linalg.norm(second)
    third = np.cross(first, second)
    flat = points @ np.stack([second, third]).T
    angles = np.radians(np.arange(90.0))
    sides = [
        np.ptp(flat[:, 0, None] * np.cos(angles + more) + flat[:, 1, None] * np.sin(angles + more), axis=0)
        for more in (0.0, np.pi / 2.0)
    ]
    area = sides[0] * sides[1]
    angle = angles[int(np.argmax(area <= area.min() * (1.0 + 1e-9)))]
    turned = second * np.cos(angle) + third * np.sin(angle)
    return np.stack([first, turned, np.cross(first, turned)])


def _capsule(points: NDArray[np.float64]) -> tuple[Fields, float, float]:
    rows = _axes(points)
    local = points @ rows.T
    middle = (local.min(0) + local.max(0)) / 2.0
    off = np.hypot(local[:, 1] - middle[1], local[:, 2] - middle[2])
    radius = max(float(np.quantile(off, COVERED)), MIN_M)
    # each vertex must lie inside the cap's ball where it lies beyond the axis' end
    reach = np.sqrt(np.maximum(radius**2 - off**2, 0.0))
    trim = (1.0 - COVERED) / 4.0
    low = float(np.quantile(local[:, 0] + reach, trim))
    high = float(np.quantile(local[:, 0] - reach, 1.0 - trim))
    if high - low < MIN_M:
        shape, covered, volume = _sphere(points)
        return shape, covered, volume
    ends = [np.array([x, middle[1], middle[2]]) @ rows for x in (low, high)]
    nearest = np.stack(
        [np.clip(local[:, 0], low, high), np.full(len(local), middle[1]), np.full(len(local), middle[2])], 1
    )
    covered = float((np.linalg.norm(local - nearest, axis=1) <= radius + SLACK_M).mean())
    shape = {"shape": "capsule", "start": _point(ends[0]), "end": _point(ends[1]), "radius_m": _up(radius)}
    return shape, covered, np.pi * radius**2 * (high - low) + 4.0 / 3.0 * np.pi * radius**3


def _box(points: NDArray[np.float64]) -> tuple[Fields, float, float]:
    from scipy.spatial.transform import Rotation

    rows = _axes(points)
    local = points @ rows.T
    trim = (1.0 - COVERED) / 6.0
    low, high = np.quantile(local, trim, axis=0), np.quantile(local, 1.0 - trim, axis=0)
    half = np.maximum((high - low) / 2.0, MIN_M)
    centre = (low + high) / 2.0
    turn = Rotation.from_matrix(rows.T).as_quat()
    shape = {
        "shape": "box", "centre": _point(centre @ rows), "half_size_m": tuple(_up(v) for v in half.tolist()),
        "rotation": tuple(np.round(turn, 6).tolist()),
    }  # fmt: skip
    inside = (np.abs(local - centre) <= half + SLACK_M).all(1)
    return shape, float(inside.mean()), float(8.0 * half.prod())


def _up(value: float) -> float:
    """To a tenth of a millimetre, upwards: rounding must not lose a vertex."""
    return float(np.ceil(value * 1e4 - 1e-6) / 1e4)


def _hull(points: NDArray[np.float64]) -> float:
    from scipy.spatial import ConvexHull, QhullError

    try:
        return float(ConvexHull(points).volume)
    except QhullError:  # flat or too few
        return 0.0


def as_toml(name: str, rules: RigRules) -> str:
    """A rig as the table of a rules file."""
    import msgspec
    import tomli_w

    tables = msgspec.to_builtins(rules)
    kept = {key: tables[key] for key in ("eye", "bones", "parts")}
    for part in kept["parts"]:
        if part["shape"] != "box":
            part["rotation"] = None
    kept["parts"] = [{key: value for key, value in part.items() if value is not None} for part in kept["parts"]]
    text: str = tomli_w.dumps({"rigs": {name: kept}})
    return text
