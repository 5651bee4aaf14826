"""The yardstick of compiled ray casting: Embree on a frozen, tessellated copy of the same hitboxes (extra `bench`)."""

from __future__ import annotations

import numpy as np
import trimesh
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

import tinclock


class FrozenScene:
    """All hitboxes of the newest tick as triangles. What moves can't be asked of it: it knows one instant."""

    def __init__(self, history: tinclock.PoseHistory, entities: list[int]) -> None:
        view = tinclock.View(history.newest_tick, history.newest_tick, 0.0)
        meshes = [mesh for e in entities for mesh in _tessellated(history.hitboxes_at(e, view))]
        whole = trimesh.util.concatenate(meshes)
        self.triangles = len(whole.faces)
        self._load(np.asarray(whole.vertices), np.asarray(whole.faces))

    def _load(self, vertices: np.ndarray, faces: np.ndarray) -> None:
        self._scene = EmbreeScene()
        self._mesh = TriangleMesh(self._scene, vertices.astype(np.float32), faces.astype(np.int32))

    @classmethod
    def of_mesh(cls, vertices: np.ndarray, faces: np.ndarray) -> FrozenScene:
        """A scene of any triangles."""
        scene = cls.__new__(cls)
        scene.triangles = len(faces)
        scene._load(vertices, faces)
        return scene

    def distances(self, origins: np.ndarray, directions: np.ndarray) -> np.ndarray:
        """Distance along each ray, inf-like (1e37) for a miss; float32 arrays (m, 3)."""
        return self._scene.run(origins, directions, output=True)["tfar"]


def _tessellated(boxes: object) -> list[trimesh.Trimesh]:
    out = []
    for shape, centre, axes, size in zip(boxes.shapes, boxes.centres, boxes.axes, boxes.sizes, strict=True):
        if shape == 2:
            mesh = trimesh.creation.box(extents=2 * size)
        elif shape == 1:
            mesh = trimesh.creation.capsule(height=2 * size[0], radius=size[1], count=[16, 16])
            mesh.apply_translation(-mesh.bounds.mean(axis=0))
        else:
            mesh = trimesh.creation.icosphere(subdivisions=2, radius=size[0])
        place = np.eye(4)
        place[:3, :3], place[:3, 3] = axes, centre
        out.append(mesh.apply_transform(place))
    return out
