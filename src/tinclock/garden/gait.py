"""Gait of a gardener's body: bone transforms from its position, speed and gaze.

Forward kinematics over the rig's rest pose. Angles turn about the body's own axes (+x ahead, +y left, +z up), so a
positive turn about y swings a hanging limb backward and leans the trunk forward.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.kernels.compiling import njit

if TYPE_CHECKING:
    from numpy.typing import NDArray

PARENTS = {
    "pelvis": "", "abdomen": "pelvis", "chest": "abdomen", "neck": "chest", "head": "neck",
    "left_shoulder": "chest", "left_upper_arm": "left_shoulder", "left_forearm": "left_upper_arm",
    "left_hand": "left_forearm",
    "right_shoulder": "chest", "right_upper_arm": "right_shoulder", "right_forearm": "right_upper_arm",
    "right_hand": "right_forearm",
    "left_thigh": "pelvis", "left_shin": "left_thigh", "left_foot": "left_shin",
    "right_thigh": "pelvis", "right_shin": "right_thigh", "right_foot": "right_shin",
}  # fmt: skip

STRIDE_M = 1.9
"""Ground covered by one full swing of both legs at a run."""
FULL_SPEED = 4.5


class Bodies(NamedTuple):
    """Positions and states of n bodies, arrays of (n,) float64 in metres, seconds and radians.

    yaw : where the body faces; pitch : where the head looks, positive downward; phase : of the stride, radians;
    ahead, aside : speed along the body's own x and y
    lift : metres off the ground; crouch : 0 upright to 1 low; lean : -1 left to 1 right; raised : 1 while throwing
    """

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    yaw: NDArray[np.float64]
    pitch: NDArray[np.float64]
    phase: NDArray[np.float64]
    ahead: NDArray[np.float64]
    aside: NDArray[np.float64]
    lift: NDArray[np.float64] | None = None
    crouch: NDArray[np.float64] | None = None
    lean: NDArray[np.float64] | None = None
    raised: NDArray[np.float64] | None = None


LEG_M = 0.82
"""From hip to ankle, straight."""
KNEE_RAD = 0.95
"""Angle of the hip in a full crouch; the knee bends twice that."""


class Gait:
    """Poses of bodies with one rig. `bones` are the rig's bone names, `rest` (bones, 3) their rest places."""

    def __init__(self, bones: tuple[str, ...], rest: NDArray[np.float64]) -> None:
        self._row = {name: row for row, name in enumerate(bones)}
        parents = np.array([self._row.get(PARENTS[name], -1) for name in bones])
        self._offset = np.where(parents[:, None] >= 0, rest - rest[parents], rest)
        depth = np.zeros(len(bones), np.int64)
        for name in bones:
            at = name
            while PARENTS[at]:
                at, depth[self._row[name]] = PARENTS[at], depth[self._row[name]] + 1
        self._order = np.argsort(depth, kind="stable")[1:]
        self._parents = parents
        self._count = len(bones)

    def bones(self, bodies: Bodies) -> NDArray[np.float64]:
        """(n, bones, 7) float64: xyz and quaternion xyzw of every bone, world frame.

        Lengths are metres.
        """
        n = len(bodies.x)
        turns = self._joint_turns(bodies)
        out = np.empty((n, self._count, 7))
        yaw = np.zeros((n, 4))
        yaw[:, 2], yaw[:, 3] = np.sin(bodies.yaw / 2), np.cos(bodies.yaw / 2)
        effort = np.clip(np.hypot(bodies.ahead, bodies.aside) / FULL_SPEED, 0.0, 1.0)
        root = self._row["pelvis"]
        out[:, root, 0], out[:, root, 1] = bodies.x, bodies.y
        out[:, root, 2] = self._offset[root, 2] - 0.03 * effort + 0.03 * effort * np.cos(2 * bodies.phase)
        if bodies.lift is not None:
            out[:, root, 2] += bodies.lift
        if bodies.crouch is not None:
            out[:, root, 2] -= LEG_M * (1.0 - np.cos(KNEE_RAD * bodies.crouch))
        out[:, root, 3:] = multiply(yaw, turns[:, root])
        _hang(self._order, self._parents, self._offset, turns, out)
        return out

    def _joint_turns(self, bodies: Bodies) -> NDArray[np.float64]:
        """Each bone's own rotation, (n, bones, 4): a pitch about y, a roll about x for side steps, a twist about z."""
        n, row = len(bodies.x), self._row
        pitch, roll, twist = np.zeros((n, self._count)), np.zeros((n, self._count)), np.zeros((n, self._count))
        stride = np.clip(bodies.ahead / FULL_SPEED, -1.0, 1.0)
        step = np.clip(bodies.aside / FULL_SPEED, -1.0, 1.0)
        effort = np.hypot(stride, step)
        wave = np.sin(bodies.phase)
        for side, sign in (("left", 1.0), ("right", -1.0)):
            swing = sign * wave
            lifted = np.clip(np.cos(bodies.phase) * sign, 0.0, 1.0)
            pitch[:, row[f"{side}_thigh"]] = -0.85 * stride * swing - 0.15 * effort
            roll[:, row[f"{side}_thigh"]] = 0.45 * step * swing
            pitch[:, row[f"{side}_shin"]] = 0.25 * effort + 1.1 * effort * lifted
            pitch[:, row[f"{side}_foot"]] = -0.2 * effort * swing
            pitch[:, row[f"{side}_upper_arm"]] = 0.6 * stride * swing - 0.5
            pitch[:, row[f"{side}_forearm"]] = -0.9 - 0.3 * effort
            roll[:, row[f"{side}_upper_arm"]] = 0.12 * sign
        lean = 0.22 * stride
        pitch[:, row["pelvis"]] = 0.3 * lean
        pitch[:, row["abdomen"]] = 0.3 * lean
        pitch[:, row["chest"]] = 0.4 * lean
        pitch[:, row["neck"]] = 0.4 * bodies.pitch - 0.5 * lean
        pitch[:, row["head"]] = 0.6 * bodies.pitch - 0.5 * lean
        twist[:, row["pelvis"]] = -0.15 * stride * wave
        twist[:, row["chest"]] = 0.3 * stride * wave
        twist[:, row["neck"]] = -0.15 * stride * wave
        if bodies.crouch is not None:
            bent = KNEE_RAD * bodies.crouch
            for side in ("left", "right"):
                pitch[:, row[f"{side}_thigh"]] -= bent
                pitch[:, row[f"{side}_shin"]] += 2.0 * bent
                pitch[:, row[f"{side}_foot"]] -= bent
            pitch[:, row["abdomen"]] += 0.25 * bodies.crouch
            pitch[:, row["neck"]] -= 0.2 * bodies.crouch
        if bodies.lean is not None:
            roll[:, row["abdomen"]] += 0.22 * bodies.lean
            roll[:, row["chest"]] += 0.18 * bodies.lean
        if bodies.raised is not None:
            pitch[:, row["right_upper_arm"]] -= 1.7 * bodies.raised
            pitch[:, row["right_forearm"]] += 0.8 * bodies.raised
        return np.asarray(_turned(twist, roll, pitch))


@njit(cache=True)  # type: ignore[untyped-decorator]
def _turned(twist: Any, roll: Any, pitch: Any) -> Any:
    """(n, bones, 4): a turn about y by pitch, then about x by roll, then about z by twist, all (n, bones) radians."""
    out = np.empty((*pitch.shape, 4))
    for i in range(pitch.shape[0]):
        for j in range(pitch.shape[1]):
            a, b, c = twist[i, j] / 2, roll[i, j] / 2, pitch[i, j] / 2
            sa, ca, sb, cb = math.sin(a), math.cos(a), math.sin(b), math.cos(b)
            x, y, z, w = ca * sb, sa * sb, sa * cb, ca * cb
            sc, cc = math.sin(c), math.cos(c)
            out[i, j, 0] = x * cc - z * sc
            out[i, j, 1] = w * sc + y * cc
            out[i, j, 2] = z * cc + x * sc
            out[i, j, 3] = w * cc - y * sc
    return out


@njit(cache=True)  # type: ignore[untyped-decorator]
def _hang(order: Any, parents: Any, offset: Any, turns: Any, out: Any) -> None:
    """Place and turn every bone but the roots by its parent, which `order` names before it. out : (n, bones, 7)"""
    for i in range(out.shape[0]):
        for bone in order:
            px, py, pz, ax, ay, az, aw = out[i, parents[bone]]
            ox, oy, oz = offset[bone]
            tx, ty, tz = 2 * (ay * oz - az * oy), 2 * (az * ox - ax * oz), 2 * (ax * oy - ay * ox)
            bx, by, bz, bw = turns[i, bone]
            here = out[i, bone]
            here[0] = px + ox + aw * tx + ay * tz - az * ty
            here[1] = py + oy + aw * ty + az * tx - ax * tz
            here[2] = pz + oz + aw * tz + ax * ty - ay * tx
            here[3] = aw * bx + ax * bw + ay * bz - az * by
            here[4] = aw * by - ax * bz + ay * bw + az * bx
            here[5] = aw * bz + ax * by - ay * bx + az * bw
            here[6] = aw * bw - ax * bx - ay * by - az * bz


def multiply(a: NDArray[np.float64], b: NDArray[np.float64]) -> NDArray[np.float64]:
    """Quaternion product of (..., 4) arrays, xyzw: turn by b, then by a.

    None has a unit: a, b and the result are (n, 4) float64.
    """
    ax, ay, az, aw = (a[..., k] for k in range(4))
    bx, by, bz, bw = (b[..., k] for k in range(4))
    out = np.empty(np.broadcast_shapes(a.shape, b.shape))
    out[..., 0] = aw * bx + ax * bw + ay * bz - az * by
    out[..., 1] = aw * by - ax * bz + ay * bw + az * bx
    out[..., 2] = aw * bz + ax * by - ay * bx + az * bw
    out[..., 3] = aw * bw - ax * bx - ay * by - az * bz
    return out


def turn(q: NDArray[np.float64], v: NDArray[np.float64]) -> NDArray[np.float64]:
    """Vectors (..., 3) turned by unit quaternions (..., 4).

    The result is (n, 3) float64, in the unit of the vectors.
    """
    u, w = q[..., :3], q[..., 3:]
    t = 2.0 * _cross(u, np.broadcast_to(v, u.shape))
    return np.asarray(v + w * t + _cross(u, t))


def _cross(a: NDArray[np.float64], b: NDArray[np.float64]) -> NDArray[np.float64]:
    out = np.empty(a.shape)  # ten times quicker than np.cross on arrays this small
    out[..., 0] = a[..., 1] * b[..., 2] - a[..., 2] * b[..., 1]
    out[..., 1] = a[..., 2] * b[..., 0] - a[..., 0] * b[..., 2]
    out[..., 2] = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return out
