"""Allowances are for honest rounding and jitter: a client that has read the source gains nothing by spending them."""

from __future__ import annotations

import json
import math

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from conftest import Range, changed, codes
from test_launches import AWAY, armed, fly, impact, launch
from yard import (
    GRAVITY,
    JUMP,
    NONE,
    RULES,
    SPEED,
    STRICT,
    Way,
    Yard,
    distance,
    fire,
    greatest_height,
    honest,
    lean,
    leap,
    rules_with,
    shots_in,
    to_and_fro,
)

import tinclock
from tinclock.cli.main import main
from tinclock.core.evidence.calibrated_rules import differences
from tinclock.core.rules.movement import ZoneRules
from tinclock.evidence import load_calibration

BOTH = {"default": RULES, "strict": STRICT}


# -- ways ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("as_bytes", [False, True])
@pytest.mark.parametrize("rules", BOTH)
@pytest.mark.parametrize("way", [
    Way(8), Way(64), Way(128), Way(64, 0.05), Way(64, 0.001, 1.005), Way(64, 2.5, 1.02), Way(16, 2.5, 1.0, 3.0, 0.2),
    Way(64, 2.5, 1.0, 1.0, 0.09),
])  # fmt: skip
def test_no_way_of_reporting_gets_a_runner_more_than_two_in_a_hundred_further(way, rules, as_bytes):
    """Whatever the rate, the claims, the clock and the silences: the distance over 20 s is that of the body's speed."""
    assert 0.85 * SPEED < distance(BOTH[rules], way, as_bytes=as_bytes) < 1.02 * SPEED


@pytest.mark.parametrize(("rate", "half_s"), [(16, 0.125), (64, 0.125), (64, 0.25), (128, 0.125), (128, 0.5)])
def test_a_body_turns_no_faster_by_its_allowances(rate, half_s):
    """To and fro a body covers what it covers without any allowance, but for two in a hundred."""
    assert to_and_fro(RULES, Way(rate), half_s) < 1.02 * to_and_fro(NONE, Way(rate), half_s)


def test_a_pause_while_pongs_come_is_a_choice_and_one_of_the_line_is_not():
    """A silent client whose pongs are on time gets little way in one report; one whose pongs were late gets it all."""
    assert leap(RULES, 0.9) < 0.65
    assert leap(RULES, 0.09) == pytest.approx(0.45)
    game = Yard(start=(-100.0, 50.0, 0.0))
    for k in range(128):
        x = game.move(5.0 + (k + 1) / 64, (-100.0 + SPEED * (k + 1) / 64, 50.0, 0.0))[0]
    game.answers, game._pings = False, []
    back = game.move(7.0 + 0.8, (x + SPEED * 0.8, 50.0, 0.0))
    assert back[0] - x == pytest.approx(SPEED * 0.8)
    assert not game.codes


def test_the_rest_of_a_way_after_a_pause_is_walked_and_no_evidence():
    """A body that was silent without a reason walks on at its speed; no report of that counts as running too fast."""
    game = Yard(start=(-100.0, 50.0, 0.0))
    at, x = 5.0, -100.0
    for _ in range(64):
        at, x = at + 1 / 64, x + SPEED / 64
        game.move(at, (x, 50.0, 0.0))
    at, x = at + 0.9, x + SPEED * 0.9
    reached = [game.move(at, (x, 50.0, 0.0))[0]]
    for _ in range(64):
        at += 1 / 64
        reached.append(game.move(at, (x, 50.0, 0.0))[0])
    steps = np.diff(reached)
    assert set(game.codes) == {"catching_up"}
    assert reached[-1] == pytest.approx(x, abs=0.01)
    assert steps.max() < 1.05 * SPEED / 64


# -- heights ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("rate", [8, 16, 64, 128])
@pytest.mark.parametrize("ahead_m", [0.001, 0.05, 0.3, 2.5])
def test_no_body_gets_higher_than_its_jump(rate, ahead_m):
    """However it reports, a body on flat ground is never higher than `jump_m`."""
    assert greatest_height(RULES, Way(rate, ahead_m)) <= JUMP + 0.001


def test_a_body_that_walks_off_a_ledge_falls_on_its_own_arc():
    """Whatever height its reports claim, it lands about when a body does that falls, and can't stay in the air."""
    ledge = tinclock.Level.from_boxes([[0, 0, -0.5], [0, 0, 1.5]], [[200, 200, 0.5], [5, 5, 1.5]])
    game = Yard(level=ledge, start=(0.0, 0.0, 3.0))
    at, x, left, landed = 5.0, 0.0, math.nan, math.nan
    for _ in range(200):
        at, x = at + 1 / 64, x + SPEED / 64
        x, _, z = game.move(at, (x, 0.0, 3.0))
        if x > 5.25 and math.isnan(left):
            left = at
        if z < 0.05 and math.isnan(landed):
            landed = at
    assert landed - left < math.sqrt(2.0 * 3.0 / GRAVITY) + 2.0 * math.sqrt(2.0 * JUMP / GRAVITY)
    assert game.codes["not_falling"] > 10


def test_a_refused_leap_leaves_gravity_as_it_was():
    """A body that claims a leap of 50 m stays where it was, and still falls and stands afterwards."""
    game = Yard()
    game.move(5.1, (0.1, 0.0, 0.0))
    assert game.move(5.2, (50.0, 0.0, 0.0))[0] < 1.0
    assert game.codes["teleport"] == 1
    heights = [game.move(5.2 + k / 64, (0.1, 0.0, 0.05 * k))[2] for k in range(1, 90)]
    assert max(heights) <= JUMP + 0.001


@pytest.mark.parametrize("rate", [8, 64])
def test_a_box_that_is_higher_than_a_stair_is_not_walked_up(rate):
    """A body beside a box of 0.9 m gets onto it by no reports: its rim over the box's edge carries it nowhere."""
    box = tinclock.Level.from_boxes([[0, 0, -0.5], [5, 0, 0.45]], [[50, 50, 0.5], [1, 9, 0.45]])
    game = Yard(rules_with(movement={"jump_m": 0.2}), level=box, start=(3.0, 0.0, 0.0))
    highest = 0.0
    for k in range(4 * rate):
        x, _, z = game.place
        highest = max(highest, game.move(5.0 + (k + 1) / rate, (min(x + SPEED / rate, 3.8), 0.0, z + 0.3))[2])
    assert highest < 0.9


def test_a_clock_that_was_set_is_forgotten():
    """A client whose clock leaps an hour forward has findings for a moment, and none later."""
    game = Yard()
    for k in range(64):
        game.move(5.0 + (k + 1) / 64, (0.0, 0.0, 0.0), 5.0 + (k + 1) / 64 + (3600.0 if k > 30 else 0.0))
    found = game.codes["fast_clock"]
    assert 1 <= found <= 2
    for k in range(640):
        game.move(20.0 + k / 64, (0.0, 0.0, 0.0), 20.0 + k / 64 + 3600.0)
    assert game.codes["fast_clock"] == found


def test_what_flies_climbs_or_rides_is_not_pulled_down():
    """A rig that flies, a zone without gravity, rules without it, and a lift that carries a body up."""
    bird = msgspec.structs.replace(
        RULES, rigs={**RULES.rigs, "gardener": msgspec.structs.replace(RULES.rigs["gardener"], flies=True)}
    )
    ladder = rules_with(movement={"free_zones": [ZoneRules(low=(-1.0, -1.0, 0.0), high=(1.0, 1.0, 9.0))]})
    for rules, top in ((bird, 6.0), (ladder, 6.0), (rules_with(movement={"gravity_m_s2": 0.0}), 6.0), (RULES, JUMP)):
        game, z = Yard(rules), 0.0
        for k in range(128):
            z = min(z + 0.05, 6.0)
            z = game.move(5.0 + (k + 1) / 64, (0.0, 0.0, z))[2]
        assert (z > 5.9) is (top == 6.0)


def test_stairs_and_slopes_are_walked_and_cliffs_are_not():
    """A stair of 0.3 m is no fall and no jump; a platform of 2 m isn't climbed in a report."""
    level = tinclock.Level.from_boxes(
        [[0, 0, -0.5], [3, 0, 0.15], [9, 0, 1.0]], [[50, 50, 0.5], [1, 9, 0.15], [1, 9, 1.0]]
    )
    game = Yard(level=level)
    at = 5.0
    for x, z in [(0.5 * k / 8, 0.3 if 2.0 < 0.5 * k / 8 < 4.0 else 0.0) for k in range(1, 100)]:
        at += 1 / 64
        game.move(at, (x, 0.0, z))
    assert not game.codes
    for _ in range(20):
        at += 1 / 64
        game.move(at, (game.place[0] + SPEED / 64, 0.0, 2.0))
    assert game.codes["not_falling"] > 0
    assert game.place[2] < JUMP + 0.01


# -- walls and muzzles --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("step_m", [0.0005, 0.002, 0.004, 0.05])
def test_no_step_is_small_enough_to_lean_into_a_wall(step_m):
    """The body's ball gets no deeper into a wall than the skin, however small its steps."""
    assert lean(RULES, step_m) <= RULES.movement.skin_m + 1e-3


@pytest.mark.parametrize("as_bytes", [False, True])
def test_a_shot_begins_on_the_body_s_side_of_a_wall(as_bytes):
    """A head that its pose puts through a wall shoots nobody: the line of sight begins in the body's middle."""
    game = Yard(start=(29.6, 0.0, 0.0), as_bytes=as_bytes)
    game.rest = game.rest + np.where(game.rest[:, 2:] > 1.4, [[0.6, 0.0, 0.0]], 0.0)
    game.move(5.1, (29.6, 0.0, 0.0))
    game.until(5.3)
    assert fire(game, 5.4).findings[0].code == "muzzle_blocked"


@pytest.mark.parametrize("aside_m", [0.05, 0.15, 0.28, 0.5])
def test_a_shot_starts_at_the_eye_but_for_what_its_way_explains(aside_m):
    """A muzzle held aside further than 10 cm is put back to the server's own eye, and hits nobody round a corner."""
    game = Yard()
    eye = game.referee.history.eye_now(game.body)
    ruling = fire(game, 6.0, origin=(eye[0], eye[1] + aside_m, eye[2]))
    assert codes(ruling) == (["muzzle_far"] if aside_m > 0.1 else [])
    assert ruling.origin[1] == pytest.approx(eye[1] + (aside_m if aside_m <= 0.1 else 0.0))


def test_reach_counts_from_the_servers_eye():
    """No claimed origin makes a melee attack longer, or moves it."""
    hits = []
    for ahead in (0.0, 0.05, 0.09, 0.3, 0.55):
        here = Range(RULES, None, muzzle={"steady_m": 0.6})
        here.referee.set_weapon(here.shooter, "trowel", here.now)
        near = here.pose(-9.0 + RULES.weapons["trowel"].range_m + 0.32, 3.0)
        for _ in range(20):
            here.tick += 1
            here.referee.record(here.tick, here.now, [1, 2], np.stack([here.pose(-9, 3), near]))
            here.referee.snapshot_sent(here.tick)
        eye = here.referee.history.eye_now(here.shooter)
        view = tinclock.View(here.tick - 3, here.tick - 2, 0.5)
        ruling = here.say(tinclock.claims.MeleeClaim, weapon="trowel", origin=(eye[0] + ahead, eye[1], eye[2]),
                          direction=(1.0, 0.0, 0.0), view=view)  # fmt: skip
        hits.append((len(ruling.hits), ruling.origin == pytest.approx(eye)))
    assert set(hits) == {(0, True)}


# -- times --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("weapon", "count"), [("grit_rifle", 6), ("gravel_scatter", 3)])
def test_a_burst_kills_no_sooner_on_a_steady_line(weapon, count):
    """The last shot of a burst comes at most a hundredth of the burst early."""
    whole = (count - 1) * RULES.weapons[weapon].interval_s
    assert min(shots_in(RULES, weapon, count, early / 1000.0) for early in range(0, 130, 5)) > 0.99 * whole


@pytest.mark.parametrize("action", ["draw", "reload"])
@pytest.mark.parametrize(("early_s", "passes"), [(0.003, True), (0.03, False), (0.11, False)])
def test_a_weapon_is_drawn_and_reloaded_in_its_own_time(action, early_s, passes):
    """A shot before the end of a draw or a reload is rejected, but for what a steady line explains."""
    weapon = {"magazine": 1, "reload_s": 1.0, "draw_s": 0.5}
    game = Yard(changed(RULES, "weapons", "grit_rifle", **weapon))
    if action == "draw":
        game.referee.set_weapon(game.body, "trowel", 5.5)
        game.say(6.0, tinclock.claims.WeaponActionClaim, weapon="grit_rifle", action="draw")
        due = 6.5
    else:
        fire(game, 6.0)
        game.say(7.0, tinclock.claims.WeaponActionClaim, weapon="grit_rifle", action="reload")
        due = 8.0
    assert (fire(game, due - early_s).outcome != "rejected") is passes


def test_an_impact_claim_never_tells_what_will_happen():
    """A claim that comes before the flight has the same answer whether it will hit; what was false is found then."""
    told, later = [], []
    for turn in (0.0, -1.0):
        here = armed(hit_source="client_confirmed")
        launch(here, **({"lead_s": AWAY} if turn == 0.0 else {"direction": (0.9, -math.sqrt(1 - 0.81), 0.0)}))
        fly(here, 5)
        receipt = msgspec.to_builtins(impact(here, late=0.02, part="chest").receipt())
        told.append({key: value for key, value in receipt.items() if key != "state"})
        rulings = fly(here, 14)
        later.append([code for ruling in rulings for code in codes(ruling)])
    assert told[0] == told[1]
    assert later == [[], ["no_impact"]]


# -- honest players, and evidence ---------------------------------------------------------------------------------


@pytest.mark.parametrize(("quality", "rate"), [
    ("wired", 8), ("wired", 128), ("home_wireless", 16), ("mobile", 64), ("distant", 32), ("awful", 16),
])  # fmt: skip
def test_honest_reports_stay_as_they_are(quality, rate):
    """Runners that jump, climb and fall, on lines with jitter, loss and drift: one report in 1,000 at most.

    Only a line that stalls for longer than a second costs more.
    """
    played = honest(quality, rate, seed=5, seconds=30.0)
    assert played.reports > 25 * rate
    awful = quality == "awful"
    assert len(played.off_m) <= played.reports * (0.03 if awful else 0.001)
    assert max(played.off_m, default=0.0) < (SPEED if awful else 0.1)


def test_strict_rules_keep_the_table_of_weights_and_lenient_ones_do_not():
    """Narrower allowances mute no evidence; wider ones do, by name."""
    calibrated_rules = load_calibration().provenance.calibrated_rules
    strict = msgspec.structs.replace(STRICT, view=msgspec.structs.replace(STRICT.view, jitter_factor=3.0))
    assert differences(calibrated_rules, RULES) == differences(calibrated_rules, strict) == ()
    wide = rules_with(fire_rate={"tolerance_s": 0.3}, movement={"time_tolerance_s": 0.6})
    assert differences(calibrated_rules, wide) == ("fire_rate.tolerance_s", "movement.time_tolerance_s")


def test_check_says_what_a_key_overrides(tmp_path):
    """A key beside `strictness = "strict"` that takes the profile's place is listed with both values."""
    file = tmp_path / "rules.toml"
    text = tinclock.garden.scenario.data_file("garden.toml").read_text("utf-8")
    file.write_text('strictness = "strict"\n' + text, "utf-8")
    found = CliRunner().invoke(main, ["check", str(file), "--json"])
    (report,) = json.loads(found.output) if found.output.startswith("[") else [json.loads(found.output)]
    assert any("muzzle.reach_m = 0.75 (strict: 0.4)" in line for line in report["overrides"])
