"""Skeletons and skinned meshes from glTF 2.0: joints, where they lie at rest, and which vertices each one moves.

See the specification (Khronos, glTF 2.0), sections 3.6 and 3.7.3, and `gltf_file` for what is read of it.
"""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tinclock.intake.meshes.gltf_file import Document
from tinclock.intake.meshes.mesh_file import UPRIGHT

FORWARD = np.array([[0.0, 0.0, 1.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
"""glTF has y up and models that face +z; here z is up and bodies face +x, with their left at +y."""


FLAT = 1e-6
"""Axes of unit length with a determinant below this lie in a plane, or nearly."""


class Skin(NamedTuple):
    """A skeleton and its mesh in the pose they were bound in; body frame, metres.

    names : of the joints; parents : (j,) int64, -1 for a root
    rest : (j, 3) float64, where each joint lies; turns : (j, 3, 3) float64, how it is turned then, as the file has it
    vertices : (v, 3) float64; owner : (v,) int64, the joint that moves each vertex most
    unmoved : number of vertices that were left out because all their weights are 0
    """

    names: tuple[str, ...]
    parents: NDArray[np.int64]
    rest: NDArray[np.float64]
    turns: NDArray[np.float64]
    vertices: NDArray[np.float64]
    owner: NDArray[np.int64]
    unmoved: int = 0

    def bones(self, joints: NDArray[np.float64]) -> NDArray[np.float64]:
        """Bones as `Referee.record` takes them, of joints' world matrices in glTF's frame.

        joints : (j, 4, 4) float64, columns are axes, the last one the place; returns (j, 7), xyz and quaternion xyzw

        The world turns as a level's does (x, -z, y), so characters and levels of one game agree. A joint may be turned
        at rest; a bone isn't: it carries what has turned since.
        """
        from scipy.spatial.transform import Rotation

        turned = np.einsum("ab,jbc,jdc->jad", UPRIGHT["y"], joints[:, :3, :3], self.turns)
        places = joints[:, :3, 3] @ UPRIGHT["y"].T
        return np.hstack([places, Rotation.from_matrix(np.einsum("jab,cb->jac", turned, FORWARD)).as_quat()])


def read_skin(path: str | Path, metres_per_unit: float = 1.0) -> Skin:
    """The first skin of a .gltf or .glb file. Raises `RulesError` naming what it lacks."""
    return skin_in(Document(Path(path)), metres_per_unit)


def skin_in(document: Document, metres_per_unit: float) -> Skin:
    """The first skin of a document."""
    tables = document.tables
    if not tables.skins:
        raise document.fail("skins", "none; a rig needs a mesh that is bound to a skeleton")
    skin = tables.skins[0]
    nodes = [document.pick(tables.nodes, node, "skins[0].joints") for node in skin.joints]
    place = {node: k for k, node in enumerate(skin.joints)}
    if len(place) < len(nodes):
        raise document.fail("skins[0].joints", "names a node twice")
    names = tuple(node.name or f"joint {k}" for k, node in enumerate(nodes))
    parents = np.full(len(nodes), -1, np.int64)
    for k, node in enumerate(nodes):
        for child in node.children:
            if child in place:
                parents[place[child]] = k
    bind = _bind(document, skin.inverse_bind_matrices, len(nodes))
    vertices, owner, unmoved = _bound(document, len(nodes))
    turns = bind[:, :3, :3] / np.linalg.norm(bind[:, :3, :3], axis=1, keepdims=True)
    return Skin(
        names, parents, bind[:, :3, 3] @ FORWARD.T * metres_per_unit, turns,
        vertices @ FORWARD.T * metres_per_unit, owner, unmoved,
    )  # fmt: skip


def _bind(document: Document, number: int | None, joints: int) -> NDArray[np.float64]:
    """Pose of each joint when the mesh was bound to it: (j, 4, 4)."""
    where = "skins[0].inverseBindMatrices"
    if number is None:
        return np.tile(np.eye(4), (joints, 1, 1))
    found = document.array(number, "MAT4", where).astype(float)
    if len(found) < joints:
        raise document.fail(where, f"{len(found)} matrices for {joints} joints")
    inverse = found[:joints].reshape(-1, 4, 4).transpose(0, 2, 1)
    lengths = np.linalg.norm(inverse[:, :3, :3], axis=1, keepdims=True)
    axes = inverse[:, :3, :3] / np.where(lengths > 0.0, lengths, 1.0)
    flat = np.flatnonzero((np.linalg.det(axes) < FLAT) | (inverse[:, 3, 3] == 0.0))
    if len(flat):
        raise document.fail(where, f"the matrix of joint {flat[0]} mirrors or flattens; that isn't read")
    return np.linalg.inv(inverse)


def _bound(document: Document, joints: int) -> tuple[NDArray[np.float64], NDArray[np.int64], int]:
    """Return each vertex that the first skin moves, the joint that moves it most, and the number that nothing moves."""
    places, owners, unmoved = [], [], 0
    for number, node in enumerate(document.tables.nodes):
        if node.skin != 0 or node.mesh is None:
            continue
        mesh = document.pick(document.tables.meshes, node.mesh, f"nodes[{number}].mesh")
        for k, primitive in enumerate(mesh.primitives):
            named, where = primitive.attributes, f"meshes[{node.mesh}].primitives[{k}].attributes"
            if not {"POSITION", "JOINTS_0", "WEIGHTS_0"} <= named.keys():
                continue
            points = document.array(named["POSITION"], "VEC3", where).astype(float)
            moved = document.array(named["JOINTS_0"], "VEC4", where)
            weights = document.array(named["WEIGHTS_0"], "VEC4", where).astype(float)
            if not len(points) == len(moved) == len(weights):
                raise document.fail(where, f"{len(points)} places, {len(moved)} joints, {len(weights)} weights")
            owner = moved[np.arange(len(moved)), weights.argmax(1)].astype(np.int64)
            if len(owner) and not 0 <= owner.min() <= owner.max() < joints:
                raise document.fail(where, f"JOINTS_0 names joint {owner.max()}, but there are {joints}")
            moving = weights.max(1, initial=0.0) > 0.0
            places.append(points[moving])
            owners.append(owner[moving])
            unmoved += int((~moving).sum())
    if unmoved and not sum(map(len, places)):
        raise document.fail(
            "meshes", f"all WEIGHTS_0 of the first skin are 0: no joint moves any of {unmoved} vertices"
        )
    if not sum(map(len, places)):
        problem = "no vertices with POSITION, JOINTS_0 and WEIGHTS_0 belong to the first skin"
        raise document.fail("meshes", problem)
    return np.concatenate(places), np.concatenate(owners), unmoved
