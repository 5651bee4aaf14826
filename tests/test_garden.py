"""The garden match: honest shots are upheld as their screens showed them, lies are found, and a seed is a match."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from tinclock.garden.gait import Bodies, Gait
from tinclock.garden.match import Played, play_match
from tinclock.garden.network import LineQuality, Post


@pytest.fixture(scope="module")
def played() -> Played:
    return play_match(seed=2, seconds=9.0)


def test_every_honest_hit_on_screen_is_the_same_hit_for_the_server(played):
    """What a client's own code saw and what the referee found agree on player, part and distance."""
    compared = 0
    for ruling in played.rulings:
        shot = played.shot_of(ruling)
        if played.conduct_of(ruling.account) != "honest" or ruling.outcome != "upheld":
            continue
        hit = ruling.hits[0] if ruling.hits else None
        assert (hit.victim if hit else 0) == shot.seen.victim
        assert ruling.reached_m == pytest.approx(min(shot.seen.distance_m, 60.0), abs=1e-4)
        if hit:
            compared += 1
            assert (hit.part, hit.zone) == (shot.seen.part, shot.seen.zone)
            dealt = next(step.observed for step in ruling.trace if step.name == "damage")
            assert dealt == 0.0 or dealt == pytest.approx(shot.claim.damage, rel=1e-6)
    assert compared > 20


def test_honest_shots_are_denied_only_when_their_shooter_had_died(played):
    honest = [r for r in played.rulings if played.conduct_of(r.account) == "honest"]
    denied = {f.code for r in honest if r.outcome == "denied" for f in r.findings}
    assert len(honest) > 50
    assert denied <= {"dead_actor"}


def test_each_lie_is_found_where_it_is_told(played):
    found = {(f.code, played.conduct_of(f.account)) for r in played.rulings for f in r.findings}
    assert {("damage_differs", "inflates damage"), ("foreign_actor", "names another")} & found
    assert all(conduct != "honest" for code, conduct in found if code in ("foreign_actor", "fast_cadence"))


def test_health_goes_down_by_exactly_what_the_events_say(played):
    health: dict[int, float] = {}
    for number, event in enumerate(played.events, start=1):
        assert event.number == number
        if event.kind == "health":
            assert health[event.entity] == event.before
        if event.kind in ("spawn", "health"):
            health[event.entity] = event.after
    dealt = sum(r.damage for r in played.rulings)
    told = sum(e.before - e.after for e in played.events if e.kind == "health")
    assert dealt == pytest.approx(told)


def test_a_seed_is_a_match_to_the_byte(played):
    again = play_match(seed=2, seconds=3.0)
    count = len(again.rulings) - 3  # the last ones are ruled as the shorter match closes
    assert count > 10
    assert msgspec.json.encode(again.rulings[:count]) == msgspec.json.encode(played.rulings[:count])


def test_limbs_swing_and_keep_their_length(rules):
    bones = [bone.name for bone in rules.rigs["gardener"].bones]
    gait = Gait(tuple(bones), np.array([bone.rest for bone in rules.rigs["gardener"].bones]))
    phase = np.linspace(0, 2 * np.pi, 16)
    still = np.zeros(16)
    poses = gait.bones(Bodies(still, still, still, still, phase, np.full(16, 4.0), still))
    foot, hip, knee = (poses[:, bones.index(f"left_{name}"), :3] for name in ("foot", "thigh", "shin"))
    assert np.ptp(foot[:, 0]) > 0.6
    assert np.linalg.norm(knee - hip, axis=1) == pytest.approx(np.full(16, 0.41), abs=1e-9)
    assert np.linalg.norm(poses[..., 3:], axis=-1) == pytest.approx(np.ones((16, 19)), abs=1e-12)
    turned = gait.bones(Bodies(still, still, still + 0.9, still, phase, np.full(16, 4.0), still))
    whole = Rotation.from_euler("z", 0.9)
    assert np.allclose(whole.apply(poses[3, :, :3]), turned[3, :, :3])


def test_the_post_loses_delays_and_keeps_the_order_of_arrival():
    rng, post, line = np.random.default_rng(1), Post(), LineQuality(0.02, 0.03, 0.01, 0.25)
    for k in range(2000):
        post.send(k * 0.01, line.up_s, line, rng, 0, "claim", k)
    arrived = post.arrived(1e9)
    assert len(arrived) == pytest.approx(1500, abs=60)
    times = [parcel.arrives_at for parcel in arrived]
    assert times == sorted(times)
    trips = [parcel.arrives_at - parcel.content * 0.01 for parcel in arrived]
    assert min(trips) >= 0.02 - 1e-9
    assert np.mean(trips) == pytest.approx(0.03, abs=0.002)
