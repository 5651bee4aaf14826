"""Parts of the library used alone: without a rules file, a weapon, a referee or a file on disk."""

from __future__ import annotations

import math

import numpy as np
import pytest
import trimesh

import tinclock
from tinclock.errors import BadNumberError, RulesError
from tinclock.meshes import RigRules, mesh_level
from tinclock.types import BoneRules, Motion, MountRules, PartRules


def body(*, rest_rotation=(0.0, 0.0, 0.0, 1.0), centre=(0.0, 0.2, 0.0)):
    bones = [
        BoneRules(name="hips", rest=(0.0, 0.0, 1.0)),
        BoneRules(name="thigh", rest=(0.0, 0.09, 0.9), rest_rotation=rest_rotation),
    ]
    belly = PartRules(name="belly", bone="hips", zone="body", shape="sphere", radius_m=0.2)
    thigh = PartRules(
        name="left_thigh", bone="thigh", zone="limb", shape="sphere", side="left", radius_m=0.1, centre=centre
    )
    return tinclock.Rig("walker", RigRules(bones=bones, parts=[belly, thigh], eye=MountRules(bone="hips")))


def test_a_bone_that_is_turned_at_rest_may_carry_the_limb_of_its_own_side():
    """A robot's left thigh whose bone has -y pointing down lies on the left, and stands where it should in poses."""
    down = (math.sqrt(0.5), 0.0, 0.0, math.sqrt(0.5))  # a quarter turn about x: its y points up
    rig = body(rest_rotation=down, centre=(0.0, -0.2, 0.0))
    with pytest.raises(RulesError, match=r"lies 0\.110 m to its right"):
        body(centre=(0.0, -0.2, 0.0))
    with pytest.raises(RulesError, match=r"bones \(thigh\).rest_rotation: must be a unit quaternion"):
        body(rest_rotation=(0.0, 0.0, 0.0, 2.0))
    history = tinclock.PoseHistory({"walker": rig}, tick_rate_hz=64, history_s=1.0)
    history.add(1, "walker")
    history.record(0, 0.0, [1], tinclock.rooted_bones(rig, [[5.0, 0.0, 0.0, 0, 0, 0, 1.0]]))
    thigh = history.hitboxes_at(1, tinclock.View(0, 0, 0.0)).centres[1]
    assert thigh == pytest.approx([5.0, 0.09, 0.7], abs=1e-4)


def test_a_history_a_sweep_and_a_level_from_bytes_need_nothing_else():
    """A ball rolled at a moving body meets it where both are at that instant; a wall from bytes of a mesh stops it."""
    rig = body()
    history = tinclock.PoseHistory({"walker": rig}, tick_rate_hz=64, history_s=1.0)
    history.add(7, "walker")
    for tick in range(33):  # it walks towards -y at 4 m/s, and is at y = 0 half a second in
        root = [[6.0, 2.0 - 4.0 * tick / 64, 0.0, 0, 0, 0, 1.0]]
        history.record(tick, tick / 64, [7], tinclock.rooted_bones(rig, root))
    ball, start, along = Motion(radius_m=0.1, gravity_m_s2=0.0), (0.0, 0.0, 1.0), (12.0, 0.0, 0.0)
    met = tinclock.first_contact(history, ball, 0.0, start, along, 0.5)
    apart = math.hypot(6.0 - met.position[0], 2.0 - 4.0 * met.server_time)
    assert (met.entity, met.part) == (7, "belly")
    assert apart == pytest.approx(0.3, abs=1e-3)  # the two radii
    assert tinclock.first_contact(history, ball, 0.0, start, along, 0.5, ignore=7) is None
    moved = trimesh.transformations.translation_matrix((3, 0, 0))
    wall = trimesh.creation.box(extents=(0.2, 4.0, 4.0), transform=moved)
    level = mesh_level(wall.export(file_type="glb"), up="z", surfaces=[tinclock.types.Surface("hull")])
    stopped = tinclock.first_contact(history, ball, 0.0, start, along, 0.5, level=level)
    assert (stopped.entity, stopped.surface) == (0, "hull")
    assert stopped.position == pytest.approx((2.8, 0.0, 1.0), abs=1e-3)
    assert level.first(start, (1.0, 0.0, 0.0), 9.0).distance_m == pytest.approx(2.9)
    with pytest.raises(BadNumberError, match="velocity: expected three finite numbers"):
        tinclock.first_contact(history, ball, 0.0, start, (math.nan, 0.0, 0.0), 0.5)
    assert np.isfinite(level.vertices).all()
