"""Animation clips of a glTF 2.0 character, as poses that its rig can be put into: walks and jumps for tests.

Interpolation as the format has it (Khronos, glTF 2.0 specification, section 3.11 and appendix C): step, linear (slerp
for rotations) and cubic Hermite splines; before the first and after the last key the value holds. Morphs are passed
over: no hitbox follows them.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.arrays import require_shape
from tinclock.core.errors import RulesError
from tinclock.intake.meshes.gltf_file import Document
from tinclock.intake.meshes.skin_file import FLAT, FORWARD, skin_in

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import ArrayLike, NDArray

    from tinclock.intake.meshes.gltf_file import Animation
    from tinclock.intake.meshes.skin_file import Skin

    Floats = NDArray[np.float64]

_WHAT = {"translation": "VEC3", "rotation": "VEC4", "scale": "VEC3"}


class Channel(NamedTuple):
    """Effect of one clip on one node.

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

        Raises `RulesError` where the clip mirrors a joint or squeezes it flat.

        times : (n,) float64, seconds. `rooted_bones(rig, roots, clip.poses([t])[0])` puts bodies into such a pose.
        """
        from scipy.spatial.transform import Rotation

        at = require_shape("times", times, (None,), np.float64)
        world = self.nodes.world(at, self.channels)
        out = np.empty((len(at), len(self.skin.names), 7))
        for joint, node in enumerate(self.nodes.joints):
            axes = world[:, node, :3, :3]
            lengths = np.linalg.norm(axes, axis=1, keepdims=True)
            axes = axes / np.where(lengths > 0.0, lengths, 1.0)
            if not (np.linalg.det(axes) > FLAT).all():
                problem = f"clip {self.name!r}: mirrors or flattens the joint {self.skin.names[joint]!r}"
                raise RulesError(self.nodes.source, [problem])
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
    source: str

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
    document = Document(Path(path))
    skin, nodes = skin_in(document, metres_per_unit), _nodes(document, metres_per_unit)
    clips = []
    for number, table in enumerate(document.tables.animations):
        channels = tuple(_channels(document, table, f"animations[{number}]"))
        if channels:
            seconds = max(float(channel.times[-1]) for channel in channels)
            clips.append(Clip(table.name or f"clip {number}", seconds, skin, nodes, channels))
    return tuple(clips)


def _channels(document: Document, table: Animation, where: str) -> Iterator[Channel]:
    for channel in table.channels:
        what, node = channel.target.path, channel.target.node
        sampler = document.pick(table.samplers, channel.sampler, f"{where}.channels")
        if what not in _WHAT or node is None:
            continue
        document.pick(document.tables.nodes, node, f"{where}.channels")
        way, kind = sampler.interpolation, _WHAT[what]
        if way not in ("STEP", "LINEAR", "CUBICSPLINE"):
            raise document.fail(where, f"node {node}, interpolation {way!r}: not in glTF 2.0")
        times = document.array(sampler.input, "SCALAR", where)[:, 0].astype(float)
        values = document.array(sampler.output, kind, where).astype(float)
        each = 3 if way == "CUBICSPLINE" else 1
        if not len(times) or (np.diff(times) <= 0.0).any() or len(values) != each * len(times):
            raise document.fail(
                where, f"node {node}: {len(times)} keys, whose times must rise, for {len(values)} values"
            )
        values = values.reshape(len(times), 3, -1) if each == 3 else values
        if what == "rotation" and not (values[:, 1] if each == 3 else values).any(axis=1).all():
            raise document.fail(where, f"node {node}: a rotation is all zeros")
        yield Channel(node, what, way, times, values)


def _nodes(document: Document, metres_per_unit: float) -> _Nodes:
    from scipy.spatial.transform import Rotation

    tables = document.tables.nodes
    parents = [-1] * len(tables)
    for number, node in enumerate(tables):
        for child in node.children:
            parents[child] = number
    order: list[int] = []
    while len(order) < len(tables):
        ready = [n for n, parent in enumerate(parents) if n not in order and (parent < 0 or parent in order)]
        if not ready:
            raise document.fail("nodes", "some are their own ancestors")
        order += ready
    places, scales = np.zeros((len(tables), 3)), np.ones((len(tables), 3))
    turns = np.tile([0.0, 0.0, 0.0, 1.0], (len(tables), 1))
    for number, node in enumerate(tables):
        places[number], turns[number], scales[number] = node.translation, node.rotation, node.scale
        if node.matrix is not None:
            matrix = np.array(node.matrix).reshape(4, 4).T
            scales[number] = np.linalg.norm(matrix[:3, :3], axis=0)
            if not (scales[number].all() and np.linalg.det(matrix[:3, :3] / scales[number]) > FLAT):
                raise document.fail(f"nodes[{number}].matrix", "mirrors or flattens; that isn't read")
            turns[number] = Rotation.from_matrix(matrix[:3, :3] / scales[number]).as_quat()
            places[number] = matrix[:3, 3]
        if not (turns[number].any() and np.isfinite([*places[number], *turns[number], *scales[number]]).all()):
            raise document.fail(f"nodes[{number}]", "a rotation is all zeros, or a number isn't finite")
    joints = tuple(document.tables.skins[0].joints)
    return _Nodes(tuple(order), tuple(parents), joints, places, turns, scales, metres_per_unit, document.source)
