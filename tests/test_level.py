"""The level: first hits, all hits, sight, and meshes that can't be used."""

from __future__ import annotations

import math

import numpy as np
import pytest

import tinclock
from tinclock.errors import BadArrayError, BadNumberError, MeshError


def soup(rng: np.random.Generator, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Random triangles in a 20 m cube."""
    corners = rng.uniform(-10, 10, (count, 1, 3)) + rng.normal(0.0, 0.8, (count, 3, 3))
    return corners.reshape(-1, 3), np.arange(3 * count).reshape(-1, 3)


def crossings(points: np.ndarray, faces: np.ndarray, origin: np.ndarray, way: np.ndarray) -> np.ndarray:
    """Distances at which a ray crosses each triangle, by one linear solve a triangle; inf where it doesn't."""
    a, b, c = points[faces[:, 0]], points[faces[:, 1]], points[faces[:, 2]]
    matrix = np.stack([b - a, c - a, np.broadcast_to(-way, a.shape)], axis=2)
    u, v, t = np.linalg.solve(matrix, (origin - a)[..., None])[..., 0].T
    return np.where((u >= 0) & (v >= 0) & (u + v <= 1) & (t >= 0), t, np.inf)


@pytest.mark.parametrize("count", [1, 3, 40, 3000])
def test_first_and_all_hits_agree_with_a_linear_solve_of_every_triangle(count):
    """First and all hits agree with a linear solve of every triangle."""
    rng = np.random.default_rng(count)
    points, faces = soup(rng, count)
    level = tinclock.Level(points, faces)
    origins, ways = rng.uniform(-12, 12, (150, 3)), rng.normal(size=(150, 3))
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    many = level.first_many(origins, ways, np.inf)
    for k in range(150):
        wanted = crossings(points, faces, origins[k], ways[k])
        order = np.argsort(wanted)[: np.isfinite(wanted).sum()]
        along = level.all_along(tuple(origins[k]), tuple(ways[k]), 1e9)
        assert [hit.face for hit in along] == order.tolist()
        assert [hit.distance_m for hit in along] == pytest.approx(wanted[order].tolist(), abs=1e-9)
        first = level.first(tuple(origins[k]), tuple(ways[k]), 1e9)
        assert (first.face, first.distance_m) == (along[0].face, along[0].distance_m) if along else first is None
        assert many.face[k] == (along[0].face if along else -1)
        if along:
            assert level.first(tuple(origins[k]), tuple(ways[k]), along[0].distance_m * 0.999) is None


def test_a_level_far_from_the_origin_loses_nothing():
    """A level far from the origin loses nothing."""
    points, faces = soup(np.random.default_rng(4), 200)
    near, far = tinclock.Level(points, faces), tinclock.Level(points + [10_000.0, -10_000.0, 0.0], faces)
    way = tuple(np.array([1.0, 1.0, 0.2]) / np.linalg.norm([1.0, 1.0, 0.2]))
    for y in np.linspace(-14, 4, 60):
        a = near.first((-12.0, float(y), 0.0), way, 100.0)
        b = far.first((9988.0, float(y) - 10_000.0, 0.0), way, 100.0)
        assert (a is None) == (b is None)
        if a and b:
            assert b.distance_m == pytest.approx(a.distance_m, abs=1e-7)


def test_a_ray_from_far_outside_meets_what_it_grazes():
    """From about 20 km away, where float32 is a millimetre coarse, a tenth of a millimetre inside a box's corner."""
    rng = np.random.default_rng(7)
    corner = np.array([1.0, -1.0, 0.0])
    level = tinclock.Level([corner, [1.0, -0.5, 0.5], [0.5, -1.0, -0.5]], [[0, 1, 2]])
    inward = np.array([-0.6, 0.8, 0.0])
    way = np.array([0.8, 0.6, 0.0])
    origins = corner + 1e-4 * inward - rng.uniform(15_000.0, 25_000.0, (400, 1)) * way
    many = level.first_many(origins, np.tile(way, (400, 1)), np.inf)
    assert np.isfinite(many.distance_m).all()
    for origin in origins[:50]:
        assert len(level.all_along(tuple(origin), tuple(way), 30_000.0)) == 1


def test_sight_passes_glass_and_stops_at_brick(level):
    """Sight passes glass and stops at brick."""
    assert level.first((11.0, -7.0, 1.0), (0.0, 1.0, 0.0), 20.0).surface.name == "glass"
    assert level.sees((11.0, -7.0, 1.0), (11.0, -3.0, 1.0))
    assert level.blocker((11.0, -7.0, 1.0), (11.0, 3.0, 1.0)).surface.name == "brick"
    assert level.sees((1.0, 2.0, 1.0), (1.0, 2.0, 1.0))


def test_equal_distances_go_to_the_lower_face_whatever_the_order():
    """Equal distances go to the lower face whatever the order."""
    points = np.array([[0.0, -1, -1], [0, 1, -1], [0, 0, 1]])
    level = tinclock.Level(np.vstack([points, points]), [[0, 1, 2], [3, 4, 5]])
    assert level.first((-1.0, 0.0, 0.0), (1.0, 0.0, 0.0), 9.0).face == 0
    assert [hit.face for hit in level.all_along((-1.0, 0.0, 0.0), (1.0, 0.0, 0.0), 9.0)] == [0, 1]


def test_the_digest_tells_levels_apart(level):
    """The digest tells levels apart."""
    points, faces = soup(np.random.default_rng(1), 5)
    assert tinclock.Level(points, faces).digest == tinclock.Level(points, faces).digest
    assert tinclock.Level(points + 1e-9, faces).digest != tinclock.Level(points, faces).digest


UNUSABLE = {
    "no triangles": (np.zeros((3, 3)), np.zeros((0, 3), int), MeshError, "no triangles"),
    "index out of range": (np.zeros((3, 3)), [[0, 1, 3]], MeshError, r"face 0 is \[0, 1, 3\].*0 to 2"),
    "NaN": (np.full((3, 3), math.nan), [[0, 1, 2]], BadArrayError, "vertices: expected finite numbers"),
    "flat array": (
        np.zeros(9),
        [[0, 1, 2]],
        BadArrayError,
        r"shape \(any, 3\), float64, got shape \(9,\)",
    ),
}


@pytest.mark.parametrize("case", UNUSABLE)
def test_a_mesh_that_cannot_be_used_is_refused_with_what_was_given(case):
    """A mesh that can't be used is refused with what was given."""
    vertices, faces, kind, message = UNUSABLE[case]
    with pytest.raises(kind, match=message):
        tinclock.Level(vertices, faces)


def test_no_ray_passes_where_two_triangles_share_an_edge_or_a_corner():
    """Rays aimed exactly at shared edges and corners of a closed mesh meet it, whichever way they come."""
    rng = np.random.default_rng(5)
    quad = tinclock.Level([[-1, -1, 0.3], [1.3, -0.7, 0.3], [1, 1.1, 0.3], [-0.9, 1, 0.3]], [[0, 1, 2], [0, 2, 3]])
    a, b = quad.vertices[0], quad.vertices[2]
    targets = a + rng.uniform(0.05, 0.95, (50_000, 1)) * (b - a)
    origins = targets + rng.normal(size=(50_000, 3)) * 5.0 + [0.0, 0.0, 9.0]
    assert np.isfinite(quad.first_many(origins, targets - origins, 1e3).distance_m).all()

    points, faces = _ball(3)
    ball = tinclock.Level(points + [3.7, -1.1, 0.9], faces)
    corners = ball.vertices[rng.integers(0, len(points), 40_000)]
    edge = faces[rng.integers(0, len(faces), 40_000)]
    share = rng.uniform(0.0, 1.0, (40_000, 1))
    edges = share * ball.vertices[edge[:, 0]] + (1.0 - share) * ball.vertices[edge[:, 1]]
    for targets in (corners, edges):
        middle = np.tile([3.7, -1.1, 0.9], (40_000, 1)) + rng.uniform(-0.3, 0.3, (40_000, 3))
        assert np.isfinite(ball.first_many(middle, targets - middle, 1e3).distance_m).all()
        assert len(ball.all_along(tuple(middle[0]), tuple(targets[0] - middle[0]), 1e3)) >= 1


def _ball(rounds: int) -> tuple[np.ndarray, np.ndarray]:
    """A closed ball of triangles: an octahedron, each face cut into four a few times."""
    points = [(1.0, 0.0, 0.0), (-1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, -1.0, 0.0), (0.0, 0.0, 1.0), (0.0, 0.0, -1.0)]
    faces = [(0, 2, 4), (2, 1, 4), (1, 3, 4), (3, 0, 4), (2, 0, 5), (1, 2, 5), (3, 1, 5), (0, 3, 5)]
    for _ in range(rounds):
        halves: dict[tuple[int, int], int] = {}

        def half(i: int, j: int, halves=halves) -> int:
            key = (min(i, j), max(i, j))
            if key not in halves:
                middle = np.add(points[i], points[j])
                halves[key] = len(points)
                points.append(tuple(middle / np.linalg.norm(middle)))
            return halves[key]

        cut = []
        for a, b, c in faces:
            ab, bc, ca = half(a, b), half(b, c), half(c, a)
            cut += [(a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca)]
        faces = cut
    return np.array(points), np.array(faces)


@pytest.mark.parametrize("length", [1e-6, 0.4, 1.0009, 7.0, 1e6])
def test_directions_of_any_length_give_distances_in_metres(length):
    """A direction's length changes nothing about a hit: distances are metres, not multiples of it."""
    wall = tinclock.Level([[50, -9, -9], [50, 9, -9], [50, 0, 9]], [[0, 1, 2]])
    way = (length, 0.0, 0.0)
    assert wall.first((0.0, 0.0, 0.0), way, 60.0).distance_m == pytest.approx(50.0, abs=1e-9)
    assert wall.first_many([[0.0, 0.0, 0.0]], [way], 60.0).distance_m[0] == pytest.approx(50.0, abs=1e-9)
    assert wall.all_along((0, 0, 0), way, 60)[0].distance_m == pytest.approx(50.0, abs=1e-9)


def test_a_limit_that_is_no_number_is_an_error_and_not_a_miss():
    """NaN never turns into "nothing was met"."""
    wall = tinclock.Level([[5, -9, -9], [5, 9, -9], [5, 0, 9]], [[0, 1, 2]])
    start, way = (0.0, 0.0, 0.0), (1.0, 0.0, 0.0)
    with pytest.raises(BadNumberError, match="limit_m"):
        wall.all_along(start, way, math.nan)
    with pytest.raises(BadArrayError, match=r"limits_m.*first bad row: 1"):
        wall.first_many([start, start], [way, way], [9.0, math.nan])
