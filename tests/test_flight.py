"""What flies: its path against SciPy, what it meets against a root finder, and no tick rate in any of it."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from oracles import between, distance_field, random_bones
from scipy.integrate import solve_ivp
from scipy.optimize import brentq
from scipy.spatial.transform import Rotation
from test_history import mixed_rig, placed_parts

import tinclock
from tinclock.core.combat.projectile_motion import row_of
from tinclock.core.kernels import layout
from tinclock.core.kernels import sweep as flown
from tinclock.core.kernels import trajectory as legs
from tinclock.core.kernels.nearest import nearest_on_triangle

Motion = tinclock.types.Motion


def reference(motion: Motion, place: np.ndarray, velocity: np.ndarray, times: np.ndarray) -> np.ndarray:
    """Places by SciPy, in one piece before and one after the thrust ends."""
    push = motion.thrust_m_s2 * velocity / np.linalg.norm(velocity)

    def pull(thrust: np.ndarray):
        def slope(_t: float, y: np.ndarray) -> np.ndarray:
            air = y[3:] - np.array(motion.wind_m_s)
            drag = motion.drag_per_m * np.linalg.norm(air) * air
            return np.concatenate([y[3:], [0.0, 0.0, -motion.gravity_m_s2] + thrust - drag])

        return slope

    settings = {"rtol": 1e-10, "atol": 1e-10, "dense_output": True}
    start, split = np.concatenate([place, velocity]), motion.thrust_s if motion.thrust_m_s2 else 0.0
    early = solve_ivp(pull(push), (0.0, max(split, 1e-9)), start, **settings)
    late = solve_ivp(pull(np.zeros(3)), (split, 4.0), early.y[:, -1] if split else start, **settings)
    return np.array([(early if t < split else late).sol(t)[:3] for t in times])


@pytest.mark.parametrize("kind", ["straight", "ballistic", "drag", "thrust", "thrust and drag"])
def test_a_path_is_scipys_within_a_millimetre_over_four_seconds(kind):
    """A path is SciPy's within a millimetre over four seconds."""
    rng, worst = np.random.default_rng(1), 0.0
    for _ in range(15):
        drag, thrust = "drag" in kind, "thrust" in kind
        motion = Motion(
            gravity_m_s2=0.0 if kind == "straight" else 9.81,
            drag_per_m=float(rng.uniform(0.001, 0.05)) if drag else 0.0,
            wind_m_s=tuple(rng.normal(scale=8, size=3).tolist()) if drag else (0.0, 0.0, 0.0),
            thrust_m_s2=float(rng.uniform(20, 200)) if thrust else 0.0,
            thrust_s=float(rng.uniform(0.1, 1.5)) if thrust else 0.0,
        )
        velocity = Rotation.random(rng=rng).apply([rng.uniform(5, 400), 0, 0])
        place, times = rng.normal(size=3), np.sort(rng.uniform(0.0, 4.0, 30))
        flight = tinclock.client.ProjectilePath(motion, 7.0, tuple(place.tolist()), tuple(velocity.tolist()))
        worst = max(worst, float(np.abs(flight.path(7.0 + times) - reference(motion, place, velocity, times)).max()))
    assert worst < (1e-9 if kind in ("straight", "ballistic", "thrust") else 1e-3)


@given(st.lists(st.floats(0.0, 6.0), min_size=1, max_size=20), st.booleans())
def test_a_place_at_a_time_does_not_depend_on_who_asked_before(times, drag):
    """A place at a time doesn't depend on who asked before."""
    ground = tinclock.Level.from_boxes([[0, 0, -0.5]], [[500, 500, 0.5]])
    motion = Motion(radius_m=0.1, gravity_m_s2=9.81, drag_per_m=0.01 if drag else 0.0, on_level="bounce",
                    restitution=0.6, friction=0.1, rest_below_m_s=0.4, max_bounces=30)  # fmt: skip

    def fresh() -> tinclock.client.ProjectilePath:
        return tinclock.client.ProjectilePath(motion, 0.0, (0.0, 0.0, 1.0), (9.0, 2.0, 7.0), level=ground, last=9.0)

    asked = fresh()
    for t in times:
        assert np.allclose(asked.at(t), fresh().at(t), rtol=0.0, atol=1e-9)


def test_what_homes_flies_the_circle_of_its_turn_rate_and_then_straight_at_its_target():
    """What homes flies the circle of its turn rate and then straight at its target."""
    motion = Motion(turn_deg_per_s=90.0)
    flight = tinclock.client.ProjectilePath(motion, 0.0, (0.0, 0.0, 0.0), (20.0, 0.0, 0.0), target=(0.0, 200.0, 0.0))
    radius = 20.0 / math.radians(90.0)
    for t in np.linspace(0.0, 0.9, 10):
        turned = math.radians(90.0) * t
        assert flight.at(t)[0] == pytest.approx(
            (radius * math.sin(turned), radius * (1 - math.cos(turned)), 0), abs=1e-3
        )
    (x, y, _), (vx, vy, _) = flight.at(3.0)
    assert math.hypot(vx, vy) == pytest.approx(20.0, rel=1e-6)
    assert math.atan2(vy, vx) == pytest.approx(math.atan2(200.0 - y, -x), abs=1e-2)
    unguided = tinclock.client.ProjectilePath(motion, 0.0, (0.0, 0.0, 0.0), (20.0, 0.0, 0.0))
    assert unguided.at(2.0)[0] == pytest.approx((40.0, 0.0, 0.0))


def test_a_ball_bounces_at_the_instants_and_heights_of_the_textbook():
    """A ball bounces at the instants and heights of the textbook."""
    ground = tinclock.Level.from_boxes([[0, 0, -0.5]], [[50, 50, 0.5]])
    motion = Motion(
        radius_m=0.1, gravity_m_s2=9.81, on_level="bounce", restitution=0.7, rest_below_m_s=0.2, max_bounces=99
    )
    flight = tinclock.client.ProjectilePath(motion, 0.0, (0.0, 0.0, 2.1), (1.0, 0.0, 0.0), level=ground, last=30.0)
    flight.at(30.0)
    at, speed, wanted = math.sqrt(4.0 / 9.81), math.sqrt(4.0 * 9.81), []
    while speed * 0.7 >= 0.2:
        wanted.append(at)
        speed *= 0.7
        at += 2.0 * speed / 9.81
    assert [bounce.server_time for bounce in flight.bounces[:-1]] == pytest.approx(wanted, abs=1e-3)
    assert [b.server_time for b in flight.bounces[:5]] == pytest.approx(wanted[:5], abs=1e-4)
    assert [b.rests for b in flight.bounces] == [False] * len(wanted) + [True]
    assert flight.at(29.0)[1] == (0.0, 0.0, 0.0)


@pytest.mark.parametrize("speed", [1.0, 50.0, 3000.0, 1e5])
def test_no_speed_passes_a_thin_wall(speed):
    """No speed passes a thin wall."""
    wall = tinclock.Level([[5.0, -9, -9], [5.0, 9, -9], [5.0, 0, 9]], [[0, 1, 2]])
    for radius in (0.0, 0.05):
        flight = tinclock.client.ProjectilePath(
            Motion(radius_m=radius), 0.0, (0.0, 0.0, 0.0), (speed, 0.1, 0.0), level=wall
        )
        flight.at(100.0)
        assert flight.ended_at == pytest.approx((5.0 - radius) / speed, rel=1e-4)


# -- bodies that move ---------------------------------------------------------------------------------------------


def gap_at(t: float, poses, place: np.ndarray, radius: float) -> float:
    """Signed distance between the ball and the nearest part, with SciPy's rotations and the oracle's shapes."""
    k = min(int(t * 64), len(poses) - 2)
    bones = between(poses[k], poses[k + 1], t * 64 - k)
    gaps = []
    for bone, (shape, centre, turn, size) in zip(bones, placed_parts(), strict=True):
        frame = Rotation.from_quat(bone[3:])
        whole = frame * turn
        local = whole.inv().apply(place - (bone[:3] + frame.apply(centre)))
        gaps.append(distance_field(shape, local, size) - radius)
    return min(gaps)


def fly_among(history, motion: Motion, start: float, place, velocity, until: float, **fields: float):
    """The kernel's first contact of one projectile with the bodies of a history: (kind, time, column, part)."""
    row = np.array([row_of(motion, start, place, velocity, 99.0, 1e9)])
    for name, value in fields.items():
        row[0, getattr(layout, name)] = value
    legs.start_leg(row[0], start, place, velocity, (math.nan,) * 3)
    kinds, at = np.empty(1, np.int64), np.empty(1)
    columns, parts = np.empty(1, np.int64), np.empty(1, np.int64)
    none, times = np.full(1, -1, np.int32), history.ticks()  # as rows keep columns, or the kernel is compiled anew
    columns_of = history.columns
    flown.fly(
        (row, none, none, np.full((1, flown.IGNORED), -1, np.int32)), np.zeros(1, np.int64), until,
        (times[0], times[1]), columns_of.stored, (columns_of.header, 0.0, 0.0, 0.0), False, (kinds, at, columns, parts),
    )  # fmt: skip
    return int(kinds[0]), float(at[0]), int(columns[0]), int(parts[0])


def test_the_first_contact_is_a_root_finders_within_a_tenth_of_a_millisecond():
    """Turning, moving bodies; balls and points; fast and slow; straight, falling and braked."""
    rng, compared, hits = np.random.default_rng(5), 0, 0
    for case in range(24):
        history = tinclock.PoseHistory({"mixed": mixed_rig()})
        history.add(1, "mixed")
        middle = rng.uniform(-1, 1, 3) + [[0.0, 0.0, 5.0], [3e3, -2e3, 5.0]][case % 2]
        drift = rng.normal(scale=0.05, size=3)
        poses = [random_bones(rng, 3, middle + k * drift, 0.4) for k in range(5)]
        for tick, bones in enumerate(poses):
            history.record(tick, tick / 64, [1], [bones])
        speed = float(rng.choice([8.0, 40.0, 300.0]))
        motion = Motion(radius_m=float(rng.choice([0.0, 0.08])), gravity_m_s2=9.81 * (case % 3 > 0),
                        drag_per_m=0.02 * (case % 3 == 2))  # fmt: skip
        way = Rotation.random(rng=rng).apply([1.0, 0.0, 0.0])
        begin = middle - way * speed * rng.uniform(0.01, 0.05) + rng.normal(scale=0.2, size=3)
        velocity = tuple((way * speed).tolist())
        flight = tinclock.client.ProjectilePath(motion, 0.03 if case % 4 == 3 else 0.0, tuple(begin.tolist()), velocity)
        age, fade = (0.03, 0.05) if case % 4 == 3 else (0.0, 0.0)  # every fourth one fades from a view 30 ms old
        late = 0.03 if age else 0.0
        kind, at, _, _ = fly_among(history, motion, late, tuple(begin.tolist()), velocity, 4 / 64, AGE=age, FADE=fade)

        def gap(t: float, poses=poses, flight=flight, radius=motion.radius_m, age=age, fade=fade) -> float:
            seen = t - age * max(0.0, 1.0 - (t - 0.03) / fade) if fade else t
            return gap_at(seen, poses, np.array(flight.at(t)[0]), radius)

        # no gap changes faster than everything moves: only where it could close a fine grid is needed
        coarse = np.linspace(late, 4 / 64 - 1e-9, 49)
        ends = np.array([gap(t) for t in coarse])
        room = 0.5 * (speed + 80.0) * (coarse[1] - coarse[0])
        grid = [np.linspace(*coarse[k : k + 2], 20 if min(ends[k : k + 2]) < room else 2)[:-1] for k in range(48)]
        grid = np.concatenate([*grid, coarse[-1:]])
        gaps = np.array([gap(t) for t in grid])
        if gaps[0] <= 1e-4 or abs(gaps.min()) < 2e-3:
            continue  # starts inside, or grazes
        compared += 1
        if gaps.min() > 0.0:
            assert kind == flown.NOTHING
            continue
        hits += 1
        first = int(np.argmax(gaps <= 0.0))
        exact = brentq(gap, grid[first - 1], grid[first], xtol=1e-12)
        assert kind == flown.BODY
        assert at == pytest.approx(exact, abs=1e-4)
    assert compared > 18
    assert hits > 5


def test_of_two_bodies_met_at_the_same_instant_the_lower_id_counts():
    """Whichever column of the history it has: a leaver's is given to the next."""
    history = tinclock.PoseHistory({"mixed": mixed_rig()})
    history.add(5, "mixed"), history.add(7, "mixed"), history.remove(5), history.add(9, "mixed")
    bones = np.hstack([np.zeros((3, 3)), np.tile([0, 0, 0, 1.0], (3, 1))])
    for tick in range(3):
        history.record(tick, tick / 64, [9, 7], [bones, bones])
    kind, _, column, part = fly_among(history, Motion(), 0.0, (-3.0, 0.0, 0.05), (160.0, 0.0, 0.0), 2 / 64)
    assert (kind, history.columns.named(column, part)[0]) == (flown.BODY, 7)


@pytest.mark.parametrize("rate_hz", [5.0, 20.0, 64.0, 250.0])
def test_a_fast_dart_meets_a_body_between_two_ticks_whatever_the_tick_rate(rate_hz):
    """At 900 m/s it is metres past between two ticks; the body itself runs at 6 m/s."""
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=rate_hz)
    history.add(1, "mixed")
    for tick in range(int(0.5 * rate_hz) + 2):
        at = tick / rate_hz
        bones = np.hstack([np.full((3, 3), [30.0, 6.0 * at, 1.0]), np.tile([0, 0, 0, 1.0], (3, 1))])
        history.record(tick, at, [1], [bones])
    met = []
    for start in np.linspace(0.21, 0.25, 9):
        y = 6.0 * (start + 30.0 / 900.0)
        kind, at, _, _ = fly_among(history, Motion(), float(start), (0.0, y + 0.05, 1.05), (900.0, 0.0, 0.0), 0.5)
        met.append((kind, at - start))
    assert [kind for kind, _ in met] == [flown.BODY] * 9
    assert [at for _, at in met] == pytest.approx([met[0][1]] * 9, abs=1e-4)


@given(st.lists(st.floats(-2, 2), min_size=12, max_size=12))
def test_the_nearest_point_of_a_triangle_is_no_further_than_any_other(values):
    """The nearest point of a triangle is no further than any other."""
    point, a, b, c = (tuple(values[k : k + 3]) for k in (0, 3, 6, 9))
    nearest = nearest_on_triangle(point, a, b, c)
    best = math.dist(point, nearest)
    for u in np.linspace(0, 1, 12):
        for v in np.linspace(0, 1 - u, 12):
            other = tuple(p + u * (q - p) + v * (r - p) for p, q, r in zip(a, b, c, strict=True))
            assert best <= math.dist(point, other) + 1e-9
