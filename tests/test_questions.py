"""Questions to a recording: why a shot did nothing, what other rules would change, how fair it was; the commands."""

from __future__ import annotations

import json
import math
import re
from pathlib import Path

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from conftest import Range, codes

import tinclock
from tinclock.cli.main import main
from tinclock.core.analysis.miss_explanation import explain_miss
from tinclock.core.analysis.nearness import closest_part
from tinclock.core.analysis.ruling_diff import diff_rulings
from tinclock.core.analysis.shot_scene import HistorySlice, shot_scene_of
from tinclock.core.timeline.rooted import rooted_bones
from tinclock.errors import RulesError
from tinclock.garden.fairness import CoverWatch, Screen, Viewer, accepted_hits
from tinclock.garden.scenario import data_file
from tinclock.intake.settings import value_of, with_setting, without_deaths
from tinclock.recordings.recording import Recording
from tinclock.recordings.replaying import replay

SAMPLE = str(data_file("sample"))


def run(*arguments: object, fails: int = 0) -> str:
    done = CliRunner().invoke(main, [str(argument) for argument in arguments])
    assert done.exit_code == fails, done.output
    return done.output


def asked(here: Range, ruling: tinclock.Ruling):
    return explain_miss(HistorySlice(here.referee.history, here.referee.rules, here.referee.level), ruling)


# -- why a shot did nothing -----------------------------------------------------------------------------------------


def test_a_near_miss_says_how_far_off_it_was_and_which_view_would_have_hit(rules):
    """The runner crosses at 4 m/s: a shot 0.3 m behind its middle hits 75 ms earlier, or thereabouts."""
    here = Range(rules, None)
    view = tinclock.View(here.tick - 11, here.tick - 9, 0.5)
    target = here.referee.history.hitboxes_at(here.runner, view)
    chest = target.centres[target.parts.index("chest")]
    origin = np.array(here.referee.history.eye_now(here.shooter))
    behind = chest + (0.0, -0.45, 0.0)  # it runs along +y
    ruling = here.shoot(direction=tuple(((behind - origin) / np.linalg.norm(behind - origin)).tolist()))
    assert (ruling.outcome, ruling.hits) == ("accepted", ())
    found = asked(here, ruling)
    part, gap, _, _ = closest_part(target, origin, np.array(ruling.direction), 60.0)
    assert (found.near.entity, found.near.part) == (here.runner, target.parts[part])
    assert found.near.gap_m == pytest.approx(gap)
    assert 0.0 < gap < 0.45
    assert found.other is not None
    assert found.other.entity == here.runner
    assert found.other.older_s > 0.0
    moved = here.referee.history.view_at(here.referee.history.time_of(view) - found.other.older_s)
    again = here.referee.history.nearest(tuple(origin), ruling.direction, moved, ignore=ruling.entity)
    assert again.part.name == found.other.part
    assert "would have hit" in " ".join(found.describe({here.runner: "dung"}))


def test_the_distance_to_each_shape_is_that_of_a_thousand_points_of_it(rules, level):
    """Against an oracle that samples surfaces: never more than to any sampled point, and close to the least."""
    rng = np.random.default_rng(2)
    boxes = Range(rules, level).referee.history.hitboxes_at(2, tinclock.View(20, 20, 0.0))
    for _ in range(40):
        origin = boxes.centres[0] + rng.normal(0.0, 3.0, 3)
        along = boxes.centres.mean(axis=0) + rng.normal(0.0, 1.0, 3) - origin
        along /= np.linalg.norm(along)
        part, gap, at, _ = closest_part(boxes, origin, along, 50.0)
        points = surface_points(boxes, part, rng)
        t = np.clip((points - origin) @ along, 0.0, 50.0)
        apart = np.linalg.norm(points - origin - t[:, None] * along, axis=1).min()
        assert 0.0 <= at <= 50.0
        if gap > 0.0:
            assert gap <= apart + 1e-6
            assert gap == pytest.approx(apart, abs=0.02)


def surface_points(boxes, part: int, rng) -> np.ndarray:
    size, way = boxes.sizes[part], rng.normal(0.0, 1.0, (6000, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    if boxes.shapes[part] == 2:
        local = way / np.abs(way).max(axis=1, keepdims=True) * size
    elif boxes.shapes[part] == 1:
        local = way * size[1] + np.outer(rng.uniform(-size[0], size[0], 6000), [0.0, 0.0, 1.0])
    else:
        local = way * size[0]
    return boxes.centres[part] + local @ boxes.axes[part].T


def test_a_wall_in_between_is_named_with_whom_it_hid(rules, level):
    """A wall in between is named, with whom it hid."""
    here = Range(rules, level)
    view = tinclock.View(here.tick - 11, here.tick - 9, 0.5)
    target = here.referee.history.hitboxes_at(here.runner, view)
    start = target.centres[0] + np.array([0.0, 0.0, 6.0])
    down = here.shoot(origin=tuple(start.tolist()), direction=(0.0, 0.0, -1.0))
    assert codes(down) == ["muzzle_far"]
    assert any("nearer to the eye" in line for line in asked(here, down).describe())
    roof = tinclock.Level.from_boxes([[-4.0, 3.0, 0.0]], [[0.2, 8.0, 30.0]])
    walled = Range(rules, roof)
    blocked = walled.shoot()
    found = asked(walled, blocked)
    assert found.surface == "solid"
    assert found.behind is not None
    assert found.behind.entity == walled.runner
    assert "stopped it; behind that it would have met" in found.describe()[0]
    shut = Range(rules, None)  # the same with a door, which is no part of the level
    door = shut.referee.add_entity("shed_door")
    for _ in range(30):
        shut.tick += 1
        poses = [shut.pose(-9, 3), shut.pose(0, 2 + shut.tick / 16), np.array([[-4.0, 4.5, 1.1, 0.0, 0.0, 0.0, 1.0]])]
        shut.referee.record(shut.tick, shut.now, [shut.shooter, shut.runner, door], poses)
        if shut.tick % 2 == 0:
            shut.referee.snapshot_sent(shut.tick)
    told = asked(shut, shut.shoot()).describe()[0]
    assert told.startswith("the shed door at ")
    assert "behind that it would have met" in told


def looking(here: Range, aim: tuple[float, float, float], x: float, **fields: object) -> tuple[tinclock.Ruling, str]:
    """A shot along an aim at somebody who stands at x, and the first line of why it did nothing."""
    for _ in range(70):  # a whole history of it: no other view would have hit
        here.tick += 2 - here.tick % 2
        here.referee.record(here.tick, here.now, [1, 2], [here.pose(-9, 3), here.pose(x, 3)])
        here.referee.snapshot_sent(here.tick)
    length = math.sqrt(sum(v * v for v in aim))
    ruling = here.shoot(
        direction=tuple(v / length for v in aim), view=tinclock.View(here.tick, here.tick, 0.0), **fields
    )
    return ruling, (asked(here, ruling).describe({2: "eve"}) or [""])[0]


def test_whoever_stands_behind_the_shooter_is_no_near_miss(rules):
    """Near misses are in front of the muzzle: a body at the shooter's back is not "0.0 m away"."""
    ruling, said = looking(Range(rules, None), (1.0, 0.0, 0.0), -11.5)
    assert (ruling.hits, said) == ((), "")


def test_a_target_beyond_the_range_is_said_to_be_out_of_range(rules):
    """The aim was right and the weapon doesn't reach: that is the answer, live the range and later who stood where."""
    ruling, said = looking(Range(rules, None), (1.0, 0.0, -0.004), 71.0)
    assert said.startswith("out of range: the ")
    assert re.search(r" of eve was 79\.\d m away, the grit rifle reaches 60 m$", said)
    assert "the shot hit nobody within          60 m" in ruling.explain()


def test_a_blow_that_reaches_nobody_says_how_far_off_the_nearest_was(rules):
    """Somebody who swung at thin air reads what the trowel reaches and how far away the other was."""
    here = Range(rules, None)
    here.referee.set_weapon(here.shooter, "trowel")
    here.tick += 2 - here.tick % 2
    here.referee.record(here.tick, here.now, [1, 2], [here.pose(-9, 3), here.pose(-6.7, 3)])
    here.referee.snapshot_sent(here.tick)
    eye = here.referee.history.eye_now(1)
    ruling = here.say(tinclock.claims.MeleeClaim, weapon="trowel", origin=eye, direction=(1.0, 0.0, 0.0),
                      view=tinclock.View(here.tick, here.tick, 0.0))  # fmt: skip
    assert asked(here, ruling).describe({2: "eve"}) == ["the trowel reaches 1.6 m; eve was 2.1 m away"]
    assert "the melee attack reached nobody within" in ruling.explain()


def test_claimed_damage_of_a_miss_counts_for_nothing_and_says_so(rules):
    """Nothing was hit, so no number "counts", whatever was claimed."""
    here = Range(rules, None)
    ruling, _ = looking(here, (0.0, 0.0, 1.0), 0.0, damage=500.0)
    assert (ruling.outcome, codes(ruling)) == ("adjusted", ["damage_differs"])
    assert asked(here, ruling).describe({2: "eve"})[-1] == "it hit nobody, so no damage counts"


def test_a_finding_says_what_would_have_had_to_be_different(rules):
    """A finding says what would have had to be different."""
    here = Range(rules, None)
    assert here.shoot().outcome == "accepted"
    early = here.shoot(late=0.01)
    late = [line for line in asked(here, early).describe() if "later, it would have been accepted" in line]
    assert codes(early) == ["fires_too_fast"]
    assert late == [f"fired {early.findings[0].margin * 1000:.1f} ms later, it would have been accepted"]
    claim = here.aimed()
    rejected = here.referee.rule("s", claim, received_at=here.now + 0.02)
    past = HistorySlice(here.referee.history, here.referee.rules, None)
    assert explain_miss(past, rejected).near is None
    told = explain_miss(past, rejected, claim.view).describe({here.runner: "dung"})[
        0
    ]  # rejected, though it was aimed well
    assert re.fullmatch(r"at the view that it claims it would have met the chest of dung, 8\.8 m away", told)
    assert explain_miss(past, rejected, tinclock.View(900, 902, 0.5)).near is None
    assert here.shoot(late=0.01 + early.findings[0].margin + 1e-6).outcome == "accepted"


def test_a_capped_shot_is_shown_at_both_views(rules, level):
    """A capped shot is shown at both views."""
    here = Range(rules, level, view={"max_rewind_s": 0.1})
    claim = here.aimed()
    ruling = here.referee.rule("s", claim, received_at=here.now + 0.05)
    surroundings = shot_scene_of(HistorySlice(here.referee.history, here.referee.rules, level), ruling, claim)
    assert "over_rewind_limit" in codes(ruling)
    apart = np.linalg.norm(surroundings.claimed.centres[0] - surroundings.rewound.centres[0])
    assert apart == pytest.approx(4.0 * (ruling.findings[0].observed - 0.1), abs=0.08)  # it runs at 4 m/s


# -- other rules ----------------------------------------------------------------------------------------------------


def test_changes_are_counted_once_where_rulings_differ():
    """Changes are counted once where rulings differ."""
    source = Recording(SAMPLE)
    same = replay(source)
    assert diff_rulings(same.rulings, same.call_numbers, same.rulings, same.call_numbers).flips == []
    tight = replay(source, rules=with_setting(source.header.rules, "view.max_rewind_s", 0.1))
    change = diff_rulings(same.rulings, same.call_numbers, tight.rulings, tight.call_numbers)
    capped = {ruling.number for ruling in tight.rulings if "over_rewind_limit" in codes(ruling)}
    assert change.findings["over_rewind_limit"] == len(capped) - sum(
        "over_rewind_limit" in codes(r) for r in same.rulings
    )
    assert sum(change.outcomes.values()) == len(change.flips) == sum(count for count, _ in change.accounts.values())
    assert not tight.as_recorded
    damage = sum(r.damage for r in tight.rulings) - sum(r.damage for r in same.rulings)
    assert sum(points for _, points in change.accounts.values()) == pytest.approx(damage)


def test_settings_are_changed_by_key_path_and_mistakes_are_named(rules):
    """Settings are changed by key path and mistakes are named."""
    other = with_setting(rules, "weapons.hose.damage", value_of("9"))
    assert other.weapons["hose"].damage == 9.0
    assert msgspec.structs.replace(other, weapons=rules.weapons) == rules
    assert with_setting(rules, "actions.view_late", "reject").actions["view_late"] == "reject"
    for path, value, message in (
        ("view.max_rewind", 0.1, "did you mean 'max_rewind_s'"), ("weapons.spoon.damage", 1, "weapons: no key 'spoon'"),
        ("view.max_rewind_s", -1, "at least 0"), ("match.history_s.x", 1, "no key 'x'"),
    ):  # fmt: skip
        with pytest.raises(RulesError, match=message.replace("(", r"\(")):
            with_setting(rules, path, value)


# -- fairness -------------------------------------------------------------------------------------------------------


def test_the_sample_accepts_honest_hits_inside_the_cap_and_never_on_another():
    """The sample accepts honest hits inside the cap and never on another."""
    from tinclock.garden.truth import read_truth

    truth = read_truth(data_file("sample-truth"))
    rows = accepted_hits(Recording(SAMPLE).rulings(), truth.screens, truth.viewers)
    every = rows["all"]
    assert every.hits > 60
    assert every.accepted_inside / every.inside >= 0.995
    assert every.elsewhere == 0
    assert every.hits == sum(row.hits for name, row in rows.items() if name != "all")
    liars = {viewer.entity for viewer in truth.viewers.values() if not viewer.honest}
    assert len(liars) == 1
    unfair = {label.account for label in truth.labels if label.cheats}
    assert unfair == {"clover"}


@pytest.mark.parametrize("down_s", [0.0, 0.1])
def test_time_in_cover_is_what_a_run_behind_a_wall_takes(rules, down_s):
    """A runner passes behind a wall at 4 m/s; hits that land later find it hidden for so much longer."""
    wall = tinclock.Level.from_boxes([[-4.0, 5.0, 1.5]], [[0.1, 5.0, 1.5]])  # hides what is at y > 0
    referee = tinclock.Referee(rules, level=wall, seed=1)
    shooter = referee.admit(connection="s", account="s", rig="gardener")
    runner = referee.admit(connection="r", account="r", rig="gardener")
    rig = referee.history.rigs["gardener"]
    watch = CoverWatch({e: Viewer(e, "made", True, 0.05, 0.0, down_s) for e in (shooter, runner)})
    hit = tinclock.Hit(runner, "chest", "torso", "middle", 8.0, (0.0, 0.0, 1.0), 1.0, 100.0, 99.0, False)
    hidden_at = None
    for tick in range(200):
        now = tick / 64
        y = 4.0 * now - 4.0
        roots = [[-8.0, -2.0, 0.0, 0.0, 0.0, 0.0, 1.0], [0.0, y, 0.0, 0.0, 0.0, 0.0, 1.0]]
        bones = rooted_bones(rig, roots)
        referee.record(tick, now, [shooter, runner], bones)
        referee.snapshot_sent(tick)
        boxes = referee.history.hitboxes_at(runner, tinclock.View(tick, tick, 0.0))
        eye = np.array(referee.history.eye_now(shooter))
        to = boxes.centres - eye
        apart = np.linalg.norm(to, axis=1)
        seen = np.isinf(wall.first_many(np.tile(eye, (len(to), 1)), to / apart[:, None], apart).distance_m).any()
        if not seen and hidden_at is None:
            hidden_at = now
        if hidden_at is not None and tick == round(hidden_at * 64) + 12:
            ruling = tinclock.Ruling(1, "shot", "s", "s", shooter, 1, "grit_rifle", now, "accepted", (hit,))
            watch.hit(ruling)
            landed = now + down_s
        watch.look(referee)
    covered = watch.covered()["all"]
    own = landed - (hidden_at - 0.05)  # its own screen is ahead of the server by the trail
    assert covered.seconds == pytest.approx((own,), abs=2 / 64)


def test_among_the_undying_nobody_dies(rules):
    """Among the no_deaths nobody dies."""
    again = replay(Recording(SAMPLE), rules=without_deaths(rules), until_s=12.0)
    assert not any(event.kind == "death" for event in again.events)
    screens = {("c", 1): Screen(5, "head")}
    assert accepted_hits([], screens, {}) == {}


# -- the commands ---------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def evening(tmp_path_factory) -> Path:
    path = tmp_path_factory.mktemp("played") / "evening"
    cheats = ("--cheat", "beryl=repeat:1", "--cheat", "anvil=speed:1", "--cheat", "anvil=inflate_damage:1")
    told = json.loads(run("simulate", path, "--players", 4, "--seconds", 8, "--seed", 3, *cheats, "--json"))
    assert told["accounts"]["anvil"]["cheat"] == "speed 1, inflate_damage 1"
    assert sum(told["outcomes"].values()) == told["rulings"]
    return path


def test_play_refuses_what_there_is_not_and_never_writes_over(evening):
    """`simulate` refuses what there isn't and never writes over."""
    assert "is there already" in run("simulate", evening, "--seconds", 1, fails=1)
    other = evening.with_name("other")
    assert "unknown cheat 'juggle'" in run("simulate", other, "--cheat", "anvil=juggle:1", fails=1)
    assert "expected ACCOUNT=CHEAT:STRENGTH" in run("simulate", other, "--cheat", "anvil=repeat:much", fails=2)
    assert "snap_aim" in run("simulate", "--help")


def test_contents_says_what_there_is_and_fails_for_what_is_broken(evening, tmp_path):
    """`info` says what there is and fails for what is broken."""
    told = json.loads(run("info", evening, "--check", "--json"))
    assert (told["closed"], told["wrong"], told["ticks"]) == (True, [], 512)
    assert "every file is as it was written" in run("info", evening, "--check")
    assert "is a folder that holds recording.json" in run("info", tmp_path / "none", fails=1)
    assert "can't be read" in run("info", tmp_path, fails=1)


def test_explain_finds_lists_and_draws(evening, tmp_path):
    """`explain` finds, lists and draws."""
    listed = json.loads(run("explain", evening, "--finding", "damage_differs", "--json"))
    chosen = listed["listed"][0] if "listed" in listed else listed["ruling"]
    assert chosen["account"] == "anvil"
    text = run("explain", evening, chosen["number"], "--image", tmp_path / "p.png")
    assert "finding damage_differs" in text
    assert "-> the server's damage applies" in text
    assert (tmp_path / "p.png").read_bytes()[:4] == b"\x89PNG"
    assert "has no ruling 999999; they are numbered 1 to" in run("explain", evening, 999999, fails=1)
    assert "there is no account 'nobody'" in run("explain", evening, "--account", "nobody", fails=1)
    assert "no ruling fits" in run("explain", evening, "--account", "dibber", "--finding", "damage_differs", fails=1)
    moves = run("explain", evening, "--kind", "move", "--outcome", "adjusted", "--limit", 3)
    assert "too_fast" in moves
    assert "nothing to draw" in run(
        "explain", evening, "--kind", "move", "--first", "--image", tmp_path / "q.png", fails=1
    )
    launch = json.loads(run("explain", SAMPLE, "--kind", "launch", "--outcome", "accepted", "--json"))["listed"][0]
    run("explain", SAMPLE, launch["number"], "--image", tmp_path / "flown.png")
    assert (tmp_path / "flown.png").exists()


def test_again_proves_itself_and_shows_what_other_rules_change(evening, tmp_path):
    """`replay` proves itself and shows what other rules change."""
    same = json.loads(run("replay", evening, "--json"))
    assert same["as_recorded"]
    assert same["rulings_sha256"] == json.loads(run("info", evening, "--json"))["rulings_sha256"]
    assert "the same, bit for bit" in run("replay", evening)
    other = json.loads(run("replay", evening, "--set", "actions.damage_differs=flag", "--json"))
    assert [(row["before"], row["after"]) for row in other["outcomes"]] == [("adjusted", "accepted")]
    assert other["flipped"] == len(other["flips"])
    assert "did you mean" in run("replay", evening, "--set", "view.max_rewind=1", fails=1)
    assert "expected KEY=FROM:TO:STEP" in run("replay", evening, "--sweep", "view.max_rewind_s=0:1", fails=2)
    sweep = json.loads(
        run("replay", evening, "--sweep", "view.max_rewind_s=0:0.4:0.2", "--image", tmp_path / "s.png", "--json")
    )
    assert [row["value"] for row in sweep["rows"]] == [0.0, 0.2, 0.4]
    assert sweep["rows"][-1]["flipped"] == 0
    assert (tmp_path / "s.png").exists()


def test_fairness_is_told_by_line_and_against_the_cap(evening, tmp_path):
    """Fairness is told by line and against the cap."""
    told = json.loads(run("fairness", SAMPLE, "--sweep", "0:0.4:0.2", "--image", tmp_path / "f.png", "--json"))
    shares = [row["shooters"]["all"]["fraction_counted"] for row in told["over"]]
    assert shares == sorted(shares)
    assert shares[-1] == 1.0
    assert told["recorded"]["shooters"]["all"]["fraction_accepted_inside"] >= 0.995
    assert told["recorded"]["victims"]["all"]["worst_s"] >= told["recorded"]["victims"]["all"]["p95_s"]
    assert (tmp_path / "f.png").exists()
    assert "max_rewind_s 0.4" in run("fairness", SAMPLE)
    assert "is not there" in run("fairness", evening, "--truth", tmp_path, fails=1)
    assert math.isclose(told["recorded"]["max_rewind_s"], 0.4)
