"""Second opinions that share no code with the package: distance fields, SciPy searches and SciPy rotations."""

from __future__ import annotations

import numpy as np
from scipy.optimize import brentq, minimize_scalar
from scipy.spatial.transform import Rotation, Slerp

SHAPES = ("sphere", "capsule", "box")


def distance_field(shape: str, local: np.ndarray, size: np.ndarray) -> float:
    """Signed distance of a point, in the shape's own frame (a capsule lies along z)."""
    if shape == "sphere":
        return float(np.linalg.norm(local) - size[0])
    if shape == "capsule":
        nearest = np.array([0.0, 0.0, np.clip(local[2], -size[0], size[0])])
        return float(np.linalg.norm(local - nearest) - size[1])
    if shape == "triangle":
        return _from_triangle(local, size)
    out = np.abs(local) - size
    return float(np.linalg.norm(np.maximum(out, 0.0)) + min(out.max(), 0.0))


def _from_triangle(point: np.ndarray, corners: np.ndarray) -> float:
    """Distance from a triangle: its plane where the foot lies inside, else the nearest edge."""
    a, b, c = corners
    normal = np.cross(b - a, c - a)
    foot = point - normal * (normal @ (point - a)) / (normal @ normal)
    calibration = np.linalg.lstsq(np.vstack([corners.T, np.ones(3)]), np.append(foot, 1.0), rcond=None)[0]
    if calibration.min() >= 0.0:
        return float(np.linalg.norm(point - foot))
    ends = ((a, b), (b, c), (c, a))
    return min(
        float(np.linalg.norm(point - p - np.clip((point - p) @ (q - p) / ((q - p) @ (q - p)), 0, 1) * (q - p)))
        for p, q in ends
    )


def first_contact(
    shape: str, local: np.ndarray, way: np.ndarray, size: np.ndarray, radius: float = 0.0
) -> tuple[float, float]:
    """(distance at which a ray, or a ball of some radius, enters, inf for a miss; least signed distance along it).

    The shapes are convex, so the distance along a ray falls to one least value and rises again: a bounded search finds
    it, and a root finder the entry before it.
    """

    def gap(t: float) -> float:
        return distance_field(shape, local + t * way, size) - radius

    if gap(0.0) <= 0.0:
        return 0.0, gap(0.0)
    far = float(np.linalg.norm(local)) + float(np.abs(size).sum()) + 1.0
    centre = size.mean(axis=0) if shape == "triangle" else np.zeros(3)
    middle = float(np.clip((centre - local) @ way, 0.0, far))
    low = minimize_scalar(gap, bounds=(max(0.0, middle - 8.0), middle + 8.0), method="bounded", options={"xatol": 1e-9})
    t, least = (low.x, low.fun) if low.fun < gap(middle) else (middle, gap(middle))
    if least > 0.0:
        return np.inf, least
    return float(brentq(gap, 0.0, t, xtol=1e-12)), least


def between(a: np.ndarray, b: np.ndarray, fraction: float) -> np.ndarray:
    """Bones (n, 7) between two poses: straight lines and SciPy's spherical interpolation."""
    out = (1 - fraction) * a + fraction * b
    for row in range(len(a)):
        turn = Slerp([0.0, 1.0], Rotation.from_quat([a[row, 3:], b[row, 3:]]))
        out[row, 3:] = turn(fraction).as_quat()
    return out


def random_bones(rng: np.random.Generator, count: int, near: np.ndarray, spread: float) -> np.ndarray:
    """Random places around a point, random rotations."""
    return np.hstack([near + rng.uniform(-spread, spread, (count, 3)), Rotation.random(count, rng=rng).as_quat()])


def _fields(shape: str, local: np.ndarray, size: np.ndarray) -> np.ndarray:
    """`distance_field` of many points (n, 3)."""
    if shape == "sphere":
        return np.linalg.norm(local, axis=1) - size[0]
    if shape == "capsule":
        nearest = np.zeros_like(local)
        nearest[:, 2] = np.clip(local[:, 2], -size[0], size[0])
        return np.linalg.norm(local - nearest, axis=1) - size[1]
    out = np.abs(local) - size
    return np.linalg.norm(np.maximum(out, 0.0), axis=1) + np.minimum(out.max(axis=1), 0.0)


def many_contacts(shape: str, local: np.ndarray, way: np.ndarray, size: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """`first_contact` of many rays (n, 3) that start outside: golden-section search, then bisection, all at once."""

    def gap(t: np.ndarray) -> np.ndarray:
        return _fields(shape, local + t[:, None] * way, size)

    middle = -(local * way).sum(axis=1)
    low, high = np.maximum(middle - 2.0, 0.0), np.maximum(middle + 2.0, 0.0)
    golden = (np.sqrt(5.0) - 1.0) / 2.0
    for _ in range(60):
        a, b = high - golden * (high - low), low + golden * (high - low)
        left = gap(a) < gap(b)
        low, high = np.where(left, low, a), np.where(left, b, high)
    at = (low + high) / 2.0
    least = gap(at)
    near, far = np.zeros(len(at)), at
    for _ in range(60):
        half = (near + far) / 2.0
        inside = gap(half) <= 0.0
        near, far = np.where(inside, near, half), np.where(inside, half, far)
    return np.where(least <= 0.0, far, np.inf), least
