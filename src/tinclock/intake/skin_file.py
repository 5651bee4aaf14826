"""Skeletons and skinned meshes from glTF 2.0: joints, where they lie at rest, and which vertices each one moves.

Of the format (Khronos, glTF 2.0 specification, sections 3.6 and 3.7.3) what a skin needs is read: accessors of any
component type, with strides and normalised weights, in buffers inside the file, beside it, or written into it as text.
Sparse accessors and compressed meshes are refused.
"""

from __future__ import annotations

import base64
import struct
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from tinclock.core.errors import RulesError
from tinclock.intake.mesh_file import UPRIGHT

FORWARD = np.array([[0.0, 0.0, 1.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
"""glTF has y up and models that face +z; here z is up and bodies face +x, with their left at +y."""
_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}


class Skin(NamedTuple):
    """A skeleton and its mesh in the pose they were bound in; body frame, metres.

    names : of the joints; parents : (j,) int64, -1 for a root
    rest : (j, 3) float64, where each joint lies; turns : (j, 3, 3) float64, how it is turned then, as the file has it
    vertices : (v, 3) float64; owner : (v,) int64, the joint that moves each vertex most
    """

    names: tuple[str, ...]
    parents: NDArray[np.int64]
    rest: NDArray[np.float64]
    turns: NDArray[np.float64]
    vertices: NDArray[np.float64]
    owner: NDArray[np.int64]

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
    document = Document(Path(path))
    skins = document.tables.get("skins") or []
    if not skins:
        raise RulesError(str(path), ["skins: none; a rig needs a mesh that is bound to a skeleton"])
    joints = skins[0]["joints"]
    place = {node: k for k, node in enumerate(joints)}
    nodes = document.tables["nodes"]
    names = tuple(str(nodes[node].get("name") or f"joint {k}") for k, node in enumerate(joints))
    parents = np.full(len(joints), -1, np.int64)
    for node in joints:
        for child in nodes[node].get("children", ()):
            if child in place:
                parents[place[child]] = place[node]
    bind = np.tile(np.eye(4), (len(joints), 1, 1))
    if "inverseBindMatrices" in skins[0]:
        bind = np.linalg.inv(document.array(skins[0]["inverseBindMatrices"]).reshape(-1, 4, 4).transpose(0, 2, 1))
    vertices, owner = _bound(document, nodes)
    turns = bind[:, :3, :3] / np.linalg.norm(bind[:, :3, :3], axis=1, keepdims=True)
    return Skin(
        names, parents, bind[:, :3, 3] @ FORWARD.T * metres_per_unit, turns,
        vertices @ FORWARD.T * metres_per_unit, owner,
    )  # fmt: skip


def _bound(document: Document, nodes: list[dict[str, Any]]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Every vertex of the meshes that the first skin moves, and the joint that moves it most."""
    places, owners = [], []
    for node in nodes:
        if node.get("skin") != 0 or "mesh" not in node:
            continue
        for primitive in document.tables["meshes"][node["mesh"]]["primitives"]:
            named = primitive["attributes"]
            if not {"POSITION", "JOINTS_0", "WEIGHTS_0"} <= named.keys():
                continue
            places.append(document.array(named["POSITION"]).astype(float))
            joints, weights = document.array(named["JOINTS_0"]), document.array(named["WEIGHTS_0"]).astype(float)
            owners.append(joints[np.arange(len(joints)), weights.argmax(1)].astype(np.int64))
    if not places:
        problem = "meshes: no vertices with POSITION, JOINTS_0 and WEIGHTS_0 belong to the first skin"
        raise RulesError(document.source, [problem])
    return np.concatenate(places), np.concatenate(owners)


class Document:
    """A glTF file's tables and buffers."""

    def __init__(self, path: Path) -> None:
        self.source, self._folder = str(path), path.parent
        try:
            data = path.read_bytes()
        except OSError as error:
            raise RulesError(self.source, [f"can't be read: {error.strerror}"]) from None
        self._inside = b""
        try:
            text = data
            if data[:4] == b"glTF":
                (length,) = struct.unpack_from("<I", data, 12)
                text, rest = data[20 : 20 + length], data[20 + length :]
                self._inside = rest[8 : 8 + struct.unpack_from("<I", rest, 0)[0]] if len(rest) >= 8 else b""
            self.tables: dict[str, Any] = msgspec.json.decode(text, type=dict[str, Any])
        except (struct.error, msgspec.DecodeError, RecursionError) as error:
            raise RulesError(self.source, [f"is no glTF 2.0 file: {error}"]) from None
        self._buffers: dict[int, bytes] = {}

    def _buffer(self, number: int) -> bytes:
        if number not in self._buffers:
            uri = self.tables["buffers"][number].get("uri")
            if uri is None:
                self._buffers[number] = self._inside
            elif uri.startswith("data:"):
                self._buffers[number] = base64.b64decode(uri.partition(",")[2])
            else:
                file = (self._folder / uri).resolve()
                if self._folder.resolve() not in file.parents:
                    raise RulesError(self.source, [f"buffers[{number}].uri: {uri!r} leads out of the folder"])
                self._buffers[number] = file.read_bytes()
        return self._buffers[number]

    def array(self, number: int) -> NDArray[Any]:
        """An accessor as (count, width); raises `RulesError` for what isn't read here or doesn't fit."""
        try:
            accessor = self.tables["accessors"][number]
            if "sparse" in accessor or "bufferView" not in accessor:
                raise RulesError(self.source, [f"accessors[{number}]: sparse or compressed ones aren't read"])
            view = self.tables["bufferViews"][accessor["bufferView"]]
            kind, width = np.dtype(_TYPES[accessor["componentType"]]), _WIDTHS[accessor["type"]]
            start = view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
            step = view.get("byteStride") or kind.itemsize * width
            data = np.ndarray(
                (accessor["count"], width), kind, self._buffer(view["buffer"]), start, (step, kind.itemsize)
            )
        except (KeyError, IndexError, TypeError, ValueError, OSError) as error:
            told = f"accessors[{number}]: can't be read: {type(error).__name__}: {error}"
            raise RulesError(self.source, [told]) from None
        if accessor.get("normalized"):
            return data.astype(float) / np.iinfo(kind).max
        return data.copy()
