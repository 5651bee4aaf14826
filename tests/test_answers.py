"""The sentence that every explanation begins with answers why a claim did what it did."""

import math
import re

import pytest

import tinclock
from tinclock.recordings import Recording, explain_miss, history_around
from tinclock.sample import data_file
from tinclock.testing import Stage

WALL = [[6.0, 0.0, 1.5]], [[0.05, 4.0, 1.5]]


@pytest.fixture
def stage(rules):
    """Two of one team and one enemy, ten metres down the lane."""
    made = Stage(rules)
    made.enter("ada", team="copper", weapon="grit_rifle")
    made.enter("bea", (10.0, 3.0, 0.0), team="copper", facing_rad=math.pi)
    made.enter("cy", (10.0, 0.0, 0.0), team="pewter", facing_rad=math.pi)
    made.run(1.0)
    return made


def test_a_hit_says_whom_where_and_what_it_cost(stage):
    """A hit names victim, part, distance and health lost; live, without names, entities are numbered."""
    ruling = stage.shoot("ada", "cy", part="chest")
    names = {ruling.hits[0].victim: "cy"}
    assert re.match(r"cy was hit in the chest at \d+\.\d m and lost [\d.]+ points of health\.$", ruling.answer(names))
    assert ruling.explain().startswith(f"Entity {ruling.hits[0].victim} was hit in the chest")


def test_a_hit_that_does_nothing_says_why(stage):
    """A team-mate who was hit took no damage because friendly fire is off, and the sentence says so."""
    assert "no damage, because friendly fire is off" in stage.shoot("ada", "bea", part="chest").answer()


def test_a_refusal_says_what_was_wrong(stage):
    """A refused shot begins with the finding that refused it."""
    ruling = stage.shoot("ada", "cy", direction=(2.0, 0.0, 0.0))
    assert ruling.answer() == "The shot was rejected: the direction is not a unit vector."


def test_a_wall_that_stops_a_shot_is_named(rules):
    """A shot that a wall stops says which, and after how far; nobody behind it is called hit."""
    stage = Stage(rules, level=tinclock.Level.from_boxes(*WALL, surfaces=[tinclock.types.Surface("brick")]))
    stage.enter("ada", team="copper", weapon="grit_rifle")
    stage.enter("cy", (10.0, 0.0, 0.0), team="pewter", facing_rad=math.pi)
    stage.run(1.0)
    told = stage.shoot("ada", "cy", part="chest").answer()
    assert re.match(r"The shot hit nobody: the brick stopped it after 5\.\d m\.$", told)


def test_every_miss_of_a_recording_is_answered_by_name():
    """Of every shot of the sample that hit nobody the opening says a wall, a near miss or the range, by name."""
    source, told = Recording(data_file("sample")), []
    names = source.names()
    misses = [r for r in source.rulings() if r.kind == "shot" and not r.hits and r.account and r.outcome != "rejected"]
    for ruling in misses[:60]:
        found = explain_miss(history_around(source, ruling), ruling)
        told.append(ruling.explain(names, found.because(names)).splitlines()[0])
    assert all(line.startswith("The shot hit nobody: ") for line in told)
    assert sum(any(name and name in line for name in names.values()) for line in told) > 20
    assert {"it passed", "stopped it"} <= {" ".join(line.split(": ")[1].split()[:2]) for line in told} | {
        "stopped it" for line in told if " stopped it " in line
    }
