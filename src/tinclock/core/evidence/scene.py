"""Bones of all bodies over a time window, as arrays, for detectors."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.timeline.history import PoseHistory


class Party(NamedTuple):
    """Player of an entity; the server's own entities have no account, and are everybody's enemies.

    delay_s : how far behind the newest snapshot its client draws; key : of its spread
    """

    entity: int
    account: str
    connection: str
    team: str
    delay_s: float
    key: bytes


class Scene(NamedTuple):
    """A stretch of ticks. An absent body is nan.

    times : (t,) float64, seconds, rising
    entities : (e,) int64
    points : (t, e, b, 3) float64, metres
        Origins of bones; bodies with fewer bones than others repeat their last one.
    eyes, ahead : (t, e, 3) float64
        Where each one's eye is, and the unit vector along which it gazes.
    """

    times: NDArray[np.float64]
    entities: NDArray[np.int64]
    points: NDArray[np.float64]
    eyes: NDArray[np.float64]
    ahead: NDArray[np.float64]

    def column_of(self, entities: NDArray[np.int64]) -> NDArray[np.int64]:
        """The column of each entity, -1 for one that isn't here.

        entities : (n,) int64. Returns (n,) int64.
        """
        order = np.argsort(self.entities)
        place = np.minimum(np.searchsorted(self.entities, entities, sorter=order), len(order) - 1)
        found = order[place] if len(order) else np.zeros(len(entities), np.int64)
        return np.where(self.entities[found] == entities, found, -1) if len(order) else np.full(len(entities), -1)

    def bracket(self, at: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """The tick before each time, and how far towards the next; times outside are nan in the latter.

        at : (n,) float64, seconds. Returns (n,) int64, rows of `times`, and (n,) float64, shares.
        """
        row = np.clip(np.searchsorted(self.times, at, side="right") - 1, 0, max(len(self.times) - 2, 0))
        gap = np.maximum(self.times[np.minimum(row + 1, len(self.times) - 1)] - self.times[row], 1e-9)
        share = (at - self.times[row]) / gap
        return row, np.where((share >= -1e-6) & (share <= 1.0 + 1e-6), share, np.nan)

    def between(
        self, values: NDArray[np.float64], at: NDArray[np.float64], columns: NDArray[np.int64] | None = None
    ) -> NDArray[np.float64]:
        """An array of this scene at other times, of one column each or of all; nan where either tick has nothing.

        values : (t, e, ...) float64, in any unit; at : (n,) float64, seconds; columns : (n,) int64.
        """
        row, share = self.bracket(at)
        after = np.minimum(row + 1, len(self.times) - 1)
        a, b = (values[row], values[after]) if columns is None else (values[row, columns], values[after, columns])
        share = share.reshape(-1, *[1] * (a.ndim - 1))
        return a + share * (b - a)


def scene_of(history: PoseHistory, entities: Sequence[int]) -> Scene:
    """The scene of a referee's history: what it still holds of some entities."""
    times, _, ticks = history.ticks()
    bodies = [history.rig_of(entity) for entity in entities]
    bones = max((len(rig.bones) for rig in bodies), default=0)
    flat = np.full((len(ticks), len(entities), bones, 7), np.nan)
    for row, tick in enumerate(ticks.tolist()):
        here = View(tick, tick, 0.0)
        for column, entity in enumerate(entities):
            pose = history.bones_at(entity, here)
            if pose is not None:
                flat[row, column, : len(pose)], flat[row, column, len(pose) :] = pose, pose[-1]
    eye_at = np.array([rig.eye_at for rig in bodies]).reshape(-1, 3)
    eyes = flat[:, np.arange(len(bodies)), [rig.eye_bone for rig in bodies]]
    return scene_from(np.asarray(times, float), np.array(entities, np.int64), flat[..., :3], eyes, eye_at)


def scene_from(
    times: NDArray[np.float64], entities: NDArray[np.int64], points: NDArray[np.float64],
    eye_poses: NDArray[np.float64], eye_at: NDArray[np.float64],
) -> Scene:  # fmt: skip
    """A scene of bones' places (t, e, b, 3) and the eyes' bones (t, e, 7); eye_at (e, 3) is the eye's place on it.

    times : (t,) float64, seconds; entities : (e,) int64; places are metres, turns quaternions xyzw.
    """
    turn = eye_poses[..., 3:] / np.linalg.norm(eye_poses[..., 3:], axis=-1, keepdims=True)
    eyes = eye_poses[..., :3] + _turned(turn, np.broadcast_to(eye_at, turn.shape[:-1] + (3,)))
    ahead = _turned(turn, np.broadcast_to((1.0, 0.0, 0.0), turn.shape[:-1] + (3,)))
    return Scene(times, entities, points, eyes, ahead)


def _turned(q: NDArray[np.float64], v: NDArray[np.float64]) -> NDArray[np.float64]:
    t = 2.0 * np.cross(q[..., :3], v)
    return v + q[..., 3:] * t + np.cross(q[..., :3], t)
