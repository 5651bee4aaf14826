"""Rays against shapes, held against a distance field that is searched by SciPy."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from oracles import SHAPES, distance_field, first_contact

from tinclock.core.kernels import ray_shapes as rays

coordinates = st.floats(-4.0, 4.0)
points = st.tuples(coordinates, coordinates, coordinates)
sizes = st.floats(0.05, 1.5)


def cast(shape: str, local: np.ndarray, way: np.ndarray, size: np.ndarray) -> tuple[float, float]:
    """The kernel, for a shape at rest in its own frame."""
    x, y, z = (float(v) for v in -local)
    if shape == "sphere":
        interval = rays.line_sphere(*way, x, y, z, size[0])
    elif shape == "capsule":
        interval = rays.line_capsule(*way, x, y, z, 0.0, 0.0, 1.0, size[0], size[1])
    else:
        interval = rays.line_box(*local, *way, *size)
    return rays.clamp(*interval)


@pytest.mark.parametrize("shape", SHAPES)
@given(start=points, aim=points, a=sizes, b=sizes, c=sizes)
def test_a_ray_enters_a_shape_where_its_distance_field_first_vanishes(shape, start, aim, a, b, c):
    """A ray enters a shape where its distance field first vanishes."""
    local, size = np.array(start), np.array([a, b, c])
    way = np.array(aim) - local
    if np.linalg.norm(way) < 1e-3:
        way = np.array([1.0, 0.0, 0.0])
    way = way / np.linalg.norm(way)
    expected, least = first_contact(shape, local, way, size)
    enter, leave = cast(shape, local, way, size)
    if abs(least) > 1e-7:
        assert math.isinf(enter) == math.isinf(expected)
    if not math.isinf(enter) and not math.isinf(expected):
        if abs(least) < 1e-6:  # a graze may touch along a stretch: any point of it will do
            assert distance_field(shape, local + enter * way, size) == pytest.approx(0.0, abs=1e-4)
        else:
            assert enter == pytest.approx(expected, abs=1e-7)
        assert leave >= enter


AWKWARD = {
    "touching": ((-3.0, 1.0, 0.0), (1.0, 0.0, 0.0), 3.0),
    "starting inside": ((0.2, 0.0, 0.1), (0.0, 0.0, 1.0), 0.0),
    "starting on the surface, outward": ((1.0, 0.0, 0.0), (1.0, 0.0, 0.0), 0.0),
    "pointing away": ((-3.0, 0.0, 0.0), (-1.0, 0.0, 0.0), math.inf),
    "along the axis": ((0.0, 0.0, -5.0), (0.0, 0.0, 1.0), 4.0),
    "just past": ((-3.0, 1.0 + 1e-9, 0.0), (1.0, 0.0, 0.0), math.inf),
}


@pytest.mark.parametrize("case", AWKWARD)
def test_awkward_rays_meet_the_unit_ball_alike_as_sphere_and_as_capsule_of_no_length(case):
    """Awkward rays meet the unit ball alike as sphere and as capsule of no length."""
    start, way, expected = AWKWARD[case]
    for shape, size in (("sphere", (1.0, 0.0, 0.0)), ("capsule", (0.0, 1.0, 0.0))):
        assert cast(shape, np.array(start), np.array(way), np.array(size))[0] == pytest.approx(expected, abs=1e-12)


def test_a_capsule_along_the_ray_is_entered_at_its_near_end():
    """A capsule along the ray is entered at its near end."""
    enter, leave = cast("capsule", np.array([0.3, 0.0, -9.0]), np.array([0.0, 0.0, 1.0]), np.array([2.0, 0.5, 0.0]))
    assert (enter, leave) == pytest.approx((7.0 - 0.4, 11.0 + 0.4))


@given(start=points, aim=points, a=points, b=points, c=points)
def test_a_triangle_is_hit_where_a_linear_solve_says(start, aim, a, b, c):
    """A triangle is hit where a linear solve says."""
    a, b, c, o = (np.array(p) for p in (a, b, c, start))
    d = np.array(aim) - o
    columns = np.column_stack([b - a, c - a, -d])
    if np.linalg.norm(d) < 1e-3 or abs(np.linalg.det(columns)) < 1e-3:
        return
    u, v, t = np.linalg.solve(columns, o - a)
    length = np.linalg.norm(d)
    edge = min(u, v, 1 - u - v, t)
    distance, facing = rays.ray_triangle(*rays.shear_of(*(d / length)), *o, np.concatenate([a, b, c]))
    if abs(edge) > 1e-6:
        assert math.isinf(distance) == (edge < 0)
    if not math.isinf(distance) and edge > 0:
        assert distance == pytest.approx(t * length, abs=1e-6)
        assert math.copysign(1, facing) == math.copysign(1, d @ np.cross(b - a, c - a))
