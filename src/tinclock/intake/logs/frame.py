"""From the logs' units and axes to ours: metres, seconds, z up, bodies that face +x, quaternions xyzw."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.errors import MissingExtraError
from tinclock.intake.logs.mapping import METRES, SECONDS, handed

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.intake.logs.mapping import Axes, LogMap

    Floats = NDArray[np.float64]


class LogFrame:
    """Units and axes of a mapping, as arithmetic.

    With M the matrix that takes their world's axes to ours and B that of their bodies' axes to ours, a rotation R
    of theirs is M R B^T of ours. Both mirror where their axes are left-handed, so the product never does.
    """

    def __init__(self, mapping: LogMap) -> None:
        units, axes = mapping.units, mapping.axes
        self.metres = units.length if isinstance(units.length, float) else METRES[units.length]
        self.seconds = SECONDS.get(units.time)
        """Per unit of time; None: ISO 8601 texts."""
        self._angle = np.pi / 180.0 if units.angle == "deg" else 1.0
        self._world, body = _matrix(axes.world), axes.body or axes.world
        self._mirror = float(handed(axes.world))
        self._last = _rotation(self._world @ _matrix(body).T)
        self._looks = _matrix((axes.ahead, axes.quarter, axes.raised))
        self._order = [0, 1, 2, 3] if axes.quaternion == "xyzw" else [1, 2, 3, 0]

    def places(self, theirs: Floats) -> Floats:
        """Places (n, 3), metres."""
        with np.errstate(invalid="ignore", over="ignore"):  # what isn't finite is told where it is read
            return theirs @ self._world.T * self.metres

    def directions(self, theirs: Floats) -> Floats:
        """Unit directions (n, 3); NaN where there is none."""
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            ours = theirs @ self._world.T
            unit: Floats = ours / np.linalg.norm(ours, axis=1, keepdims=True)
        return unit

    def aims(self, yaw: Floats, pitch: Floats | None) -> Floats:
        """Return the directions of gazes at these angles: unit vectors (n, 3)."""
        yaw = yaw * self._angle
        up = np.zeros_like(yaw) if pitch is None else pitch * self._angle
        with np.errstate(invalid="ignore"):
            told = np.stack([np.cos(up) * np.cos(yaw), np.cos(up) * np.sin(yaw), np.sin(up)], axis=1)
        return self.directions(told @ self._looks)

    def turns(self, theirs: Floats) -> Floats:
        """Quaternions (n, 4) xyzw, unit; NaN where there is none."""
        q = theirs[:, self._order]
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            q = q / np.linalg.norm(q, axis=1, keepdims=True)
        # R' = M R M^T has the axis det(M) M v and the same angle
        return times(np.hstack([self._mirror * q[:, :3] @ self._world.T, q[:, 3:]]), self._last)

    def facing(self, yaw: Floats) -> Floats:
        """Upright bodies that face a yaw: quaternions (n, 4) xyzw."""
        ahead = self.aims(yaw, None)
        half = 0.5 * np.arctan2(ahead[:, 1], ahead[:, 0])
        zero = np.zeros_like(half)
        return np.stack([zero, zero, np.sin(half), np.cos(half)], axis=1)

    def raised(self, yaw: Floats, pitch: Floats) -> Floats:
        """Return rotations of an eye from its body's level to a pitch, in the body's frame: quaternions (n, 4) xyzw."""
        half = -0.5 * np.arcsin(np.clip(self.aims(yaw, pitch)[:, 2], -1.0, 1.0))  # +y is left: up is a turn backwards
        zero = np.zeros_like(half)
        return np.stack([zero, np.sin(half), zero, np.cos(half)], axis=1)


def times(a: Floats, b: Floats) -> Floats:
    """Products of quaternions xyzw (n, 4) and (n, 4) or (4,): first b, then a."""
    u, v = a[:, :3], np.broadcast_to(b[..., :3], a[:, :3].shape)
    w, s = a[:, 3:], np.broadcast_to(b[..., 3:], a[:, 3:].shape)
    return np.hstack([w * v + s * u + np.cross(u, v), w * s - (u * v).sum(axis=1, keepdims=True)])


def _matrix(axes: Axes) -> Floats:
    """Rows: our axes in theirs."""
    out = np.zeros((3, 3))
    for row, one in enumerate(axes):
        out[row, "xyz".index(one[-1])] = -1.0 if one.startswith("-") else 1.0
    return out


def _rotation(matrix: Floats) -> Floats:
    try:
        from scipy.spatial.transform import Rotation
    except ImportError:
        raise MissingExtraError("reading logs", "SciPy", "logs") from None
    found: Floats = Rotation.from_matrix(matrix).as_quat()
    return found
