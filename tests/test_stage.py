"""`tinclock.testing`: a stage on which users test their own rules, tried on the garden's."""

from __future__ import annotations

import math

import numpy as np
import pytest

import tinclock
from tinclock.errors import BadArrayError, UnknownNameError
from tinclock.recordings import Recording, replay, with_setting
from tinclock.testing import Stage


@pytest.fixture
def stage(rules) -> Stage:
    made = Stage(rules)
    made.enter("ada", team="copper", weapon="grit_rifle")
    made.enter("bob", (10.0, 0.0, 0.0), team="pewter")
    made.run(1.0)
    return made


def test_an_honest_shot_is_accepted_on_the_part_that_was_aimed_at(stage):
    """Standing, walking away at the speed of a runner, and gone."""
    for part in ("head", "chest", "left_foot"):
        ruling = stage.shoot("ada", "bob", part=part)
        assert (ruling.outcome, ruling.hits[0].part, ruling.findings) == ("accepted", part, ())
        stage.run(0.2)
    stage.referee.spawn(stage.entity("bob"))
    stage.walk("bob", (0.0, 4.0, 0.0))
    stage.run(0.5)
    ruling = stage.shoot("ada", "bob", part="chest")
    assert (ruling.outcome, ruling.hits[0].part) == ("accepted", "chest")
    assert ruling.rewound_s == pytest.approx(0.15, abs=0.02)
    stage.leave("bob")
    stage.run(0.1)
    with pytest.raises(UnknownNameError, match="player on the stage 'bob'"):
        stage.shoot("ada", "bob")


def test_lies_are_said_as_they_are_given(stage):
    """Another's entity, a muzzle elsewhere, a view of long ago, more damage than there is."""
    assert stage.shoot("ada", "bob", actor=stage.entity("bob")).outcome == "rejected"
    assert stage.shoot("ada", "bob", origin=(3.0, 0.0, 1.6)).findings[0].code == "muzzle_far"
    stage.run(0.3)
    old = stage.shoot("ada", "bob", view=stage.view(older_s=0.4))
    assert [finding.code for finding in old.findings] == ["over_rewind_limit", "view_inconsistent"]
    stage.run(0.3)
    left = stage.health("bob")
    boasted = stage.shoot("ada", "bob", part="chest", damage=500.0)
    assert ([finding.code for finding in boasted.findings], boasted.damage) == (["damage_differs"], min(17.0, left))


def test_triggers_and_moves_go_on_while_time_passes(stage):
    """What a held trigger fires comes back from `run`; a move beyond a body's speed is cut down."""
    stage.claim("ada", "trigger", weapon="grit_rifle", held=True, direction=(1.0, 0.0, 0.0), view=stage.view())
    fired = stage.run(0.55)
    assert [ruling.kind for ruling in fired] == ["shot"] * 4
    assert stage.health("bob") < 100.0
    stage.run(0.5)
    moved = stage.claim("bob", "move", position=(18.0, 0.0, 0.0), client_time=102.0)
    assert moved.outcome != "accepted"
    assert stage.referee.position(stage.entity("bob"))[0] < 18.0


def test_what_isnt_there_is_named(stage):
    """What isn't there is named."""
    with pytest.raises(UnknownNameError, match="unknown part 'tail'; known: 'head'"):
        stage.shoot("ada", "bob", part="tail")
    with pytest.raises(UnknownNameError, match="unknown player on the stage 'zoe'; known: 'ada', 'bob'"):
        stage.health("zoe")


def two(rules, **options):
    stage = Stage(rules, **options)
    stage.enter("ada", team="copper", weapon="grit_rifle", round_trip_s=0.2, delay_s=0.05)
    stage.enter("bob", (10.0, 0.0, 0.0), team="pewter", facing_rad=math.pi)
    stage.run(1.5)
    return stage


def test_a_line_of_its_own_ages_the_views_of_its_player(rules):
    """Who has a round trip of 200 ms and draws 50 ms late claims views of a quarter second, and they are explained."""
    stage = two(rules)
    ruling = stage.shoot("ada", "bob", part="chest")
    assert ruling.outcome == "accepted"
    assert ruling.rewound_s == pytest.approx(0.25, abs=0.04)
    assert stage.referee.clock("ada").round_trip_s == pytest.approx(0.2, abs=0.02)


def test_a_stage_is_recorded_and_rules_again_the_same(rules, tmp_path):
    """What was played on a stage is a recording like any other, and rules again bit for bit."""
    with two(rules, record_to=tmp_path / "played") as stage:
        stage.shoot("ada", "bob", part="head")
        stage.run(0.2)
    again = replay(Recording(tmp_path / "played"))
    assert again.as_recorded
    assert [hit.part for ruling in again.rulings for hit in ruling.hits] == ["head"]


def test_the_dead_shoot_from_where_they_stood(rules):
    """A shot that was under way when its shooter died is refused without a trade window, and counts within one."""
    for window, outcome in ((0.0, "rejected"), (0.5, "accepted")):
        stage = two(with_setting(rules, "damage.trade_window_s", window))
        stage.referee.damage(stage.entity("ada"), 1000.0, server_time=stage.now)
        stage.run(0.05)
        assert stage.shoot("ada", "bob", part="chest").outcome == outcome


def test_a_body_is_hit_where_it_was_posed(rules):
    """Bones that were posed elsewhere are what shots are tested against, until the body stands by itself again."""
    stage = two(rules)
    bones = tinclock.rooted_bones(stage.referee.history.rigs["gardener"], [[10.0, 2.0, 0.0, 0.0, 0.0, 1.0, 0.0]])[0]
    stage.pose("bob", bones)
    stage.run(1.0)
    beside = stage.shoot("ada", (10.0, 2.0, 1.2))
    assert [hit.victim for hit in beside.hits] == [stage.entity("bob")]
    stage.pose("bob", None)
    stage.run(1.0)
    assert not stage.shoot("ada", (10.0, 2.0, 1.2)).hits
    with pytest.raises(BadArrayError, match="bones"):
        stage.pose("bob", np.zeros((2, 7)))
