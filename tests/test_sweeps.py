"""Balls that sweep, shots that pass through, cover that moves, and levels kept on disk."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from conftest import Range
from hypothesis import given
from hypothesis import strategies as st
from oracles import first_contact
from scipy.spatial.transform import Rotation

import tinclock
from tinclock.core.kernels import ray_shapes as rays
from tinclock.core.kernels import sweep_shapes as sweeps
from tinclock.core.rules.rigs import BoneRules, MountRules, PartRules, RigRules
from tinclock.core.timeline.cover import Span, reach_of, solid_spans
from tinclock.errors import BadArrayError, BadNumberError, MeshError, UnknownNameError

number = st.floats(-4.0, 4.0)
triple = st.tuples(number, number, number)
size = st.floats(0.05, 1.5)


def unit(vector: np.ndarray) -> np.ndarray:
    length = np.linalg.norm(vector)
    return vector / length if length > 1e-3 else np.array([1.0, 0.0, 0.0])


def agree(found: tuple[float, float], expected: float, least: float) -> None:
    enter, leave = rays.clamp(*found)
    if abs(least) > 1e-6:
        assert math.isinf(enter) == math.isinf(expected)
    if not math.isinf(enter) and not math.isinf(expected):
        assert enter == pytest.approx(expected, abs=1e-3 if abs(least) < 1e-5 else 1e-6)
        assert leave >= enter


@given(triple, triple, st.tuples(size, size, size), st.floats(0.01, 0.8))
def test_a_ball_meets_a_box_where_the_distance_to_the_box_first_equals_its_radius(start, aim, half, radius):
    """A ball meets a box where the distance to the box first equals its radius."""
    local, way = np.array(start), unit(np.array(aim) - np.array(start))
    expected, least = first_contact("box", local, way, np.array(half), radius)
    agree(sweeps.line_round_box(*local, *way, *half, radius), expected, least)


@given(triple, triple, triple, triple, triple, st.floats(0.01, 0.8))
def test_a_ball_meets_a_triangle_where_the_distance_to_it_first_equals_its_radius(start, aim, a, b, c, radius):
    """A ball meets a triangle where the distance to it first equals its radius."""
    o = np.array(start)
    way, corners = unit(np.array(aim) - o), np.array([a, b, c])
    edges = np.linalg.norm(corners - np.roll(corners, 1, axis=0), axis=1)
    if 0.0 < edges.min() < 1e-3 or np.linalg.norm(np.cross(corners[1] - corners[0], corners[2] - corners[0])) < 1e-2:
        return
    expected, least = first_contact("triangle", o, way, corners, radius)
    a_, e, f = corners[0] - o, corners[1] - corners[0], corners[2] - corners[0]
    agree(sweeps.line_round_triangle(tuple(way), tuple(a_), tuple(e), tuple(f), radius), expected, least)


def test_a_triangle_without_area_is_swept_as_its_edges_and_a_point_as_a_ball():
    """A triangle without area is swept as its edges and a point as a ball."""
    point = (3.0, 0.5, 0.0)
    enter, leave = sweeps.line_round_triangle((1.0, 0.0, 0.0), tuple(point), (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), 1.0)
    assert (enter, leave) == pytest.approx((3 - math.sqrt(0.75), 3 + math.sqrt(0.75)))


@pytest.mark.parametrize("radius", [0.0, 0.2, 0.7])
def test_a_ball_through_the_history_and_the_level_grows_what_it_meets(shooting, level, radius):
    """A ball through the history and the level grows what it meets."""
    eye, view = shooting.referee.history.eye_now(shooting.shooter), tinclock.View(20, 20, 0.0)
    head = shooting.referee.history.bones_at(shooting.runner, view)[4, :3]
    aside = np.array(head) + [0.0, 0.0, 0.115 + radius * 0.98]
    hit = shooting.referee.history.nearest(eye, tuple(aside - eye), view, ignore=shooting.shooter, radius_m=radius)
    assert hit is not None
    assert hit.part.name == "head"
    wall = level.first((0.0, 5.0, 1.0), (0.0, -1.0, 0.0), 20.0, radius)
    assert wall.distance_m == pytest.approx(4.8 - radius)
    with pytest.raises(BadNumberError, match="radius_m: expected a finite number of at least 0, got -1"):
        level.first((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), 1.0, -1)


GLASS, HEDGE = tinclock.types.Surface("glass", False, 500.0), tinclock.types.Surface("hedge", True, 10.0)


def panes(thick: float, at: tuple[float, ...] = (-4.0,), surface: tinclock.types.Surface = GLASS) -> tinclock.Level:
    return tinclock.Level.from_boxes(
        [[x, 3.0, 1.0] for x in at], [[thick / 2, 4.0, 1.5]] * len(at), surfaces=[surface]
    )  # fmt: skip


def with_penetration(rules: tinclock.Rules, budget: float) -> tinclock.Rules:
    rifle = msgspec.structs.replace(rules.weapons["grit_rifle"], penetration=budget)
    return msgspec.structs.replace(rules, weapons={"grit_rifle": rifle})


def test_a_shot_passes_glass_at_the_loss_that_thickness_surface_and_weapon_give(rules):
    """A shot passes glass at the loss that thickness, surface and weapon give."""
    here = Range(with_penetration(rules, 40.0), panes(0.02, (-5.0, -4.0)))
    view = tinclock.View(16, 16, 0.0)  # when the runner was level with the shooter: the way through is straight
    ruling = here.shoot(view=view)
    slant = 1.0 / abs(ruling.direction[0])
    assert ruling.damage == pytest.approx(17.0 * (1 - 2 * 0.02 * slant * 500.0 / 40.0), abs=1e-6)
    passed = [(step.limit, step.observed) for step in ruling.checks if step.name == "passed"]
    assert passed == [("glass", pytest.approx(0.02 * slant))] * 2
    assert "passed through" in ruling.explain()
    assert Range(with_penetration(rules, 20.0), panes(0.02)).shoot(view=view).damage == pytest.approx(8.5, abs=0.1)


def test_a_shot_ends_inside_what_uses_it_up(rules):
    """A shot ends inside what uses it up."""
    ruling = Range(with_penetration(rules, 20.0), panes(4.0, surface=HEDGE)).shoot(view=tinclock.View(16, 16, 0.0))
    assert (ruling.hits, ruling.stopped_by.name) == ((), "hedge")
    assert ruling.reached_m == pytest.approx(2.89 + 2.0, abs=0.02)  # two metres into it


def test_spans_pair_entries_with_exits_also_where_things_overlap_or_the_shot_starts_inside():
    """Spans pair entries with exits also where things overlap or the shot starts inside."""

    def crossing(at: float, facing: float, surface: tinclock.types.Surface) -> object:
        from tinclock.core.geometry.level import LevelHit

        return LevelHit(at, surface, 0, facing)

    hits = [crossing(1, 1, HEDGE), crossing(2, -1, GLASS), crossing(2.5, -1, HEDGE), crossing(3, 1, GLASS),
            crossing(4, -1, HEDGE), crossing(5, 1, HEDGE), crossing(6, 1, HEDGE), crossing(8, -1, GLASS)]  # fmt: skip
    spans = solid_spans(hits, 10.0)
    assert [span[:3] for span in spans] == [(0.0, 1, "hedge"), (2, 3, "glass"), (2.5, 6, "hedge"), (8, 10.0, "glass")]
    hard = Span(2.0, 4.0, "b", 3.0)
    assert reach_of([Span(1.0, 3.0, "a", 2.0), hard], 4.5, 10.0) == (pytest.approx(2.5), hard)
    assert reach_of([], 1.0, 10.0) == (10.0, None)


def door_rules(rules: tinclock.Rules, **door: object) -> tinclock.Rules:
    board = PartRules(name="board", bone="hinge", zone="wood", shape="box", half_size_m=(0.05, 0.6, 1.0))
    rig = RigRules(bones=[BoneRules(name="hinge")], parts=[board], eye=MountRules(bone="hinge"), **door)
    return msgspec.structs.replace(rules, rigs={**rules.rigs, "door": rig})


def slide(here: Range, door: int, ticks: int) -> None:
    """The door slides sideways across the line of fire, reaching it after twenty ticks."""
    rig = here.referee.history.rigs["door"]
    for _ in range(ticks):
        here.tick += 1
        y = 3.0 + (here.tick - 60) * 0.1
        frame = tinclock.rooted_bones(rig, [[-5.0, y, 1.2, 0, 0, 0, 1.0]])[0]
        poses = [here.pose(-9, 3), here.pose(0, 3), frame]
        here.referee.record(here.tick, here.now, [here.shooter, here.runner, door], poses)
        if here.tick % 2 == 0:
            here.referee.snapshot_sent(here.tick)


def test_moving_cover_is_rewound_like_any_body_and_blocks_without_taking_damage(rules):
    """Moving cover is rewound like any body and blocks without taking damage."""
    here = Range(door_rules(rules, blocks_only=True), None)
    door = here.referee.add_entity("door")
    slide(here, door, 30)
    shut = here.shoot(view=tinclock.View(60, 60, 0.0))
    assert (shut.hits, shut.stopped_by.name, shut.damage) == ((), "door", 0.0)
    still_open = here.shoot(view=tinclock.View(50, 50, 0.0), late=0.07)
    assert still_open.hits[0].victim == here.runner
    assert [step.limit for step in shut.checks if step.name == "cover"] == ["door"]
    here.referee.remove(door)
    assert here.shoot(view=tinclock.View(60, 60, 0.0), late=0.4).hits[0].victim == here.runner


def test_cover_may_stand_so_much_or_let_shots_through(rules):
    """Cover may stand so much or let shots through."""
    weak = Range(door_rules(rules, health=30.0), None)
    door = weak.referee.add_entity("door")
    slide(weak, door, 24)
    assert weak.shoot(view=tinclock.View(60, 60, 0.0)).hits[0].victim == door
    assert weak.referee.ledger.health(door) == 13.0
    thin = Range(with_penetration(door_rules(rules, blocks_only=True, resistance_per_m=100.0), 20.0), None)
    slide(thin, thin.referee.add_entity("door"), 24)
    through = thin.shoot(view=tinclock.View(60, 60, 0.0))
    assert through.hits[0].victim == thin.runner
    assert through.damage == pytest.approx(8.5, abs=0.2)
    with pytest.raises(UnknownNameError, match="unknown placed entity 1"):
        thin.referee.remove(thin.shooter)


def test_rooted_poses_are_the_pose_turned_and_moved_with_the_root(rules):
    """Rooted poses are the pose turned and moved with the root."""
    rng = np.random.default_rng(2)
    rig = tinclock.Rig("g", rules.rigs["gardener"])
    turns = Rotation.random(5, rng=rng)
    roots = np.hstack([rng.normal(size=(5, 3)), turns.as_quat()])
    own = np.hstack([rng.normal(size=(19, 3)), Rotation.random(19, rng=rng).as_quat()])
    out = tinclock.rooted_bones(rig, roots, own)
    for k in range(5):
        assert np.allclose(out[k, :, :3], turns[k].apply(own[:, :3]) + roots[k, :3])
        apart = Rotation.from_quat(out[k, :, 3:]) * (turns[k] * Rotation.from_quat(own[:, 3:])).inv()
        assert apart.magnitude() == pytest.approx(0.0, abs=1e-7)
    with pytest.raises(BadArrayError, match=r"pose: expected shape \(19, 7\)"):
        tinclock.rooted_bones(rig, roots, own[:3])


def test_a_level_is_built_once_and_a_damaged_file_is_built_again(tmp_path, level):
    """A level is built once and a damaged file is built again."""
    mesh = (level.vertices, level.faces, level.kinds, level.surfaces)
    first = tinclock.cached_level(tmp_path, *mesh)
    (file,) = tmp_path.iterdir()
    written = file.stat().st_mtime_ns
    again = tinclock.cached_level(tmp_path, *mesh)
    assert file.stat().st_mtime_ns == written
    ray = ((1.0, 5.0, 1.0), (0.6, -0.8, 0.0), 99.0)
    assert again.first(*ray) == first.first(*ray) == level.first(*ray)
    content = file.read_bytes()
    for damage in (content[: len(content) // 2], content[:200] + b"\x07" * 500 + content[700:], b""):
        file.write_bytes(damage)
        assert tinclock.cached_level(tmp_path, *mesh).first(*ray) == level.first(*ray)
        assert file.read_bytes() == content
    other = tinclock.cached_level(tmp_path, level.vertices + 1.0, *mesh[1:])
    assert len(list(tmp_path.iterdir())) == 2
    with pytest.raises(MeshError, match="doesn't belong to a level of"):
        tinclock.Level([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]], tree=other.tree)
