"""Reading the history back: one entity's hitboxes at a view, as arrays (`hitboxes_frame` makes a pandas frame)."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig


class Hitboxes(NamedTuple):
    """One entity's hitboxes at a view, world frame, metres; one row a part, in the rig's order.

    shapes : (parts,) int64, see `Shape`
    centres : (parts, 3) float64
    axes : (parts, 3, 3) float64
        The columns are each shape's own x, y and z axis; a capsule lies along z.
    sizes : (parts, 3) float64
        Sphere: radius, 0, 0. Capsule: half length, radius, 0. Box: half sizes.
    """

    entity: int
    rig: str
    server_time: float
    parts: tuple[str, ...]
    zones: tuple[str, ...]
    sides: tuple[str, ...]
    shapes: NDArray[np.int64]
    centres: NDArray[np.float64]
    axes: NDArray[np.float64]
    sizes: NDArray[np.float64]


def pose_hitboxes(rig: Rig, bones: NDArray[np.float64], entity: int, server_time: float) -> Hitboxes:
    """Hitboxes of a rig in a pose: bones (bones, 7), metres, xyz + unit quaternion xyzw."""
    held = bones[rig.bone_of]
    frames = quaternion_matrices(held[:, 3:])
    table = rig.table
    return Hitboxes(
        entity,
        rig.name,
        server_time,
        tuple(part.name for part in rig.parts),
        tuple(part.zone for part in rig.parts),
        tuple(part.side for part in rig.parts),
        table[:, 0].astype(np.int64),
        held[:, :3] + np.einsum("pij,pj->pi", frames, table[:, 1:4]),
        frames @ table[:, 4:13].reshape(-1, 3, 3),
        table[:, 13:16].copy(),
    )


def quaternion_matrices(q: NDArray[np.float64]) -> NDArray[np.float64]:
    """Rotation matrices (n, 3, 3) of quaternions xyzw (n, 4), which needn't be of unit length."""
    x, y, z, w = (q / np.linalg.norm(q, axis=1, keepdims=True)).T
    out = np.empty((len(q), 3, 3))
    out[:, 0, 0], out[:, 0, 1], out[:, 0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
    out[:, 1, 0], out[:, 1, 1], out[:, 1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
    out[:, 2, 0], out[:, 2, 1], out[:, 2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)
    return out
