"""The pose history: what it gives back, what it refuses, and casts through it."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from conftest import Range
from oracles import between, many_contacts, random_bones
from scipy.spatial.transform import Rotation

import tinclock
from tinclock.core.rules.rigs import BoneRules, MountRules, PartRules, RigRules
from tinclock.errors import BadArrayError, BadNumberError, OutOfHistoryError, TimeOrderError, UnknownNameError
from tinclock.recordings import Recording

View = tinclock.View


def mixed_rig(name: str = "mixed") -> tinclock.Rig:
    """A sphere, a capsule and a turned box, each on a bone of its own."""
    turn = tuple(Rotation.from_euler("xyz", [0.4, -0.7, 1.1]).as_quat())
    return tinclock.Rig(
        name,
        RigRules(
            bones=[BoneRules(name=n) for n in ("one", "two", "three")],
            parts=[
                PartRules(name="ball", bone="one", zone="head", shape="sphere", radius_m=0.2, centre=(0.1, 0.0, 0.05)),
                PartRules(name="rod", bone="two", zone="arm", shape="capsule", radius_m=0.1, start=(0.0, 0.1, 0.0),
                          end=(0.05, 0.1, 0.5)),
                PartRules(name="brick", bone="three", zone="torso", shape="box", half_size_m=(0.2, 0.1, 0.3),
                          centre=(0.0, -0.1, 0.0), rotation=turn),
            ],
            eye=MountRules(bone="one"),
        ),
    )  # fmt: skip


def placed_parts() -> tuple[tuple[str, np.ndarray, Rotation, np.ndarray], ...]:
    """The mixed rig's parts a second time: shape, centre and rotation in the bone's frame, size; bone by bone."""
    rod_turn, _ = Rotation.align_vectors([[0.05, 0.0, 0.5]], [[0.0, 0.0, 1.0]])
    brick = Rotation.from_euler("xyz", [0.4, -0.7, 1.1])
    return (
        ("sphere", np.array([0.1, 0.0, 0.05]), Rotation.identity(), np.array([0.2, 0.0, 0.0])),
        ("capsule", np.array([0.025, 0.1, 0.25]), rod_turn, np.array([math.hypot(0.05, 0.5) / 2, 0.1, 0.0])),
        ("box", np.array([0.0, -0.1, 0.0]), brick, np.array([0.2, 0.1, 0.3])),
    )


def filled(rng: np.random.Generator, centre: np.ndarray, storage: str = "full") -> tuple[tinclock.PoseHistory, dict]:
    """Four bodies around a point, in ten ticks of which any two may be drawn between."""
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=64, storage=storage)
    poses = {}
    for entity in (1, 2, 3, 4):
        history.add(entity, "mixed")
    homes = centre + rng.uniform(-2.0, 2.0, (4, 3))
    for tick in range(10):
        poses[tick] = np.stack([random_bones(rng, 3, home, 0.4) for home in homes])
        history.record(tick, tick / 64, [1, 2, 3, 4], poses[tick])
    return history, poses


@pytest.mark.parametrize("far", [0.0, 10_000.0])
def test_hit_part_and_distance_agree_with_an_oracle_in_20000_cases(far):
    """Hit or miss, whom, which part, and the distance within 0.1 mm, wherever the ray isn't that close to an edge."""
    rng, cases = np.random.default_rng(int(far) + 5), 20_000
    history, poses = filled(rng, np.array([far, -far, 0.0]))
    a = rng.integers(0, 10, cases)
    b = np.minimum(a + rng.integers(0, 4, cases), 9)
    fraction = rng.uniform(size=cases)
    ticks = np.stack([poses[tick] for tick in range(10)])
    before, after, share = ticks[a], ticks[b], fraction[:, None, None, None]
    place = (1 - share) * before[..., :3] + share * after[..., :3]
    first = Rotation.from_quat(before[..., 3:].reshape(-1, 4))
    whole = (first.inv() * Rotation.from_quat(after[..., 3:].reshape(-1, 4))).as_rotvec()
    turns = first * Rotation.from_rotvec(whole * np.repeat(fraction, 12)[:, None])
    rows = np.arange(cases)
    aim = place[rows, rng.integers(1, 4, cases), rng.integers(0, 3, cases)] + rng.normal(0.0, 0.2, (cases, 3))
    origins = np.array([far, -far, 0.0]) + rng.normal(size=(cases, 3)) * [1, 1, 0.4]
    origins += 6.0 * (origins - [far, -far, 0.0]) / np.linalg.norm(origins - [far, -far, 0.0], axis=1, keepdims=True)
    ways = (aim - origins) / np.linalg.norm(aim - origins, axis=1, keepdims=True)
    enter, edge = np.full((cases, 4, 3), np.inf), np.full((cases, 4, 3), np.inf)
    frames = np.arange(cases * 12).reshape(cases, 4, 3)
    for entity in (1, 2, 3):
        for part, (shape, centre, turn, size) in enumerate(placed_parts()):
            bone = turns[frames[:, entity, part]]
            local = (bone * turn).inv().apply(origins - place[:, entity, part] - bone.apply(centre))
            enter[:, entity, part], edge[:, entity, part] = many_contacts(
                shape, local, (bone * turn).inv().apply(ways), size
            )
    order = np.sort(enter.reshape(cases, 12), axis=1)
    clear = (np.abs(edge).reshape(cases, 12).min(axis=1) > 1e-4) & (order[:, 1] > order[:, 0] + 1e-4)
    best = enter.reshape(cases, 12).argmin(axis=1)
    hit = np.isfinite(order[:, 0])
    clear |= ~hit & (np.abs(edge).reshape(cases, 12).min(axis=1) > 1e-4)
    found = history.nearest_many(origins, ways, a, b, fraction, ignore=1)
    assert 0.3 < hit.mean() < 0.9
    assert clear.mean() > 0.99
    assert np.array_equal(found.entity[clear], np.where(hit, best // 3 + 1, 0)[clear])
    assert np.array_equal(found.part_index[clear], np.where(hit, best % 3, -1)[clear])
    assert np.abs(found.distance_m[clear & hit] - order[clear & hit, 0]).max() < 1e-4


def test_bones_at_a_view_are_lerp_and_slerp_bone_by_bone():
    """Bones at a view are lerp and slerp, bone by bone."""
    rng = np.random.default_rng(1)
    history, poses = filled(rng, np.zeros(3))
    for fraction in (0.0, 0.25, 0.999, 1.0):
        wanted = between(poses[2][0], poses[7][0], fraction)
        got = history.bones_at(1, View(2, 7, fraction))
        assert np.allclose(got[:, :3], wanted[:, :3], atol=1e-6)
        same = np.abs((got[:, 3:] * wanted[:, 3:]).sum(axis=1))
        assert np.allclose(same, 1.0, atol=1e-9)


def test_one_many_and_any_split_or_order_of_the_many_are_equal_to_the_bit():
    """One, many and any split or order of the many are equal to the bit."""
    rng = np.random.default_rng(2)
    history, _ = filled(rng, np.zeros(3))
    count = 5000
    origins, ways = rng.uniform(-6, 6, (count, 3)), rng.normal(size=(count, 3))
    a = rng.integers(0, 9, count)
    b, fractions = a + 1, rng.uniform(size=count)
    whole = history.nearest_many(origins, ways, a, b, fractions, ignore=1)
    shuffle = rng.permutation(count)
    mixed = history.nearest_many(origins[shuffle], ways[shuffle], a[shuffle], b[shuffle], fractions[shuffle], ignore=1)
    for one, other in zip(whole, mixed, strict=True):
        assert np.array_equal(one[shuffle], other)
    for k in range(0, count, 50):
        hit = history.nearest(tuple(origins[k]), tuple(ways[k]), View(int(a[k]), int(b[k]), fractions[k]), ignore=1)
        found = (hit.entity, hit.part_index, hit.distance_m, hit.leaves_m) if hit else (0, -1, math.inf, math.inf)
        assert found == tuple(column[k] for column in whole)


@pytest.mark.parametrize("scale", [1e-6, 1.0, 1e6])
def test_the_length_of_a_direction_changes_nothing(scale):
    """The length of a direction changes nothing."""
    history, _ = filled(np.random.default_rng(3), np.zeros(3))
    chest = history.bones_at(2, View(4, 4, 0.0))[0, :3]
    way = chest - [5.0, 0.0, 0.0]
    plain = history.nearest((5.0, 0.0, 0.0), tuple(way), View(4, 4, 0.0))
    scaled = history.nearest((5.0, 0.0, 0.0), tuple(way * scale), View(4, 4, 0.0))
    assert scaled.entity == plain.entity
    assert scaled.distance_m == pytest.approx(plain.distance_m, rel=1e-12)


@pytest.mark.parametrize(
    ("direction", "origin"),
    [((0, 0, 0), (0, 0, 0)), ((1e-310, 0, 0), (0, 0, 0)), ((math.nan, 1, 0), (0, 0, 0)), ((1, math.nan, 0), (0, 0, 0)),
     ((1e200, 0, 0), (0, 0, 0)), ((1, 0, 0), (math.inf, 0, 0)), ((1, 0, 0), (1e300, 0, 0))],
)  # fmt: skip
def test_rays_that_cannot_be_cast_raise_one_or_many_and_never_miss_silently(direction, origin, level):
    """Rays that can't be cast raise one or many and never miss silently."""
    history, _ = filled(np.random.default_rng(3), np.zeros(3))
    good = (1.0, 0.0, 0.0)
    with pytest.raises(BadArrayError):
        history.nearest_many([(0, 0, 0), origin], [good, direction], 4, 4, 0.0)
    with pytest.raises(BadArrayError):
        level.first_many([(0, 0, 0), origin], [good, direction], 9.0)
    with pytest.raises(BadArrayError):
        history.nearest(origin, direction, View(4, 4, 0.0))
    with pytest.raises(BadArrayError):
        level.first(origin, direction, 9.0)


def still(x: float) -> np.ndarray:
    return np.array([[x, 0.0, z, 0.0, 0.0, 0.0, 1.0] for z in (0.0, 1.0, 2.0)])


def short_history() -> tinclock.PoseHistory:
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=10, history_s=1.0)
    history.add(1, "mixed")
    history.add(2, "mixed")
    return history


def test_nothing_is_interpolated_across_a_cut():
    """Nothing is interpolated across a cut."""
    history = short_history()
    history.record(0, 0.0, [1], [still(0.0)])
    history.cut(1)
    history.record(1, 0.1, [1], [still(10.0)])
    assert history.bones_at(1, View(0, 1, 0.999))[0, 0] == 0.0
    assert history.bones_at(1, View(0, 1, 1.0))[0, 0] == 10.0
    assert history.nearest((5.0, -3.0, 0.0), (0.0, 1.0, 0.0), View(0, 1, 0.5)) is None


def test_the_absent_are_not_drawn_and_those_who_left_are_not_hit_at_any_view():
    """The absent are not drawn and those who left are not hit at any view."""
    history = short_history()
    history.record(0, 0.0, [1, 2], [still(0.0), still(4.0)])
    history.record(1, 0.1, [1], [still(0.0)])
    history.record(2, 0.2, [1, 2], [still(0.0), still(4.0)])
    assert history.present(View(0, 1, 0.5)) == [1, 2]
    assert history.present(View(1, 2, 0.5)) == [1]
    ray = ((4.0, -3.0, 0.0), (0.0, 1.0, 0.0))
    assert history.nearest(*ray, View(0, 0, 0.0)).entity == 2
    history.remove(2)
    assert history.nearest(*ray, View(0, 0, 0.0)) is None
    history.add(3, "mixed")  # takes over the column that 2 left
    assert history.nearest(*ray, View(0, 0, 0.0)) is None


def test_equal_distances_go_to_the_lower_id_whatever_the_order_of_recording():
    """Equal distances go to the lower id whatever the order of recording."""
    for order in ([1, 2], [2, 1]):
        history = short_history()
        history.record(0, 0.0, order, [still(0.0), still(0.0)])
        assert history.nearest((0.0, -3.0, 0.0), (0.0, 1.0, 0.0), View(0, 0, 0.0)).entity == 1


def test_a_higher_zone_wins_only_within_the_given_depth():
    """A higher zone wins only within the given depth."""
    rules = RigRules(
        bones=[BoneRules(name="one")],
        parts=[
            PartRules(name="arm", bone="one", zone="arm", shape="sphere", radius_m=0.2, centre=(-0.3, 0.0, 0.0)),
            PartRules(name="heart", bone="one", zone="heart", shape="sphere", radius_m=0.2),
        ],
        eye=MountRules(bone="one"),
        zone_priority={"heart": 1},
    )
    for depth, part in ((0.0, "arm"), (0.29, "arm"), (0.31, "heart")):
        history = tinclock.PoseHistory({"r": tinclock.Rig("r", rules)}, zone_depth_m=depth)
        history.add(1, "r")
        history.record(0, 0.0, [1], [[[0, 0, 0, 0, 0, 0, 1.0]]])
        assert history.nearest((-5.0, 0.0, 0.0), (1.0, 0.0, 0.0), View(0, 0, 0.0)).part.name == part


def test_an_old_tick_is_refused_by_name_once_the_ring_has_moved_on():
    """An old tick is refused by name once the ring has moved on."""
    history = short_history()
    for tick in range(30):
        history.record(tick, tick / 10, [1], [still(0.0)])
    assert not history.holds(3)
    with pytest.raises(OutOfHistoryError, match=r"tick 3 is outside the history \(18\.\.29\)"):
        history.nearest((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), View(3, 4, 0.5))


MISTAKES = {
    "wrong bone count": (BadArrayError, r"expected 3 bones, .* for entity 1, got 2 bones", np.zeros((1, 2, 7))),
    "not finite": (BadArrayError, "finite.*'two' of entity 1", [still(0.0) * [[1], [np.nan], [1]]]),
    "not unit": (BadArrayError, "expected unit quaternions xyzw, got length 2.0", [still(0.0) * [[1], [1], [2]]]),
}  # fmt: skip


@pytest.mark.parametrize("mistake", MISTAKES)
def test_wrong_poses_raise_with_what_was_given_and_store_nothing(mistake):
    """Wrong poses raise with what was given and store nothing."""
    kind, message, bones = MISTAKES[mistake]
    history = short_history()
    with pytest.raises(kind, match=message):
        history.record(0, 0.0, [1], bones)
    assert history.newest_tick == -1


def test_ticks_and_times_that_do_not_rise_and_strangers_raise():
    """Ticks and times that don't rise raise, and so do strangers."""
    history = short_history()
    history.record(5, 0.5, [1], [still(0.0)])
    for tick, time, name in ((5, 0.6, "tick must rise: 5 was given after 5"), (6, 0.5, "server_time must rise: 0.5")):
        with pytest.raises(TimeOrderError, match=name):
            history.record(tick, time, [1], [still(0.0)])
    with pytest.raises(UnknownNameError, match="unknown entity 9"):
        history.record(6, 0.6, [9], [still(0.0)])
    with pytest.raises(UnknownNameError, match="unknown rig 'pot'; known: 'mixed'"):
        history.add(7, "pot")
    with pytest.raises(BadArrayError, match="directions: expected vectors with a length"):
        history.nearest_many(np.zeros((2, 3)), [[1, 0, 0], [0, 0, 0]], 5, 5, 0.0)


@pytest.mark.parametrize(
    "tick", [math.nan, math.inf, 7.0, True, "7", None, 2**53 + 1, 2**63 - 1, 10**30, np.float64(7)]
)
def test_a_tick_that_is_no_whole_number_raises_and_stores_nothing(tick, rules, tmp_path):
    """History, referee and recorder refuse what no recording and no client could hold; NumPy's integers are taken."""
    history, shooting = short_history(), Range(rules, None, record_to=tmp_path / "match")
    pose = shooting.pose(0.0, 0.0)
    with pytest.raises(BadNumberError, match="tick"):
        history.record(tick, 0.5, [1], [still(0.0)])
    with shooting.server as recorder:
        for server in (shooting.referee, recorder):
            with pytest.raises(BadNumberError, match="tick"):
                server.record(tick, shooting.now + 1.0, [shooting.shooter], pose[None])
            with pytest.raises(BadNumberError, match="tick"):
                server.snapshot_sent(tick)
        recorder.record(np.int64(2**53), shooting.now + 1.0, [shooting.shooter], pose[None])
    assert history.newest_tick == -1
    kept = Recording(tmp_path / "match")
    assert kept.poses(kept.flushes[-1])[shooting.shooter].ticks[-1] == 2**53


def test_hitboxes_come_back_as_arrays_and_as_a_frame():
    """Hitboxes come back as arrays and as a frame."""
    history = short_history()
    history.record(0, 0.25, [1], [still(2.0)])
    boxes = history.hitboxes_at(1, View(0, 0, 0.0))
    assert boxes.parts == ("ball", "rod", "brick")
    assert np.allclose(boxes.centres[0], [2.1, 0.0, 0.05])
    frame = tinclock.hitboxes_frame(boxes)
    assert list(frame["shape"]) == ["sphere", "capsule", "box"]
    assert frame.loc[1, "radius_m"] == 0.1
    assert frame.loc[1, "half_length_m"] == pytest.approx(math.hypot(0.05, 0.5) / 2)
    assert frame["half_x_m"].isna().tolist() == [True, True, False]
    assert history.hitboxes_at(2, View(0, 0, 0.0)) is None


def test_a_view_round_trips_through_messages():
    """A view round trips through messages."""
    view = View(4, 6, 0.25)
    assert msgspec.json.decode(msgspec.json.encode(view), type=View) == view
