"""Rigs: the hitboxes of one kind of body, each a shape fixed to a bone, with a part name, a zone and a side."""

from __future__ import annotations

import math
from enum import IntEnum
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.errors import RulesError
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.rules.rigs import BoneRules, PartRules, RigRules


UNTURNED = (0.0, 0.0, 0.0, 1.0)


class Shape(IntEnum):
    """Kinds of hitbox, as the kernels number them."""

    SPHERE = 0
    CAPSULE = 1
    BOX = 2


class Part(NamedTuple):
    """Name and zone of a hitbox. `side` is "left", "right" or "middle" of the body itself."""

    name: str
    zone: str
    side: str
    bone: int
    shape: Shape


class Rig:
    """The hitboxes of one kind of body.

    `table` is what the kernels read, one row a part:

    table : (parts, 17) float64, metres, bone frame
        0 shape; 1..3 centre; 4..12 the shape's axes as a 3x3 rotation, row by row (a capsule lies along its z axis);
        13..15 size (sphere: radius; capsule: half length, radius; box: half sizes); 16 zone priority.
    reach : (parts,) float64, metres
        How far the part extends from its bone's origin, whatever the rotation.
    bone_of : (parts,) int64
        The bone that carries each part.
    rest, rest_rotations : (bones, 3) and (bones, 4) float64, body frame
        The rest pose: where each bone's origin lies, metres, and how it is turned, a unit quaternion xyzw.
    """

    def __init__(self, name: str, rules: RigRules) -> None:
        problems = list(_rig_problems(rules))
        if problems:
            raise RulesError(f"rig {name!r}", problems)
        self.name = name
        self.bones = tuple(bone.name for bone in rules.bones)
        index = {bone: i for i, bone in enumerate(self.bones)}
        self.parts = tuple(Part(p.name, p.zone, p.side, index[p.bone], Shape[p.shape.upper()]) for p in rules.parts)
        self.rest = np.array([bone.rest for bone in rules.bones], dtype=np.float64)
        self.rest_rotations = np.array([bone.rest_rotation for bone in rules.bones], dtype=np.float64)
        self.table = np.array([_row(p, rules.zone_priority) for p in rules.parts], dtype=np.float64)
        self.reach = np.array([_reach(row) for row in self.table], dtype=np.float64)
        self.bone_of = np.array([part.bone for part in self.parts], dtype=np.int64)
        self.has_eye = rules.eye is not None
        self.eye_bone, self.eye_at = (
            (0, (0.0, 0.0, 0.0)) if rules.eye is None else (index[rules.eye.bone], rules.eye.at)
        )
        self.blocks_only = rules.blocks_only
        self.flies = rules.flies
        self.resistance_per_m = float("inf") if rules.resistance_per_m is None else rules.resistance_per_m
        self.passable = self.blocks_only and rules.resistance_per_m is not None

    def __repr__(self) -> str:
        return f"Rig({self.name!r}, {len(self.bones)} bones, {len(self.parts)} parts)"


def _row(part: PartRules, priorities: dict[str, int]) -> list[float]:
    if part.shape == "sphere":
        centre, axes, size = part.centre or (0.0, 0.0, 0.0), np.eye(3), (part.radius_m or 0.0, 0.0, 0.0)
    elif part.shape == "capsule":
        start, end = np.array(part.start), np.array(part.end)
        length = float(np.linalg.norm(end - start))
        centre, axes = tuple((start + end) / 2), _axes_along(end - start)
        size = (length / 2, part.radius_m or 0.0, 0.0)
    else:
        centre, axes = part.centre or (0.0, 0.0, 0.0), _rotation(part.rotation)
        size = part.half_size_m or (0.0, 0.0, 0.0)
    row = [
        float(Shape[part.shape.upper()]),
        *centre,
        *axes.ravel(),
        *size,
        float(priorities.get(part.zone, 0)),
    ]
    return [float(value) for value in row]


def _axes_along(direction: NDArray[np.float64]) -> NDArray[np.float64]:
    """A rotation whose z axis lies along `direction` (any, when it has no length)."""
    length = float(np.linalg.norm(direction))
    z = direction / length if length > 0.0 else np.array([0.0, 0.0, 1.0])
    helper = np.eye(3)[int(np.argmin(np.abs(z)))]
    x = np.cross(helper, z)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(z, x), z], axis=1)


def _rotation(quaternion: Sequence[float]) -> NDArray[np.float64]:
    """The 3x3 rotation of a quaternion xyzw."""
    x, y, z, w = np.asarray(quaternion, dtype=np.float64) / np.linalg.norm(quaternion)
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def _reach(row: NDArray[np.float64]) -> float:
    shape, centre, size = Shape(int(row[0])), row[1:4], row[13:16]
    if shape is Shape.SPHERE:
        extent = size[0]
    elif shape is Shape.CAPSULE:
        extent = size[0] + size[1]
        if size[0] > 0.0:  # tighter: the far end of the segment, plus the radius
            axis = row[4:13].reshape(3, 3)[:, 2] * size[0]
            return float(max(np.linalg.norm(centre + axis), np.linalg.norm(centre - axis)) + size[1])
    else:
        extent = float(np.linalg.norm(size))
    return float(np.linalg.norm(centre) + extent)


def _rig_problems(rules: RigRules) -> list[str]:
    bones = {bone.name: bone for bone in rules.bones}
    problems = []
    if len(bones) != len(rules.bones):
        problems.append("bones: a bone name appears twice; each bone needs its own")
    if rules.eye is None and not rules.blocks_only:
        problems.append("eye: is missing; a body sees and shoots from it (only a rig with blocks_only needs none)")
    if rules.eye is not None and rules.eye.bone not in bones:
        problems.append(f"eye.bone: no bone {rules.eye.bone!r}; bones are {', '.join(bones)}")
    for bone in rules.bones:
        length = math.sqrt(sum(value * value for value in bone.rest_rotation))
        if not abs(length - 1.0) <= TOLERANCES.rotation_length:
            got = f"got {list(bone.rest_rotation)}, length {length:.3f}"
            problems.append(f"bones ({bone.name}).rest_rotation: must be a unit quaternion xyzw; {got}")
            return problems
    seen: set[str] = set()
    for place, part in enumerate(rules.parts):
        where = f"parts[{place}] ({part.name})"
        if part.name in seen:
            problems.append(f"{where}: the part name appears twice; each part needs its own")
        seen.add(part.name)
        if part.bone not in bones:
            problems.append(f"{where}: no bone {part.bone!r}; bones are {', '.join(bones)}")
            continue
        problem = _size_problem(part)
        if problem:
            problems.append(f"{where}: {problem}")
            continue
        problem = _side_problem(part, bones[part.bone])
        if problem:
            problems.append(f"{where}: {problem}")
    return problems


def _size_problem(part: PartRules) -> str:
    """Find keys that a part of this shape lacks, or that belong to another shape."""
    needs = {
        "sphere": ("radius_m",),
        "capsule": ("start", "end", "radius_m"),
        "box": ("half_size_m",),
    }[part.shape]
    missing = [key for key in needs if getattr(part, key) is None]
    if missing:
        return f"a {part.shape} needs {', '.join(needs)}; missing: {', '.join(missing)}"
    takes = {"sphere": ("centre",), "capsule": (), "box": ("centre", "rotation")}[part.shape]
    given = ("start", "end", "radius_m", "half_size_m", "centre", "rotation")
    foreign = [key for key in given if key not in needs + takes and getattr(part, key) not in (None, UNTURNED)]
    if foreign:
        return f"a {part.shape} has no {', '.join(foreign)}; it takes {', '.join(needs + takes)}"
    length = math.sqrt(sum(value * value for value in part.rotation))
    if not abs(length - 1.0) <= TOLERANCES.rotation_length:
        got = f"got {list(part.rotation)}, length {length:.3f}"
        return f"rotation: must be a unit quaternion xyzw, [0, 0, 0, 1] for none; {got}"
    return ""


def _side_problem(part: PartRules, bone: BoneRules) -> str:
    """True if a left part lies on the body's left (+y; the body looks along +x, z is up) in the rest pose."""
    middle = np.array(part.centre or (0.0, 0.0, 0.0))
    if part.shape == "capsule" and part.start and part.end:
        middle = (np.array(part.start) + np.array(part.end)) / 2.0
    y = bone.rest[1] + float((_rotation(bone.rest_rotation) @ middle)[1])
    found = "left" if y > TOLERANCES.side_m else "right" if y < -TOLERANCES.side_m else "middle"
    if part.side in ("left", "right") and found != part.side:
        place = "on its middle line" if found == "middle" else f"{abs(y):.3f} m to its {found}"
        return (
            f"side is {part.side!r}, but in the rest pose the part lies {place} "
            "(the body looks along +x, its left is +y); correct the side or the position"
        )
    named = next((s for s in ("left", "right") if part.name.lower().startswith(s)), None)
    if named and named != part.side:
        return f"is called {part.name!r} but its side is {part.side!r}; a name and its side must agree"
    return ""
