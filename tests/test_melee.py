"""Melee attacks: the bodies that they meet at the view, against an oracle; walls, backs, facings, and the query."""

from __future__ import annotations

import math

import numpy as np
import pytest
from conftest import Range, changed, codes, step
from oracles import SHAPES, distance_field, first_contact, random_bones
from scipy.spatial.transform import Rotation
from test_history import mixed_rig

import tinclock
from tinclock.core.timeline.bodies import parts_in_reach
from tinclock.errors import BadNumberError
from tinclock.garden.scenario import data_file

View = tinclock.View
RULES = tinclock.load_rules(data_file("garden.toml"))
PATIENT = {"match": {"history_s": 9.0}, "view": {"max_rewind_s": 9.0}}


def reached_by_oracle(boxes, eye, aim, reach, radius, cone) -> tuple[bool, float, float]:
    """(whether any part is reached, the nearest part's distance, how near the decision is to an edge)."""
    found, nearest, edge = False, math.inf, math.inf
    for shape, centre, axes, size in zip(boxes.shapes, boxes.centres, boxes.axes, boxes.sizes, strict=True):
        kind, local, way = SHAPES[shape], axes.T @ (eye - centre), axes.T @ aim
        apart = distance_field(kind, local, size)
        there = [[distance_field(kind, local + s * h, size) for s in (-1, 1)] for h in np.eye(3) * 1e-6]
        foot = -np.diff(there, axis=1)[:, 0] / 2e-6
        angle = math.acos(min(1.0, max(-1.0, float(foot @ way) / max(float(np.linalg.norm(foot)), 1e-12))))
        contact, least = first_contact(kind, local, way, size, radius)
        swept = contact <= reach - radius
        in_cone = apart <= reach and (angle <= cone or apart <= 0.0)
        found |= swept or in_cone
        nearest = min(nearest, max(apart, 0.0))
        edge = min(edge, abs(apart - reach), abs(angle - cone), abs(contact - reach + radius), abs(least))
    return found, nearest, edge


def test_whom_a_blow_reaches_agrees_with_a_search_on_distance_fields():
    """Whom a melee attack reaches agrees with a search on distance fields."""
    rng, agreed, touched = np.random.default_rng(11), 0, 0
    for case in range(250):
        history = tinclock.PoseHistory({"mixed": mixed_rig()})
        history.add(1, "mixed"), history.add(2, "mixed")
        eye = rng.uniform(-1, 1, 3) + [[0.0, 0.0, 1.0], [8e3, -3e3, 1.0]][case % 2]
        for tick in (0, 1):
            near = random_bones(rng, 3, eye + rng.normal(scale=0.6, size=3), 0.5)
            history.record(tick, tick / 64, [1, 2], [near, near])
        aim = Rotation.random(rng=rng).apply([1.0, 0.0, 0.0])
        reach, radius, cone = rng.uniform(0.3, 1.5), rng.uniform(0.02, 0.2), rng.uniform(0.05, 1.2)
        fraction = float(rng.random())
        got = parts_in_reach(history, tuple(eye), tuple(aim), (0, 1), fraction, reach_m=reach, radius_m=radius,
                             cone_rad=cone, ignore=2)  # fmt: skip
        boxes = history.hitboxes_at(1, View(0, 1, fraction))
        found, nearest, edge = reached_by_oracle(boxes, eye, aim, reach, radius, cone)
        if edge < 1e-4:
            continue
        agreed += 1
        touched += found
        assert [one.entity for one in got] == [1] * found, case
        if got:
            assert nearest - 1e-6 <= got[0].distance_m <= reach + radius
            on = min(abs(distance_field(SHAPES[s], a.T @ (np.array(got[0].position) - c), z)) for s, c, a, z in zip(
                boxes.shapes, boxes.centres, boxes.axes, boxes.sizes, strict=True))  # fmt: skip
            assert on < 1e-6 or got[0].distance_m < 1e-6
    assert agreed > 200
    assert 50 < touched < agreed - 50


class Close(Range):
    """A striker at the origin that faces +x; the other stands `ahead` metres before it, turned by `turn`."""

    def __init__(self, level=None, ahead=1.0, turn=0.0, **trowel):
        self.ahead, self.turn = ahead, turn
        super().__init__(changed(RULES, "weapons", "trowel", draw_s=0.0, **trowel), level, **PATIENT)
        self.referee.set_weapon(self.shooter, "trowel")

    def pose(self, x, y):
        at, turn = ((0.0, 0.0), 0.0) if x == -9 else ((self.ahead, 0.0), self.turn)
        spin = Rotation.from_euler("z", turn)
        return np.hstack([spin.apply(self.rest) + [*at, 0.0], np.tile(spin.as_quat(), (len(self.rest), 1))])

    def strike(self, late=0.0, **fields):
        eye = self.referee.history.eye_now(self.shooter)
        view = View(self.tick - 5, self.tick - 3, 0.5)
        values = {"weapon": "trowel", "origin": eye, "direction": (1.0, 0.0, 0.0), "view": view, **fields}
        return self.say(tinclock.claims.MeleeClaim, late=late, **values)


def test_a_blow_within_reach_does_the_tables_damage_and_one_beyond_it_none():
    """A melee attack within reach does the table's damage and one beyond it none."""
    near, far = Close(ahead=0.9).strike(), Close(ahead=2.2).strike()
    assert (near.outcome, near.hits[0].victim, near.damage) == ("accepted", 2, pytest.approx(45.0 * 1.5))
    assert (far.outcome, far.hits, step(far, "nobody reached within")) == ("accepted", (), 1.6)


def test_who_is_in_reach_now_is_who_a_blow_would_hit():
    """Whoever is in reach now is whom a melee attack would hit."""
    for ahead in (0.5, 0.9, 1.3, 1.55, 1.7, 1.9, 2.5):
        here = Close(ahead=ahead)
        button = here.referee.melee_targets(here.shooter)
        hits = here.strike(view=View(here.tick - 1, here.tick - 1, 0.0)).hits
        assert [(one.entity, one.part.name) for one in button] == [(hit.victim, hit.part) for hit in hits]
    with pytest.raises(BadNumberError, match="weapon of kind 'melee'"):
        here.referee.melee_targets(here.shooter, "hose")
    assert here.referee.melee_targets(here.shooter, direction=(-1.0, 0.0, 0.0)) == []


def test_no_blow_goes_through_a_wall_or_a_door():
    """No melee attack goes through a wall or a door."""
    wall = tinclock.Level.from_boxes([[0.5, 0.0, 1.0]], [[0.02, 3.0, 2.0]], surfaces=[tinclock.types.Surface("brick")])
    ruling = Close(level=wall).strike()
    assert (ruling.hits, step(ruling, "melee attack stopped by")) == ((), "brick")
    assert Close(level=wall).referee.melee_targets(1) == []


def test_a_takedown_works_from_behind_only():
    """A takedown works from behind only."""
    assert Close(backstab_deg=45.0).strike().hits
    front = Close(backstab_deg=45.0, turn=math.pi).strike()
    assert (front.hits, step(front, "victim's back")) == ((), "not turned")
    assert Close(backstab_deg=45.0, turn=math.pi).referee.melee_targets(1) == []


def test_a_blow_must_go_where_the_body_faces_and_starts_at_its_eye():
    """A melee attack must go where the body faces and starts at its eye."""
    back = Close().strike(direction=(-1.0, 0.0, 0.0))
    assert (back.outcome, codes(back)) == ("rejected", ["not_facing"])
    assert back.findings[0].observed == pytest.approx(180.0)
    assert codes(Close().strike(origin=(0.9, 0.0, 1.6))) == ["muzzle_far"]
    here = Close()
    assert codes(here.strike(weapon="grit_rifle")) == ["weapon_not_held"]
    here.referee.set_weapon(here.shooter, "grit_rifle")
    assert codes(here.strike(weapon="grit_rifle")) == ["wrong_kind"]
    here.referee.set_weapon(here.shooter, "trowel")
    assert codes(here.shoot(weapon="trowel")) == ["wrong_kind"]


def test_blows_have_a_cadence_and_a_number_of_victims():
    """Melee attacks have a fire_rate and a number of victims."""
    here = Close(damage=1.0)
    assert [codes(here.strike(late=t)) for t in (0.0, 0.2, 0.6)] == [[], ["fires_too_fast"], []]
    referee = here.referee
    third = referee.admit(connection="t", account="t", team="pewter", rig="gardener")
    poses = [here.pose(-9, 0), here.pose(0, 0), here.pose(0, 0) + [0.1, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0]]
    for tick in range(here.tick + 1, here.tick + 9):
        referee.record(tick, tick / 64, [1, 2, third], poses)
        if tick % 2 == 0:
            referee.snapshot_sent(tick)
    assert [hit.victim for hit in here.strike(late=1.2, view=View(46, 46, 0.0)).hits] == [2]
    assert [one.entity for one in referee.melee_targets(1)] == [2, third]
