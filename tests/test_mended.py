"""What independent tests once found wrong in rulings: cover, doors, comings and goings, time, numbers at the door."""

from __future__ import annotations

import math
from typing import Any

import msgspec
import numpy as np
import pytest
from conftest import Range, changed, codes, step
from hypothesis import given
from hypothesis import strategies as st
from test_launches import BLAST, LEAF, armed, fly, launch

import tinclock
from tinclock.claims import ImpactClaim, LaunchClaim, MeleeClaim, MoveClaim, ShotClaim, TriggerClaim
from tinclock.core.combat.accounts import Blow
from tinclock.core.geometry.rig import Rig
from tinclock.core.kernels import cast
from tinclock.core.rules.contradictions import unusual_rules
from tinclock.core.rules.movement import MovementRules
from tinclock.core.rules.rigs import BoneRules, PartRules, RigRules
from tinclock.core.timeline.cover import Cover, Instant
from tinclock.errors import BadArrayError, BadNumberError, RulesError
from tinclock.garden.scenario import data_file

View = tinclock.View
RULES = tinclock.load_rules(data_file("garden.toml"))
PANE = tinclock.types.Surface("pane", blocks_sight=False)
DOOR = {"bones": [BoneRules(name="leaf")], "blocks_only": True, "parts": [LEAF]}
AHEAD = (1.0, 0.0, 0.0)


def shut(rules: tinclock.Rules = RULES, x: float = -8.6, **door: Any) -> tuple[Range, int]:
    """The range with a closed door across the way, 0.4 m ahead of the shooter."""
    here = Range(changed(rules, "rigs", "door", **{**DOOR, **door}), None)
    entity = here.referee.add_entity("door")
    for _ in range(40):
        here.tick += 1
        poses = [here.pose(-9, 3), here.pose(-5, 3), np.array([[x, 3.0, 1.2, 0.0, 0.0, 0.0, 1.0]])]
        here.referee.record(here.tick, here.now, [here.shooter, here.runner, entity], poses)
        here.referee.snapshot_sent(here.tick)
    return here, entity


def beyond(here: Range, metres: float = 0.5) -> tuple[float, float, float]:
    """A muzzle held out so far ahead of the eye."""
    x, y, z = here.referee.history.eye_now(here.shooter)
    return (x + metres, y, z)


# -- cover, doors, panes ------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["shot", "melee", "launch"])
@pytest.mark.parametrize("closed", ["door", "pane"])
def test_a_muzzle_does_not_pass_what_stops_a_shot(kind, closed):
    """A claim that starts on the far side of a closed door, or of a pane that stops shots, is refused."""
    weapon = {"shot": "hose", "melee": "trowel", "launch": "dart"}[kind]
    rules = armed(speed_m_s=20.0).referee.rules
    if closed == "door":
        here, _ = shut(rules)
    else:
        here = Range(rules, tinclock.Level.from_boxes([[-8.6, 3, 1.2]], [[0.01, 3, 2]], surfaces=[PANE]))
    here.referee.set_weapon(here.shooter, weapon)
    say = {
        "shot": ShotClaim,
        "melee": MeleeClaim,
        "launch": LaunchClaim,
    }[kind]
    aim = {"weapon": weapon, "direction": AHEAD, "view": View(here.tick - 8, here.tick - 8, 0.0)}
    if closed == "pane":
        aim["view"] = View(here.tick - 9, here.tick - 9, 0.0)
    ruling = here.say(say, origin=beyond(here), **aim)
    assert (ruling.outcome, codes(ruling)) == ("rejected", ["muzzle_blocked"])
    assert here.referee.ledger.health(here.runner) == 100.0


def test_what_a_weapon_shoots_through_its_muzzle_may_pass_and_pays_for():
    """A muzzle through a thin pane costs the shot what the pane costs from the eye; a thick one stops it."""
    glass = tinclock.types.Surface("glass", blocks_sight=False, resistance_per_m=1000.0)
    outcomes = []
    for half in (0.005, 0.02):
        wall = tinclock.Level.from_boxes([[-8.6, 3, 1.2]], [[half, 30, 2]], surfaces=[glass])
        here = Range(RULES, wall)
        far = here.shoot()
        near = here.shoot(late=0.2, origin=beyond(here))
        outcomes.append((far.hits[0].damage if far.hits else 0.0, codes(near)))
        if near.hits:
            assert near.damage == pytest.approx(far.damage, rel=1e-2)
    assert outcomes[0][0] == pytest.approx(17.0 * 0.6, rel=0.05)
    assert outcomes[1] == (0.0, ["muzzle_blocked"])


def test_a_forgiven_muzzle_behind_glass_still_shoots_from_the_eye():
    """Where `muzzle_blocked` only adjusts, a weapon that pierces gets nothing by a start beyond what stops it."""
    glass = tinclock.types.Surface("glass", blocks_sight=False, resistance_per_m=1000.0)
    wall = tinclock.Level.from_boxes([[-8.6, 3, 1.2]], [[0.02, 30, 2]], surfaces=[glass])
    here = Range(RULES, wall, actions={"muzzle_blocked": "adjust"})
    ruling = here.shoot(origin=beyond(here))
    assert (ruling.outcome, codes(ruling), ruling.hits) == ("adjusted", ["muzzle_blocked"], ())
    assert ruling.origin == here.referee.history.eye_now(here.shooter)


def test_a_move_does_not_pass_a_closed_door():
    """A body that reports itself on the far side of a shut door stays in front of it; an open door lets it through."""
    moving = msgspec.structs.replace(
        RULES, movement=MovementRules(speed_m_s=50.0, acceleration_m_s2=1e4, radius_m=0.25, centre_up_m=0.9)
    )
    for x, blocked in ((-8.6, True), (-20.0, False)):
        here, _ = shut(moving, x=x)
        here.referee.set_position(here.shooter, (-9.0, 3.0, 0.0), here.now - 1.0)
        move = here.say(MoveClaim, position=(-7.0, 3.0, 0.0), client_time=5.0)
        assert (codes(move) == ["through_wall"]) is blocked
        assert (move.position[0] < -8.8) is blocked


def test_a_door_that_was_open_on_the_screen_does_not_stop_a_move():
    """A door closes on the server first; who went through it as the screen showed it open did nothing wrong."""
    moving = msgspec.structs.replace(RULES, movement=MovementRules(speed_m_s=50.0, acceleration_m_s2=1e4))
    here, door = shut(moving, x=-20.0)
    nonce = here.referee.ping("s", here.now)
    here.referee.pong("s", nonce, 1.0, here.now + 0.05)
    here.referee.set_position(here.shooter, (-9.0, 3.0, 0.0), here.now - 1.0)
    here.tick += 1
    poses = [here.pose(-9, 3), here.pose(-5, 3), np.array([[-8.6, 3.0, 1.2, 0.0, 0.0, 0.0, 1.0]])]
    here.referee.record(here.tick, here.now, [here.shooter, here.runner, door], poses)
    here.referee.snapshot_sent(here.tick)
    assert codes(here.say(MoveClaim, position=(-7.0, 3.0, 0.0), client_time=5.0, late=0.04)) == []


def test_a_splash_stops_at_a_pane_that_stops_shots():
    """Behind a pane that no shot passes, a burst hurts nobody."""
    damaged = []
    for surface in (tinclock.types.Surface("brick"), PANE):
        wall = tinclock.Level.from_boxes([[-1.0, 9.0, 1.0]], [[0.02, 30.0, 9.0]], surfaces=[surface])
        here = armed(wall, splash=BLAST)
        launch(here, direction=AHEAD)
        damaged.append(sum(hit.damage for ruling in fly(here) for hit in ruling.hits if hit.victim == here.runner))
    assert damaged == [0.0, 0.0]


def test_a_door_stops_a_shot_and_is_nobody_who_was_hit():
    """What only stands in the way is told as what stopped the shot: not among the hits, not in the receipt."""
    here, _ = shut(x=-7.0)
    ruling = here.shoot(view=View(here.tick - 8, here.tick - 8, 0.0))
    assert (ruling.outcome, ruling.hits, ruling.stopped_by.name) == ("accepted", (), "door")
    assert ruling.reached_m == pytest.approx(1.86, abs=0.05)
    assert ruling.receipt().hits == ()
    named = here.shoot(view=View(here.tick - 8, here.tick - 8, 0.0), late=0.2, victim=3)
    assert (named.outcome, codes(named)) == ("accepted", [])  # a client may well say that it hit the door


@given(seed=st.integers(0, 10**6))
def test_everything_that_goes_through_the_world_is_stopped_alike(rules, seed):
    """A shot, a held-out muzzle and the question behind blows, moves and splashes agree on what is in the way."""
    rng = np.random.default_rng(seed)
    plain = changed(RULES, "weapons", "grit_rifle", penetration=0.0)
    boxes = rng.uniform(-4, 4, (6, 3)), rng.uniform(0.05, 0.8, (6, 3)), rng.uniform(0, 6, 6)
    level = tinclock.Level.from_boxes(
        *boxes, kinds=rng.integers(0, 2, 6), surfaces=[tinclock.types.Surface("brick"), PANE]
    )
    here = Range(changed(plain, "rigs", "door", **DOOR), level)
    door = here.referee.add_entity("door")
    turn = rng.normal(size=4)
    leaf = np.array([[*rng.uniform(-4, 4, 3), *(turn / np.linalg.norm(turn))]])
    for _ in range(2):
        here.tick += 1
        poses = [here.pose(-9, 3), here.pose(40, 40), leaf]
        here.referee.record(here.tick, here.now, [here.shooter, here.runner, door], poses)
        here.referee.snapshot_sent(here.tick)
    slot = here.referee.history.newest_slot
    cover, at = Cover(here.referee.history, level), Instant(slot, slot, 0.0)
    start, end = rng.uniform(-6, 6, 3), rng.uniform(-6, 6, 3)
    length = float(np.linalg.norm(end - start))
    along = tuple(((end - start) / length).tolist())
    stop, _ = cover.between(tuple(start), tuple(end), at)
    through, _ = cover.between(tuple(start), tuple(end), at, budget=1e-12)
    wall, hit = here.referee.history.first_on_path(level, tuple(start), along, (slot, slot), 0.0, length, 0)
    shot = hit.distance_m if hit is not None else wall.distance_m if wall is not None else None
    assert (stop is None) == (through is None) == (shot is None)
    if stop is not None:
        assert stop.distance_m == pytest.approx(shot, abs=1e-9)
        assert through.distance_m in (0.0, pytest.approx(shot, abs=1e-6))  # 0: it starts inside


def test_a_door_needs_no_eye_and_a_body_does():
    """Only a rig that blocks can go without an eye; nothing can be fired from one."""
    assert not Rig("door", RigRules(**DOOR)).has_eye
    with pytest.raises(RulesError, match=r"eye: is missing"):
        Rig("body", RigRules(**{**DOOR, "blocks_only": False}))
    here = Range(changed(RULES, "rigs", "door", **DOOR), None)
    with pytest.raises(BadNumberError, match="one with an eye"):
        here.referee.add_entity("door", weapon="hose")


# -- who left, who came -------------------------------------------------------------------------------------------


def claimed_hit(joins: bool) -> tuple[Range, tinclock.Ruling, int | None]:
    """A dart's hit waits for its claim; meanwhile its victim leaves, and somebody else may join."""
    here = armed(hit_source="client_confirmed", speed_m_s=60.0)
    launch(here, lead_s=9.0 / 60.0)
    fly(here, 14)
    here.referee.dismiss("r", here.now)
    other = None
    if joins:
        other = here.referee.admit(connection="n", account="n", team="pewter", rig="gardener")
        here.tick += 1
        poses = [here.pose(-9, 3), here.pose(0, 3)]
        here.referee.record(here.tick, here.now, [here.shooter, other], poses)
    flown = 9.0 / 60.0
    claim = {"projectile": 1, "flight_time_s": flown, "position": (0.0, 5.0, 1.3), "victim": here.runner}
    return here, here.say(ImpactClaim, **claim), other


@pytest.mark.parametrize("joins", [False, True])
def test_an_impact_that_is_claimed_after_its_victim_left_harms_nobody_else(joins):
    """What outlives a tick names entities: a body that took the leaver's place is not the one that was hit."""
    here, ruling, other = claimed_hit(joins)
    assert ruling.hits == ()
    assert step(ruling, "damage applied") == "its victim has left"
    if other is not None:
        assert here.referee.ledger.health(other) == 100.0


def test_reflected_fire_of_somebody_who_left_ends_in_nobody():
    """Damage to a team-mate that would come back to an owner who is gone is done to nobody."""
    rules = msgspec.structs.replace(
        RULES, damage=msgspec.structs.replace(RULES.damage, friendly_fire="reflected", friendly_fraction=1.0)
    )
    here = armed(when_owner_leaves="orphan", speed_m_s=20.0)
    here = Range(msgspec.structs.replace(here.referee.rules, damage=rules.damage), None, team="copper")
    here.referee.set_weapon(here.shooter, "dart")
    launch(here, lead_s=9.0 / 20.0)
    here.referee.dismiss("s", here.now)
    flown = []
    for _ in range(40):
        here.tick += 1
        here.referee.record(here.tick, here.now, [here.runner], [here.pose(0, 2 + here.tick / 16)])
        flown += here.referee.advance(here.now)
    assert any(ruling.hits for ruling in flown)
    assert here.referee.ledger.health(here.runner) == 100.0


def test_nobody_sees_what_was_sent_before_its_own_admission():
    """A view of a snapshot from before a connection was admitted is refused, however it is claimed."""
    here = Range(RULES, None)
    late = here.referee.admit(connection="n", account="n", team="copper", rig="gardener", server_time=here.now)
    before = here.tick - here.tick % 2
    for _ in range(4):
        here.tick += 1
        poses = [here.pose(-9, 3), here.pose(0, 2 + here.tick / 16), here.pose(-9, 6)]
        here.referee.record(here.tick, here.now, [here.shooter, here.runner, late], poses)
        here.referee.snapshot_sent(here.tick)
    eye = here.referee.history.eye_now(late)
    for view in (View(before - 4, before - 2, 0.5), View(-90, -80, 0.0), View(0, 2, 0.0)):
        ruling = here.say(ShotClaim, by="n", actor=late, weapon="grit_rifle", origin=eye, direction=AHEAD,
                          view=view)  # fmt: skip
        assert (ruling.outcome, codes(ruling)) == ("rejected", ["view_unknown"])
    good = here.say(ShotClaim, by="n", actor=late, weapon="grit_rifle", origin=eye, direction=AHEAD,
                    view=View(here.tick - 1, here.tick, 0.5))  # fmt: skip
    assert good.outcome == "accepted"


def test_a_connection_that_comes_back_gets_nonces_of_its_own():
    """A returning client can't know its nonces from the last time, and so can't answer before it is asked."""
    here = Range(RULES, None)
    seen = []
    for _ in range(3):
        here.referee.admit(connection="n", account="n", team="copper", rig="gardener")
        seen += [here.referee.ping("n", here.now) for _ in range(5)]
        here.referee.dismiss("n")
    assert len(set(seen)) == 15


# -- absence, and time by time ------------------------------------------------------------------------------------


def one_body(**settings: Any) -> tuple[tinclock.PoseHistory, np.ndarray]:
    rig = Rig("body", RULES.rigs["gardener"])
    history = tinclock.PoseHistory({"body": rig}, **settings)
    history.add(1, "body")
    return history, np.hstack([rig.rest, np.tile([0.0, 0.0, 0.0, 1.0], (len(rig.rest), 1))])


@pytest.mark.parametrize("storage", ["full", "half"])
def test_an_entity_that_was_absent_between_two_snapshots_is_not_met_between_them(storage):
    """Present at ticks 0 and 3 and absent at 1 and 2, it is at both ends and nowhere in between."""
    history, pose = one_body(storage=storage)
    for tick in range(5):
        there = tick not in (1, 2)
        history.record(tick, tick / 64, [1] if there else [], [pose + [tick, 0, 0, 0, 0, 0, 0]] if there else [])
    shot = {"direction": AHEAD, "limit_m": 9.0}
    for fraction, x in ((0.0, 0.0), (0.5, None), (0.99, None), (1.0, 3.0)):
        view = View(0, 3, fraction)
        bones = history.bones_at(1, view)
        assert (bones is None) == (x is None)
        assert history.present(view) == ([] if x is None else [1])
        hit = history.nearest((-2.0, 0.0, 1.3), view=view, **shot)
        many = history.nearest_many([(-2.0, 0.0, 1.3)], [AHEAD], [0], [3], [fraction], limits_m=9.0)
        assert (hit is None) == (x is None) == (many.entity[0] == 0)
        if x is not None:
            assert bones[0, 0] == pytest.approx(x, abs=1e-3)
    assert history.bones_at(1, View(3, 4, 0.5))[0, 0] == pytest.approx(3.5, abs=1e-3)


NUMBERINGS = {
    "as declared": (64.0, lambda n: n, lambda n: n / 64),
    "twice as fast": (64.0, lambda n: n, lambda n: n / 128),
    "numbered by twos": (64.0, lambda n: 2 * n, lambda n: n / 64),
    "numbered by a thousand": (64.0, lambda n: 1000 * n + 7, lambda n: n / 64),
    "slower, with a hitch": (64.0, lambda n: n, lambda n: n / 20 + (0.8 if n > 300 else 0.0)),
    "far faster": (10.0, lambda n: n, lambda n: n / 500),
}


@pytest.mark.parametrize("case", NUMBERINGS)
def test_what_was_recorded_in_the_last_second_is_held_whatever_the_rate_and_the_numbers(case):
    """History goes by server time: any tick rate, any numbering, gaps and hitches."""
    rate, tick_of, time_of = NUMBERINGS[case]
    history, pose = one_body(tick_rate_hz=rate, history_s=1.0)
    for n in range(700):
        history.record(tick_of(n), time_of(n), [1], pose[None] + [[[n, 0, 0, 0, 0, 0, 0]]])
        history.publish(tick_of(n))
    young = [n for n in range(700) if time_of(n) >= time_of(699) - 1.0]
    rays = [(n - 2.0, 0.0, 1.3) for n in young], [AHEAD] * len(young), [tick_of(n) for n in young]
    many = history.nearest_many(*rays, rays[2], np.zeros(len(young)), limits_m=3.0)
    assert (many.entity == 1).all()
    for n in young:
        assert history.holds(tick_of(n))
        assert history.bones_at(1, View(tick_of(n), tick_of(n), 0.0))[0, 0] == pytest.approx(n, abs=1e-3)
        assert history.time_of(history.view_at(time_of(n))) == pytest.approx(time_of(n))
    assert list(history.snapshots) == [int(tick) for tick in history.ticks()[2]]


def test_ticks_that_come_too_fast_to_be_held_are_refused_at_once():
    """Milliseconds as seconds, say, would need a ring without end: `record` says so instead of dropping the past."""
    history, pose = one_body(tick_rate_hz=8000.0, history_s=2.0)
    history.record(0, 0.0, [1], pose[None])
    for tick in range(1, 16_384):
        history.record(tick, tick * 1e-6, [], pose[None][:0])
    with pytest.raises(BadNumberError, match=r"at most 16,384 ticks in history_s = 2 s"):
        history.record(16_384, 16_384 * 1e-6, [], pose[None][:0])
    assert history.holds(0)


def test_a_view_three_tenths_old_is_ruled_as_it_is_on_a_server_of_128_hertz():
    """The rules say 64; the server ticks twice as fast and counts by twos, and no honest view is capped for it."""
    here = Range(RULES, None)
    start = here.now
    for n in range(1, 200):
        tick, at = here.tick + 2 * n, start + n / 128
        here.referee.record(tick, at, [here.shooter, here.runner], [here.pose(-9, 3), here.pose(0, 2 + n / 32)])
        here.referee.snapshot_sent(tick)
    view = View(here.tick + 2 * 160, here.tick + 2 * 161, 0.0)
    eye = here.referee.history.eye_now(here.shooter)
    chest = here.referee.history.bones_at(here.runner, view)[2, :3]
    along = tuple(((chest - eye) / np.linalg.norm(chest - eye)).tolist())
    ruling = here.referee.rule("s", ShotClaim(1, here.shooter, "grit_rifle", eye, along, view),
                               received_at=start + 199 / 128)  # fmt: skip
    assert (codes(ruling), [hit.victim for hit in ruling.hits]) == ([], [here.runner])


def test_lateness_is_measured_against_the_snapshots_that_were_sent():
    """A server that sends less often than its rules say makes nobody's view late."""
    here = Range(RULES, None)
    nonce = here.referee.ping("s", here.now)
    here.referee.pong("s", nonce, 9.0, here.now + 0.02)
    declared = here.referee.view_bounds("s").oldest_s
    for n in range(1, 40):
        tick, at = here.tick + n, here.now + n / 8
        here.referee.record(tick, at, [here.shooter], [here.pose(-9, 3)])
        here.referee.snapshot_sent(tick)
    assert here.referee.view_bounds("s").oldest_s == pytest.approx(declared + 1 / 8 - 2 / 64, abs=0.03)


# -- numbers ------------------------------------------------------------------------------------------------------


def test_numbers_that_are_none_are_errors_and_not_misses():
    """NaN in a fraction, a limit or a flight is the caller's mistake and is named."""
    history, pose = one_body()
    history.record(0, 0.0, [1], pose[None])
    start, now = (-2.0, 0.0, 1.3), View(0, 0, 0.0)
    with pytest.raises(BadNumberError, match=r"view\.fraction"):
        history.nearest(start, AHEAD, View(0, 0, math.nan))
    with pytest.raises(BadNumberError, match="limit_m"):
        history.nearest(start, AHEAD, now, limit_m=math.nan)
    with pytest.raises(BadArrayError, match=r"limits_m.*first bad row: 1"):
        history.nearest_many([start] * 2, [AHEAD] * 2, [0, 0], [0, 0], [0.0, 0.0], limits_m=[9.0, math.nan])
    motion = tinclock.types.Motion(radius_m=0.1)
    for wrong in ({"start": math.nan}, {"position": (0.0, math.nan, 0.0)}, {"velocity": (0.0, 0.0, 0.0)},
                  {"last": math.nan}, {"range_m": math.nan}, {"target": (math.inf, 0.0, 0.0)}):  # fmt: skip
        with pytest.raises(BadNumberError):
            tinclock.client.ProjectilePath(
                motion, **{"start": 0.0, "position": (0.0, 0.0, 9.0), "velocity": AHEAD, **wrong}
            )
    with pytest.raises(BadNumberError, match="server_time"):
        tinclock.client.ProjectilePath(motion, 0.0, (0.0, 0.0, 9.0), AHEAD).at(math.nan)


BOX = {"name": "box", "bone": "b", "zone": "z", "shape": "box", "half_size_m": (0.1, 0.2, 0.3)}
PIPE = {"name": "pipe", "bone": "b", "zone": "z", "shape": "capsule", "start": (0.0, 0.0, 0.0), "end": (0.0, 0.0, 1.0),
        "radius_m": 0.1}  # fmt: skip
MISSHAPEN = {
    "a rotation without length": ({**BOX, "rotation": (0.0, 0.0, 0.0, 0.0)}, r"unit quaternion xyzw.*length 0\.000"),
    "a rotation that is no unit": ({**BOX, "rotation": (0.0, 0.0, 0.0, 2.0)}, r"unit quaternion xyzw.*length 2\.000"),
    "a capsule's centre": ({**PIPE, "centre": (0.0, 0.0, 1.0)}, r"a capsule has no centre"),
    "a capsule's rotation": ({**PIPE, "rotation": (1.0, 0.0, 0.0, 0.0)}, r"a capsule has no rotation"),
}


@pytest.mark.parametrize("case", MISSHAPEN)
def test_a_part_that_nothing_could_hit_or_that_is_misunderstood_is_refused(case):
    """What a rig can't use is named, never ignored."""
    part, message = MISSHAPEN[case]
    with pytest.raises(RulesError, match=message):
        Rig("r", RigRules(bones=[BoneRules(name="b")], parts=[PartRules(**part)], blocks_only=True))


def test_a_quaternion_that_looks_like_wxyz_is_pointed_out():
    """Half a turn of a box does nothing; it is what no turn looks like in the other order."""
    wrong = PartRules(**{**BOX, "rotation": (1.0, 0.0, 0.0, 0.0)})
    rig = RigRules(bones=[BoneRules(name="b")], parts=[wrong], blocks_only=True)
    rules = msgspec.structs.replace(RULES, rigs={**RULES.rigs, "crate": rig})
    (told,) = [odd for odd in unusual_rules(rules) if "wxyz" in odd]
    assert told.startswith("rigs.crate.parts[0] (box).rotation")
    assert "[0.0, 0.0, 0.0, 1.0]" in told
    history, pose = one_body()
    pose[:, 3:] = [1.0, 0.0, 0.0, 0.0]
    with pytest.warns(UserWarning, match="wxyz"):
        history.record(0, 0.0, [1], pose[None])


def signatures() -> int:
    kernels = [one for module in (cast,) for one in vars(module).values() if hasattr(one, "signatures")]
    return sum(len(kernel.signatures) for kernel in kernels)


def test_whole_numbers_for_floats_compile_nothing_in_a_running_server():
    """A claim, a level or a history that is asked with integers is converted at the door, not compiled for."""
    here = Range(RULES, tinclock.Level.from_boxes([[30, 0, 0]], [[1, 99, 99]]))
    here.shoot()
    now = View(here.tick, here.tick, 0.0)
    here.referee.history.nearest((-2.0, 3.0, 1.0), (1.0, 0.0, 0.0), now, limit_m=9.0)  # loads what floats need
    here.referee.level.first((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), 60.0)
    before = signatures()
    eye = here.referee.history.eye_now(here.shooter)
    claim = {"weapon": "grit_rifle", "origin": eye, "direction": (1, 0, 0), "view": View(36, 38, 0)}
    ruling = here.say(ShotClaim, late=1, **claim)
    assert ruling.outcome == "adjusted"  # past the cap, by a whole second
    here.referee.record(here.tick + 1, 2, [here.shooter, here.runner], [here.pose(-9, 3), here.pose(0, 3)])
    assert here.referee.history.nearest((-2, 3, 1), (1, 0, 0), View(here.tick + 1, here.tick + 1, 0), limit_m=9)
    assert here.referee.level.first((0, 0, 0), (1, 0, 0), 60).distance_m == 29.0
    assert signatures() == before


def test_the_servers_own_claims_may_hold_numpy_numbers():
    """`act` takes what arithmetic with arrays gives; what it can't take it names."""
    here = Range(RULES, None)
    turret = here.referee.add_entity("sprinkler", weapon="sprinkler_jet", team="copper")
    rig = here.referee.history.rigs["sprinkler"]
    for _ in range(2):
        here.tick += 1
        stand = np.hstack([rig.rest + [-3.0, 3.0, 0.0], np.tile([0.0, 0.0, 0.0, 1.0], (2, 1))])
        here.referee.record(here.tick, here.now, [1, 2, turret], [here.pose(-9, 3), here.pose(0, 3), stand])
    way = np.array([1.0, 0.0, 0.0])
    for aim in (way, tuple(way), way.astype(np.float32)):
        claim = {"kind": "trigger", "weapon": "sprinkler_jet", "held": np.True_, "direction": aim}
        assert here.referee.act(turret, claim, server_time=np.float64(here.now)).outcome == "accepted"
    shot = TriggerClaim(1, np.int64(turret), "sprinkler_jet", True, tuple(way))
    assert here.referee.act(turret, shot, server_time=here.now).outcome == "accepted"
    with pytest.raises(BadNumberError, match="direction"):
        here.referee.act(turret, {"kind": "trigger", "weapon": "sprinkler_jet", "held": True}, server_time=here.now)


def test_damage_that_was_wounded_before_is_told(rules):
    """The world's damage and a shot's add up in one ledger."""
    here = Range(RULES, None)
    here.referee._pipeline.ledger.wound(here.runner, 10.0, here.now, Blow("fall"))
    assert here.shoot().hits[0].health_before == 90.0
