"""Poses from a root transform and a fixed pose, for bodies whose limbs don't move: simple games, 2-D games, doors."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.arrays import check_finite, require_shape

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    from tinclock.core.geometry.rig import Rig


def rooted_bones(rig: Rig, roots: ArrayLike, pose: ArrayLike | None = None) -> NDArray[np.float64]:
    """The bones of n bodies that stand in one pose, ready for `record`: (n, bones, 7) float64, world frame.

    roots : (n, 7) float64, metres
        xyz + quaternion xyzw of each body's frame. The length of the quaternion doesn't matter; `record` checks it.
    pose : (bones, 7) float64, metres, body frame
        By default the rig's rest pose.
    """
    frame = require_shape("roots", roots, (None, 7), np.float64)
    check_finite("roots", frame)
    if pose is None:
        still = np.hstack([rig.rest, rig.rest_rotations])
    else:
        still = require_shape("pose", pose, (len(rig.bones), 7), np.float64)
        check_finite("pose", still)
    u, w = frame[:, None, 3:6], frame[:, None, 6:]
    place, v, s = still[None, :, :3], still[None, :, 3:6], still[None, :, 6:]
    turned = 2.0 * np.cross(u, place)
    out = np.empty((len(frame), len(rig.bones), 7))
    out[..., :3] = frame[:, None, :3] + place + w * turned + np.cross(u, turned)
    out[..., 3:6] = w * v + s * u + np.cross(u, v)
    out[..., 6:] = w * s - (u * v).sum(axis=-1, keepdims=True)
    return out
