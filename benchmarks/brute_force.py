"""The yardstick without cleverness: every shot against every hitbox, vectorised in NumPy, nothing culled."""

from __future__ import annotations

import numpy as np

import tinclock

CHUNK = 8


def nearest(history: tinclock.PoseHistory, load: object, shots: int) -> np.ndarray:
    """Distance to the nearest hitbox of anybody else for the first `shots` shots of a load; inf for none."""
    rig = history.rigs["gardener"]
    entities, ticks = load.entities, range(36, 64)
    poses = np.array([[history.bones_at(e, tinclock.View(t, t, 0.0)) for e in entities] for t in ticks])
    table, bone = rig.table, rig.bone_of
    out = np.empty(shots)
    for start in range(0, shots, CHUNK):
        s = slice(start, min(start + CHUNK, shots))
        a, b = poses[load.from_ticks[s] - 36], poses[load.to_ticks[s] - 36]
        f = load.fractions[s, None, None, None]
        place = (1 - f) * a[..., :3] + f * b[..., :3]
        turn = _slerp(a[..., 3:], b[..., 3:], f)
        place, turn = place[:, :, bone], turn[:, :, bone]
        centre = place + _turned(turn, table[:, 1:4]) - load.origins[s, None, None]
        axes = [_turned(turn, table[:, 4 + k : 13 : 3]) for k in range(3)]
        distance = _entries(table, centre, axes, load.directions[s, None, None])
        own = np.array(entities)[None] == load.shooters[s, None]
        out[s] = np.where(own[..., None], np.inf, distance).min(axis=(1, 2))
    return out


def _slerp(a: np.ndarray, b: np.ndarray, f: np.ndarray) -> np.ndarray:
    cosine = (a * b).sum(-1, keepdims=True)
    b, cosine = np.where(cosine < 0, -b, b), np.minimum(np.abs(cosine), 1.0)
    angle = np.arccos(cosine)
    sine = np.where(angle < 1e-6, 1.0, np.sin(angle))
    mixed = np.where(
        angle < 1e-6, (1 - f) * a + f * b, np.sin((1 - f) * angle) / sine * a + np.sin(f * angle) / sine * b
    )
    return mixed / np.linalg.norm(mixed, axis=-1, keepdims=True)


def _turned(q: np.ndarray, v: np.ndarray) -> np.ndarray:
    t = 2 * np.cross(q[..., :3], v)
    return v + q[..., 3:] * t + np.cross(q[..., :3], t)


def _entries(table: np.ndarray, centre: np.ndarray, axes: list[np.ndarray], d: np.ndarray) -> np.ndarray:
    kind, half, radius = table[:, 0], np.where(table[:, 0] == 1, table[:, 13], 0.0), table[:, 14]
    radius = np.where(kind == 0, table[:, 13], radius)
    out = np.full(centre.shape[:-1], np.inf)
    for sign in (-1.0, 1.0):  # the end balls, which for a sphere are the sphere
        to = centre + sign * half[:, None] * axes[2]
        along = (to * d).sum(-1)
        spare = radius**2 - (to * to).sum(-1) + along**2
        half_chord = np.sqrt(np.maximum(spare, 0.0))
        met = (spare >= 0) & (along + half_chord >= 0) & (kind != 2)
        out = np.minimum(out, np.where(met, np.maximum(along - half_chord, 0.0), np.inf))
    slope, axial = (axes[2] * d).sum(-1), (-centre * axes[2]).sum(-1)
    w, o = d - slope[..., None] * axes[2], -centre - axial[..., None] * axes[2]
    qa, qb, qc = (w * w).sum(-1), (w * o).sum(-1), (o * o).sum(-1) - radius**2
    disc = qb * qb - qa * qc
    t = (-qb - np.sqrt(np.maximum(disc, 0.0))) / np.where(qa > 0, qa, 1.0)
    beside = (disc >= 0) & (t >= 0) & (np.abs(axial + t * slope) <= half) & (kind == 1)
    out = np.minimum(out, np.where(beside, t, np.inf))
    out = np.where((kind == 1) & (qc <= 0) & (np.abs(axial) <= half), 0.0, out)
    low, high = np.full(out.shape, -np.inf), np.full(out.shape, np.inf)
    for k in range(3):
        along, start = (axes[k] * d).sum(-1), (-centre * axes[k]).sum(-1)
        along = np.where(along == 0.0, 1e-300, along)
        t1, t2 = (-table[:, 13 + k] - start) / along, (table[:, 13 + k] - start) / along
        low, high = np.maximum(low, np.minimum(t1, t2)), np.minimum(high, np.maximum(t1, t2))
    return np.minimum(out, np.where((kind == 2) & (low <= high) & (high >= 0), np.maximum(low, 0.0), np.inf))
