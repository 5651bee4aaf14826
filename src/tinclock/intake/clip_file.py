"""Animation clips of a glTF 2.0 character, as poses that its rig can be put into: walks and jumps for tests.

Interpolation as the format has it (Khronos, glTF 2.0 specification, section 3.11 and appendix C): step, linear (slerp
for rotations) and cubic Hermite splines; before the first and after the last key the value holds. Morphs are passed
over: no hitbox follows them.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.arrays import require_shape
from tinclock.core.errors import RulesError
from tinclock.intake.skin_file import FORWARD, Document, read_skin

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import ArrayLike, NDArray

    from tinclock.intake.skin_file import Skin

    Floats = NDArray[np.float64]

_WHAT = {"translation": 3, "rotation": 4, "scale": 3}


class Channel(NamedTuple):
    """What one clip does to one node.

    times : (keys,) float64, seconds; values : (keys, 3 or 4); of splines (keys, 3, 3 or 4): tangent, value, tangent
    """

    node: int
    what: str
    way: str
    times: Floats
    values: Floats

    def at(self, times: Floats) -> Floats:
        """(n, 3 or 4): values at these times."""
        held = np.clip(times, self.times[0], self.times[-1])
        after = np.clip(np.searchsorted(self.times, held, "right"), 1, max(len(self.times) - 1, 1))
        before = after - 1
        if len(self.times) == 1:
            value = self.values[0, 1] if self.way == "CUBICSPLINE" else self.values[0]
            return np.repeat(value[None], len(times), axis=0)
        span = self.times[after] - self.times[before]
        share = ((held - self.times[before]) / span)[:, None]
        if self.way == "CUBICSPLINE":
            return self._hermite(before, after, share, span[:, None])
        a, b = self.values[before], self.values[after]
        if self.way == "STEP":
            return np.where(share >= 1.0, b, a)
        if self.what != "rotation":
            return a + share * (b - a)
        return self._turned(held)

    def _hermite(self, before: NDArray[np.int64], after: NDArray[np.int64], t: Floats, span: Floats) -> Floats:
        a, b = self.values[before, 1], self.values[after, 1]
        leaving, arriving = span * self.values[before, 2], span * self.values[after, 0]
        value: Floats = (
            (2 * t**3 - 3 * t**2 + 1) * a + (t**3 - 2 * t**2 + t) * leaving
            + (-2 * t**3 + 3 * t**2) * b + (t**3 - t**2) * arriving
        )  # fmt: skip
        return value

    def _turned(self, held: Floats) -> Floats:
        from scipy.spatial.transform import Rotation, Slerp

        turned: Floats = Slerp(self.times, Rotation.from_quat(self.values))(held).as_quat()
        return turned


class Clip(NamedTuple):
    """One animation. seconds : how long it lasts."""

    name: str
    seconds: float
    skin: Skin
    nodes: _Nodes
    channels: tuple[Channel, ...]

    def poses(self, times: ArrayLike) -> Floats:
        """The bones at times from its start: (n, bones, 7) float64, xyz and quaternion xyzw, in the body frame.

        times : (n,) float64, seconds. `rooted_bones(rig, roots, clip.poses([t])[0])` puts bodies into such a pose.
        """
        from scipy.spatial.transform import Rotation

        at = require_shape("times", times, (None,), np.float64)
        world = self.nodes.world(at, self.channels)
        out = np.empty((len(at), len(self.skin.names), 7))
        for joint, node in enumerate(self.nodes.joints):
            axes = world[:, node, :3, :3] / np.linalg.norm(world[:, node, :3, :3], axis=1, keepdims=True)
            since = FORWARD @ axes @ self.skin.turns[joint].T @ FORWARD.T
            out[:, joint, 3:] = Rotation.from_matrix(since).as_quat()
            out[:, joint, :3] = world[:, node, :3, 3] @ FORWARD.T * self.nodes.metres_per_unit
        return out


class _Nodes(NamedTuple):
    """A file's nodes as they rest, parents before children. turns : quaternions xyzw."""

    order: tuple[int, ...]
    parents: tuple[int, ...]
    joints: tuple[int, ...]
    places: Floats
    turns: Floats
    scales: Floats
    metres_per_unit: float

    def world(self, times: Floats, channels: Sequence[Channel]) -> Floats:
        """World matrices of all nodes: (n, nodes, 4, 4), in the file's frame."""
        from scipy.spatial.transform import Rotation

        count = len(times)
        own = {"translation": self.places, "rotation": self.turns, "scale": self.scales}
        now = {what: np.repeat(rest[None], count, axis=0) for what, rest in own.items()}
        for channel in channels:
            now[channel.what][:, channel.node] = channel.at(times)
        world = np.zeros((count, len(self.parents), 4, 4))
        for node in self.order:
            here = np.zeros((count, 4, 4))
            turned = Rotation.from_quat(now["rotation"][:, node]).as_matrix()
            here[:, :3, :3] = turned * now["scale"][:, node][:, None, :]
            here[:, :3, 3], here[:, 3, 3] = now["translation"][:, node], 1.0
            parent = self.parents[node]
            world[:, node] = here if parent < 0 else world[:, parent] @ here
        return world


def read_clips(path: str | Path, metres_per_unit: float = 1.0) -> tuple[Clip, ...]:
    """The animations of a .gltf or .glb character with a skin. Raises `RulesError` naming what is wrong."""
    skin, document = read_skin(path, metres_per_unit), Document(Path(path))
    try:
        nodes = _nodes(document, metres_per_unit)
    except (KeyError, IndexError, TypeError, ValueError) as error:
        if isinstance(error, RulesError):
            raise
        raise RulesError(str(path), [f"nodes: can't be read: {type(error).__name__}: {error}"]) from None
    clips = []
    for number, table in enumerate(document.tables.get("animations") or []):
        channels = tuple(_channels(document, table, f"animations[{number}]", len(nodes.parents)))
        if channels:
            seconds = max(float(channel.times[-1]) for channel in channels)
            clips.append(Clip(str(table.get("name") or f"clip {number}"), seconds, skin, nodes, channels))
    return tuple(clips)


def _channels(document: Document, table: dict[str, Any], where: str, nodes: int) -> list[Channel]:
    out = []
    try:
        for channel in table["channels"]:
            target, sampler = channel["target"], table["samplers"][channel["sampler"]]
            what, node = target["path"], target.get("node")
            if what not in _WHAT or node is None:
                continue
            times = document.array(sampler["input"]).reshape(-1).astype(float)
            values = document.array(sampler["output"]).astype(float)
            way, width = sampler.get("interpolation", "LINEAR"), _WHAT[what]
            shape = (len(times), 3, width) if way == "CUBICSPLINE" else (len(times), width)
            if way not in ("STEP", "LINEAR", "CUBICSPLINE") or not 0 <= node < nodes:
                raise RulesError(document.source, [f"{where}: node {node}, interpolation {way!r}: not in glTF 2.0"])
            if not len(times) or (np.diff(times) <= 0.0).any() or not np.isfinite(values).all():
                raise RulesError(document.source, [f"{where}: times of keys must rise and values must be finite"])
            values = values.reshape(shape)
            if what == "rotation" and not (values[:, 1] if way == "CUBICSPLINE" else values).any(axis=1).all():
                raise RulesError(document.source, [f"{where}: a rotation is all zeros"])
            out.append(Channel(node, what, way, times, values))
    except (KeyError, IndexError, TypeError, ValueError) as error:
        if isinstance(error, RulesError):
            raise
        raise RulesError(document.source, [f"{where}: can't be read: {type(error).__name__}: {error}"]) from None
    return out


def _nodes(document: Document, metres_per_unit: float) -> _Nodes:
    from scipy.spatial.transform import Rotation

    tables = document.tables["nodes"]
    parents = [-1] * len(tables)
    for number, table in enumerate(tables):
        for child in table.get("children", ()):
            parents[child] = number
    order: list[int] = []
    while len(order) < len(tables):
        ready = [n for n, parent in enumerate(parents) if n not in order and (parent < 0 or parent in order)]
        if not ready:
            raise RulesError(document.source, ["nodes: some are their own ancestors"])
        order += ready
    places, scales = np.zeros((len(tables), 3)), np.ones((len(tables), 3))
    turns = np.tile([0.0, 0.0, 0.0, 1.0], (len(tables), 1))
    for number, table in enumerate(tables):
        if "matrix" in table:
            matrix = np.array(table["matrix"], float).reshape(4, 4).T
            scales[number] = np.linalg.norm(matrix[:3, :3], axis=0)
            turns[number] = Rotation.from_matrix(matrix[:3, :3] / scales[number]).as_quat()
            places[number] = matrix[:3, 3]
        else:
            places[number] = table.get("translation", places[number])
            turns[number] = table.get("rotation", turns[number])
            scales[number] = table.get("scale", scales[number])
    joints = tuple(document.tables["skins"][0]["joints"])
    return _Nodes(tuple(order), tuple(parents), joints, places, turns, scales, metres_per_unit)
