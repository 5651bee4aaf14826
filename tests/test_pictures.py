"""What pictures are made of: outlines that hold the shapes they stand for, sections that lie in their plane."""

from __future__ import annotations

import numpy as np
import pytest
from matplotlib.path import Path as Polygon
from scipy.spatial.transform import Rotation

import tinclock
from tinclock.core.geometry.section import cut_level
from tinclock.report.outlines import outlines


def posed(rules: tinclock.Rules, seed: int) -> tuple[np.random.Generator, object]:
    """A gardener whose every bone is turned at random, as hitboxes."""
    from tinclock.core.timeline.hitboxes import pose_hitboxes

    rng = np.random.default_rng(seed)
    rig = tinclock.Rig("g", rules.rigs["gardener"])
    bones = np.hstack([rig.rest, Rotation.random(len(rig.rest), rng=rng).as_quat()])
    return rng, pose_hitboxes(rig, bones, 1, 0.0)


@pytest.mark.parametrize("seed", range(4))
def test_an_outline_is_the_shadow_of_its_shape(rules, seed):
    """Points of the shape fall inside its outline, and its outermost points come close to the outline everywhere."""
    rng, boxes = posed(rules, seed)
    turn = Rotation.random(rng=rng).as_matrix()
    basis, origin = turn[:2], rng.normal(size=3)
    for k, polygon in enumerate(outlines(boxes, basis, origin)):
        ball = rng.normal(size=(4000, 3))
        ball /= np.linalg.norm(ball, axis=1, keepdims=True)
        size = boxes.sizes[k]
        if boxes.shapes[k] == 2:
            local = rng.choice([-1.0, 1.0], (4000, 3)) * size
        elif boxes.shapes[k] == 1:
            local = size[1] * ball + np.sign(ball[:, 2:]) * [0.0, 0.0, size[0]]
        else:
            local = size[0] * ball
        shadow = (boxes.centres[k] + local @ boxes.axes[k].T - origin) @ basis.T
        middle = polygon.mean(axis=0)
        assert Polygon(middle + 1.02 * (polygon - middle)).contains_points(shadow).all()
        for corner in polygon[::4]:
            assert np.linalg.norm(shadow - corner, axis=1).min() < 0.03


def test_a_section_lies_in_its_plane_and_on_the_level(level):
    """A section lies in its plane and on the level."""
    normal = np.array([0.6, 0.8, 0.0])
    cut = cut_level(level, (1.0, 2.0, 0.0), tuple(normal))
    assert len(cut.segments) > 20
    assert np.abs((cut.segments - [1.0, 2.0, 0.0]) @ normal).max() < 1e-9
    names = {level.surfaces[kind].name for kind in cut.kinds}
    assert {"brick", "ground"} <= names
    level_cut = cut_level(level, (0.0, 0.0, 1.0), (0.0, 0.0, 1.0))
    heights = {level.surfaces[kind].name for kind in level_cut.kinds}
    assert "ground" not in heights
    assert "soil" not in heights  # beds are 0.4 m high
