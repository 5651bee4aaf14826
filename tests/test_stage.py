"""`tinclock.testing`: a stage on which users test their own rules, tried on the garden's."""

from __future__ import annotations

import pytest

from tinclock.errors import UnknownNameError
from tinclock.testing import Stage


@pytest.fixture
def stage(rules) -> Stage:
    made = Stage(rules)
    made.enter("ada", team="copper", weapon="grit_rifle")
    made.enter("bob", (10.0, 0.0, 0.0), team="pewter")
    made.run(1.0)
    return made


def test_an_honest_shot_is_upheld_on_the_part_that_was_aimed_at(stage):
    """Standing, walking away at the speed of a runner, and gone."""
    for part in ("head", "chest", "left_foot"):
        ruling = stage.shoot("ada", "bob", part=part)
        assert (ruling.outcome, ruling.hits[0].part, ruling.findings) == ("upheld", part, ())
        stage.run(0.2)
    stage.referee.spawn(stage.entity("bob"))
    stage.walk("bob", (0.0, 4.0, 0.0))
    stage.run(0.5)
    ruling = stage.shoot("ada", "bob", part="chest")
    assert (ruling.outcome, ruling.hits[0].part) == ("upheld", "chest")
    assert ruling.rewound_s == pytest.approx(0.15, abs=0.02)
    stage.leave("bob")
    stage.run(0.1)
    with pytest.raises(UnknownNameError, match="player on the stage 'bob'"):
        stage.shoot("ada", "bob")


def test_lies_are_said_as_they_are_given(stage):
    """Another's entity, a muzzle elsewhere, a view of long ago, more damage than there is."""
    assert stage.shoot("ada", "bob", actor=stage.entity("bob")).outcome == "denied"
    assert stage.shoot("ada", "bob", origin=(3.0, 0.0, 1.6)).findings[0].code == "muzzle_far"
    stage.run(0.3)
    old = stage.shoot("ada", "bob", view=stage.view(older_s=0.4))
    assert [finding.code for finding in old.findings] == ["view_capped"]
    stage.run(0.3)
    boasted = stage.shoot("ada", "bob", part="chest", damage=500.0)
    assert ([finding.code for finding in boasted.findings], boasted.damage) == (["damage_differs"], 17.0)


def test_triggers_and_moves_go_on_while_time_passes(stage):
    """What a held trigger fires comes back from `run`; a move beyond a body's speed is cut down."""
    stage.say("ada", "trigger", weapon="grit_rifle", held=True, direction=(1.0, 0.0, 0.0), view=stage.view())
    fired = stage.run(0.55)
    assert [ruling.kind for ruling in fired] == ["shot"] * 4
    assert stage.health("bob") < 100.0
    stage.run(0.5)
    moved = stage.say("bob", "move", position=(18.0, 0.0, 0.0), client_time=102.0)
    assert moved.outcome != "upheld"
    assert stage.referee.position(stage.entity("bob"))[0] < 18.0


def test_what_isnt_there_is_named(stage):
    """What isn't there is named."""
    with pytest.raises(UnknownNameError, match="unknown part 'tail'; known: 'head'"):
        stage.shoot("ada", "bob", part="tail")
    with pytest.raises(UnknownNameError, match="unknown player on the stage 'zoe'; known: 'ada', 'bob'"):
        stage.health("zoe")
