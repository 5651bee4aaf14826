"""The first sentence of an explanation is true: oracles that share no code with it look at whole matches."""

from __future__ import annotations

import math
import random
import re
import time

import numpy as np
import pytest
from conftest import Range, changed
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

import tinclock
from tinclock.core.analysis.miss_explanation import explain_miss
from tinclock.core.analysis.nearness import closest_part, side_of
from tinclock.core.analysis.shot_scene import HistorySlice, shot_scene_of
from tinclock.core.rules.projectiles import ProjectileRules, SplashRules
from tinclock.core.rules.weapons import SpreadRules
from tinclock.core.timeline.hitboxes import Hitboxes
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import data_file
from tinclock.recordings import Recorder, Recording, history_around
from tinclock.recordings.history_slice import claim_of

RULES = tinclock.load_rules(data_file("garden.toml"))
STEP_M = 0.004


def apart(boxes: Hitboxes, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """From each point to each part: the distance to its surface, negative inside, and the way there from the part."""
    gaps, ways = np.empty((len(points), len(boxes.parts))), np.empty((len(points), len(boxes.parts), 3))
    for part, (shape, size) in enumerate(zip(boxes.shapes, boxes.sizes, strict=True)):
        local = (points - boxes.centres[part]) @ boxes.axes[part]
        if shape == 2:
            inside = np.clip(local, -size, size)
            off = local - inside
            gap = np.linalg.norm(off, axis=1)
            gap = np.where(gap == 0.0, (np.abs(local) - size).max(axis=1), gap)
        else:
            core = np.zeros_like(local)
            core[:, 2] = np.clip(local[:, 2], -size[0], size[0]) if shape == 1 else 0.0
            off, radius = local - core, size[1] if shape == 1 else size[0]
            gap = np.linalg.norm(off, axis=1) - radius
        gaps[:, part], ways[:, part] = gap, off @ boxes.axes[part].T
    return gaps, ways


def sides(off: np.ndarray, along: np.ndarray) -> set[str]:
    """The sides that a way from a body to a ray may be called; two where it lies nearly between them."""
    right = np.cross(along, [0.0, 0.0, 1.0])
    right /= np.linalg.norm(right)
    across, over = float(off @ right), float(off @ np.cross(right, along))
    called = {("right of" if across > 0.0 else "left of"): abs(across), ("above" if over > 0.0 else "below"): abs(over)}
    return {name for name, size in called.items() if size > 0.98 * max(called.values())}


class Truth:
    """What one ray really passed, by steps of a few millimetres: the gap to each part of each body."""

    def __init__(
        self, past: HistorySlice, ruling: tinclock.Ruling, direction: tuple[float, float, float], range_m: float
    ) -> None:
        self.at = np.arange(0.0, range_m, STEP_M)
        self.along = np.array(direction)
        points = np.array(ruling.origin) + self.at[:, None] * self.along
        self.gaps, self.ways, self.parts = {}, {}, {}
        for entity in past.history.present(ruling.view):
            boxes = past.history.hitboxes_at(entity, ruling.view)
            if entity != ruling.entity and boxes is not None and not past.history.rig_of(entity).blocks_only:
                self.gaps[entity], self.ways[entity] = apart(boxes, points)
                self.parts[entity] = boxes.parts

    def least(self, entity: int, from_m: float, until_m: float) -> float:
        return float(self.gaps[entity][(self.at >= from_m) & (self.at <= until_m)].min(initial=math.inf))


def is_true(past: HistorySlice, ruling: tinclock.Ruling, told: str, names: dict[int, str], truths: list[Truth]) -> bool:
    """Whether the reason that was told for a miss holds, by the ruling's own stops and by the truth about its rays."""
    stops = [(ray.reached_m, ray.stopped_by) for ray in ruling.rays] or [(ruling.reached_m, ruling.stopped_by)]
    rays = [(truth, reached, stop) for truth, (reached, stop) in zip(truths, stops, strict=True)]
    near = min((t.least(e, 0.0, reached) for t, reached, _ in rays for e in t.gaps), default=math.inf)
    hidden = min((t.least(e, reached, math.inf) for t, reached, s in rays if s for e in t.gaps), default=math.inf)
    meant = [e for e, name in names.items() if told.endswith(name) or f"of {name} was" in told]
    if found := re.match(r"the (.+) stopped (?:it|its nearest pellet) ([\d.]+) m before", told):
        before = [  # where a ray comes within a step of the body, and where into it: a grazing one takes its time
            [t.at[(t.gaps[e].min(axis=1) <= gap) & (t.at > reached)].min(initial=math.inf) - reached
             for gap in (STEP_M, 0.0)]
            for t, reached, stop in rays if stop and stop.explain().replace("_", " ") == found[1]
            for e in meant if e in t.gaps
        ]  # fmt: skip
        return any(
            proximity_fuse_m - 0.06 < float(found[2]) < min(in_m, proximity_fuse_m + 0.2) + 0.06
            for proximity_fuse_m, in_m in before
        )
    if found := re.fullmatch(r"the (.+) stopped (?:it|the first pellet) after ([\d.]+) m", told):
        reached, stop = next((reached, stop) for _, reached, stop in rays if stop)
        said = stop.explain().replace("_", " ") == found[1] and abs(reached - float(found[2])) <= 0.051
        return said and hidden > -STEP_M and (near > 2.99 or hidden <= near + 0.01)
    if found := re.match(
        r"(?:it|its nearest pellet) passed ([\d.]+) m (right of|left of|above|below) the ([\w ]+) of", told
    ):
        for t, reached, _ in rays:
            for e in set(meant) & t.gaps.keys():
                part = t.parts[e].index(found[3].replace(" ", "_"))
                row = int(np.where(t.at <= reached, t.gaps[e][:, part], math.inf).argmin())
                if abs(t.gaps[e][row, part] - float(found[1])) < 0.01:
                    return float(found[1]) < near + 0.01 and found[2] in sides(t.ways[e][row, part], t.along)
        return False
    if found := re.match(r"out of range: the .+ was ([\d.]+) m away, the .+ reaches ([\d.]+) m", told):
        return float(found[1]) > float(found[2]) and bool(meant)
    return told == "nobody was ahead of it within its range" and near > 1.0


@pytest.mark.parametrize("seed", [3, 11])
def test_every_reason_of_a_whole_match_is_true(seed):
    """Of every shot that hit nobody the wall, the gap, the side and the part are those that an oracle finds."""
    judged, wrong = [], []

    def look(referee, ruling, claim) -> None:
        if ruling.kind != "shot" or ruling.hits or ruling.reached_m is None or not ruling.account:
            return
        names = {row.entity: row.name for row in referee.state().entities}
        past = HistorySlice(referee.history, referee.rules, referee.level)
        told = explain_miss(past, ruling).because(names)
        ways = [ray.direction for ray in ruling.rays] or [ruling.direction]
        truths = [Truth(past, ruling, way, referee.rules.weapons[ruling.weapon].range_m) for way in ways]
        judged.append(told)
        if not is_true(past, ruling, told, names, truths):
            wrong.append((ruling.number, told))

    simulate_match(seed=seed, seconds=25.0, players=8, on_ruling=look)
    assert len(judged) > 30
    assert {"stopped", "passed"} <= {word for told in judged for word in told.split()}
    assert wrong == []


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_the_side_and_the_gap_beside_long_hitboxes_are_those_of_their_surface(seed):
    """Beside a long capsule or box the side goes by its nearest point; its middle may lie metres above."""
    rng = np.random.default_rng(seed)
    count = 3
    sizes = np.stack([rng.uniform(0.2, 2.0, count), rng.uniform(0.05, 0.4, count), rng.uniform(0.05, 0.4, count)], 1)
    boxes = Hitboxes(
        1, "r", 0.0, ("a", "b", "c"), ("z",) * 3, ("middle",) * 3, np.array([0, 1, 2]), rng.uniform(-1.0, 1.0, (3, 3)),
        Rotation.random(count, rng).as_matrix(), sizes,
    )  # fmt: skip
    origin = rng.normal(0.0, 1.0, 3) + [-8.0, 0.0, 0.0]
    along = rng.normal(0.0, 1.5, 3) - origin
    along /= np.linalg.norm(along)
    found = closest_part(boxes, origin, along, 30.0)
    at = np.arange(0.0, 30.0, 0.002)
    gaps, ways = apart(boxes, origin + at[:, None] * along)
    assert found.gap_m == pytest.approx(gaps.min(), abs=0.003)
    if gaps.min() > 0.02:
        row = int(gaps[:, found.part].argmin())
        assert side_of(found.off, along) in sides(ways[row, found.part], along)


def stand(here: Range, x: float, y: float = 3.0, *, turned: bool = False) -> None:
    """The runner stands still; turned : its face to the shooter instead of its back."""
    pose = here.pose(x, y)
    if turned:
        pose[:, :2] = 2.0 * np.array([x, y]) - pose[:, :2]
        pose[:, 3:] = [0.0, 0.0, 1.0, 0.0]
    for _ in range(8):
        here.tick += 2 - here.tick % 2
        here.server.record(here.tick, here.now, [1, 2], [here.pose(-9, 3), pose])
        here.server.snapshot_sent(here.tick)


def blow(turn_deg: float, level: tinclock.Level | None, **weapon: object) -> str:
    """What is said of a melee attack, turned off the straight way to somebody 0.9 m ahead who faces the striker."""
    here = Range(changed(RULES, "weapons", "trowel", facing_deg=180.0, **weapon), level)
    here.server.set_weapon(here.shooter, "trowel")
    stand(here, -8.1, turned=True)
    turn = math.radians(turn_deg)
    eye = here.referee.history.eye_now(1)
    view = tinclock.View(here.tick, here.tick, 0.0)
    ruling = here.say(tinclock.claims.MeleeClaim, weapon="trowel", origin=eye, view=view,
                      direction=(math.cos(turn), math.sin(turn), 0.0))  # fmt: skip
    past = HistorySlice(here.referee.history, here.referee.rules, here.referee.level)
    return ruling.answer({2: "eve"}, explain_miss(past, ruling).because({2: "eve"}))


@pytest.mark.parametrize(
    ("turn_deg", "walled", "weapon", "said"),
    [
        (120.0, False, {"radius_m": 0.0, "cone_deg": 20.0},
         r"the \w+( \w+)? of eve was 1[12]\d degrees off the aim; the trowel reaches 20 degrees"),
        (120.0, False, {"radius_m": 0.1, "cone_deg": 0.0}, r"it passed 0\.\d\d m from the \w+( \w+)? of eve"),
        (0.0, True, {}, "the brick was in between"),
        (0.0, False, {"backstab_deg": 30.0}, "eve did not have their back turned"),
        (0.0, False, {"range_m": 0.3}, r"the trowel reaches 0\.3 m; eve was 0\.\d m away"),
    ],
)  # fmt: skip
def test_a_blow_that_reaches_nobody_gives_its_reason(turn_deg, walled, weapon, said):
    """Out of its angle, beside its ball, behind something solid, not from behind, out of reach: each is said."""
    wall = tinclock.Level.from_boxes([[-8.6, 3.0, 1.5]], [[0.02, 2.0, 1.5]], surfaces=[tinclock.types.Surface("brick")])
    told = blow(turn_deg, wall if walled else None, **weapon)
    assert re.fullmatch(f"The melee attack hit nobody: {said}.", told), told


def test_the_nearest_of_several_pellets_is_told():
    """A spread of pellets is explained by the pellet that came nearest, not by the first."""
    rules = changed(RULES, "weapons", "gravel_scatter", spread=SpreadRules(base_deg=8.0), pellets=12)
    here = Range(rules, None)
    here.server.set_weapon(here.shooter, "gravel_scatter")
    stand(here, 0.0, 5.0)
    ruling = here.shoot(
        weapon="gravel_scatter", direction=(1.0, 0.0, 0.0), view=tinclock.View(here.tick, here.tick, 0.0)
    )
    past = HistorySlice(here.referee.history, here.referee.rules, None)
    truths = [Truth(past, ruling, ray.direction, 25.0) for ray in ruling.rays]
    least = [truth.least(2, 0.0, 25.0) for truth in truths]
    found = explain_miss(past, ruling)
    assert (len(ruling.rays), ruling.hits) == (12, ())
    assert found.near.gap_m == pytest.approx(min(least), abs=0.005)
    assert found.near.ray == int(np.argmin(least)) != 0
    assert found.because({2: "eve"}).startswith(f"its nearest pellet passed {found.near.gap_m:.2f} m")


@pytest.mark.parametrize(
    ("health", "friendly", "said"),
    [
        (1e4, "none", r"Entity 2 was hit in the chest at \d+\.\d m and lost 40 points of health\."),
        (1e6, "scaled", r"Entity 2 was hit in the chest at \d+\.\d m and lost 40 points of health\."),
        (35.0, "none", r"Entity 2 was hit in the chest at \d+\.\d m and lost 35 points of health, and died\."),
    ],
)
def test_a_direct_hit_and_its_burst_are_one_loss(health, friendly, said):
    """What a projectile takes directly and by its burst is told as one number; death by either is told."""
    rulings = burst(health, "pewter", friendly)
    assert re.fullmatch(said, rulings[-1].answer()), rulings[-1].answer()


def test_a_team_mate_in_a_burst_is_unhurt_because_friendly_fire_is_off():
    """The reason is that of the melee attack itself; no other body's state stands in for it."""
    told = burst(100.0, "copper", "none")[-1].answer()
    assert re.fullmatch(r"Entity 2 was hit .*; no damage, because friendly fire is off\.", told), told


def burst(health: float, team: str, friendly: str) -> list[tinclock.Ruling]:
    """The rulings of a shot that hits the runner for 10 points and bursts for 30."""
    flight = ProjectileRules(speed_m_s=60.0, gravity_m_s2=0.0)
    splash = SplashRules(radius_m=4.0, damage=30.0, falloff=[(0.0, 1.0), (4.0, 1.0)], cover_fraction=0.0)
    rules = changed(RULES, "weapons", "dart", kind="projectile", damage=10.0, interval_s=0.1, range_m=60.0,
                    projectile=flight, splash=splash)  # fmt: skip
    here = Range(
        rules, None, team=team, match={"health": health}, damage={"friendly_fire": friendly, "self_fraction": 0.0}
    )
    here.server.set_weapon(here.shooter, "dart")
    stand(here, 0.0)
    eye = here.referee.history.eye_now(1)
    chest = here.referee.history.bones_at(2, tinclock.View(here.tick, here.tick, 0.0))[2, :3]
    along = tuple(((chest - eye) / np.linalg.norm(chest - eye)).tolist())
    here.say(tinclock.claims.LaunchClaim, weapon="dart", origin=eye, direction=along,
             view=tinclock.View(here.tick, here.tick, 0.0))  # fmt: skip
    out = []
    for _ in range(20):
        here.tick += 2
        here.server.record(here.tick, here.now, [1, 2], [here.pose(-9, 3), here.pose(0.0, 3.0)])
        out += here.server.advance(here.now)
    return [ruling for ruling in out if ruling.hits]


def test_large_numbers_are_told_without_an_exponent():
    """A loss of thousands of points reads as people write it."""
    rules = changed(RULES, "weapons", "grit_rifle", damage=12345.6, falloff=[], zones={})
    assert "lost 12,346 points of health" in Range(rules, None, match={"health": 1e5}).shoot().answer()
    told = Range(changed(RULES, "weapons", "grit_rifle", damage=49.1347, zones={}), None).shoot(damage=61.5078).findings
    assert [finding.explain() for finding in told if finding.code == "damage_differs"] == [
        "the claimed damage differs from the weapon's damage: 61.5 points against 49.1 points"
    ]


@pytest.mark.parametrize("seed", range(3))
def test_every_ruling_of_a_recording_explains_later_as_it_did_live(tmp_path, seed):
    """With stalls of seconds, claims before the first tick of a flush, and a resume, every number explains."""
    rng = random.Random(seed)
    here = Range(RULES, None, record_to=tmp_path / "match")
    live: dict[int, str] = {}
    clock_s = here.now

    def advance(gap_s: float) -> None:
        nonlocal clock_s
        clock_s += gap_s
        here.tick += rng.choice([1, 1, 2, 7])
        poses = [here.pose(-9, 3), here.pose(0, 2 + (here.tick % 60) / 16)]
        here.server.record(here.tick, clock_s, [1, 2], poses)
        here.server.snapshot_sent(here.tick)
        published.append(here.tick)

    def shoot(late_s: float) -> None:
        before, after = rng.choice([(2, 1), (3, 2), (6, 5), (1, 1)])
        view = tinclock.View(published[-before], published[-after], rng.choice([0.0, 0.5]))
        eye = here.referee.history.eye_now(1)
        to = np.array([0.0, 2.0 + rng.uniform(0.0, 5.0), rng.uniform(0.5, 2.0)]) - eye
        claim = tinclock.claims.ShotClaim(
            here.sequence + 1, 1, "grit_rifle", eye, tuple((to / np.linalg.norm(to)).tolist()), view
        )
        here.sequence += 1
        ruling = here.server.rule("s", claim, received_at=clock_s + late_s)
        past = HistorySlice(here.referee.history, here.referee.rules, None)
        live[ruling.number] = ruling.answer({2: "eve"}, explain_miss(past, ruling, view).because({2: "eve"}))

    published: list[int] = []
    for _ in range(12):
        advance(0.03)
    for k in range(160):
        if k == 80:  # killed and taken up again
            here.server._flush()
            while Recording(tmp_path / "match").rows("claims") < len(live):
                time.sleep(0.01)
            here.server = Recorder.resume(tmp_path / "match")
            here.referee = here.server.referee
        advance(rng.choice([0.016, 0.016, 0.03, 0.2, 2.5]))
        if rng.random() < 0.7:
            shoot(rng.choice([0.0, 0.01, 0.2, 0.9]))
    here.server.close()
    source = Recording(tmp_path / "match")
    told = {}
    for ruling in source.rulings():
        past, claim = history_around(source, ruling), claim_of(source, ruling)
        told[ruling.number] = ruling.answer({2: "eve"}, explain_miss(past, ruling, claim.view).because({2: "eve"}))
        shot_scene_of(past, ruling, claim)
    assert len(live) > 80
    assert {number: text for number, text in told.items() if live[number] != text} == {}
    assert told.keys() == live.keys()
    for number in live:
        at = source.ruling(number).received_at
        assert number in [ruling.number for ruling in source.rulings(at, at)]
