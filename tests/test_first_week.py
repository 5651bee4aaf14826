"""What a studio does first: a table from play without labels, and what of its integration shows on everybody."""

import json
import math
from collections import Counter

import numpy as np
import pytest
from click.testing import CliRunner

from tinclock.cli.main import main
from tinclock.core.evidence.calibration import Collector, MatchStats, calibrate
from tinclock.core.evidence.calibration_table import CalibrationSource
from tinclock.core.evidence.doctor import Doctor
from tinclock.core.evidence.evidence_timeline import MatchEvaluator
from tinclock.core.evidence.exact import EXACT
from tinclock.core.evidence.unlabelled import calibrate_unlabelled, standing, weighed
from tinclock.evidence import load_calibration
from tinclock.recordings import Recording
from tinclock.recordings.observed import observed_in
from tinclock.sample import data_file, simulate_match, write_foreign_logs

MADE_UP = CalibrationSource("a test", 1, 0, 0.0, 0, 0.0)


def play(rng: np.random.Generator, account: str, cheating: float) -> MatchStats:
    """Five minutes of somebody: shots, hits on heads, findings; cheating : how far beyond an honest player, 0 to 1."""
    shots, hits = 120, 45
    skill = rng.beta(6.0, 30.0)
    heads = rng.binomial(hits, skill + cheating * (0.9 - skill))
    blind = rng.binomial(shots, rng.beta(1.0, 150.0) + 0.5 * cheating)
    incidents = Counter({("teleport", "steady", "clear"): rng.poisson(8.0 * cheating)})
    incidents["muzzle_far", "steady", "slight"] = rng.poisson(rng.gamma(0.5, 1.0))
    shares = {("head_fraction", "steady"): [heads, hits], ("blind_shots", "steady"): [blind, shots]}
    return MatchStats(account, {"steady": 5.0}, incidents, [], shares, [13.0] * 20, [15.0] * 20)


def evening(honest: int, cheats: int) -> list[MatchStats]:
    rng = np.random.default_rng(honest)
    return [play(rng, f"a{k}", 0.0) for k in range(honest)] + [play(rng, f"u{k}", 1.0) for k in range(cheats)]


@pytest.mark.parametrize("cheating", [0, 10, 20])
def test_without_labels_the_unfair_are_set_aside_and_the_fair_come_back(cheating):
    """Up to a fifth of unlabelled cheating accounts are set aside, nobody else is, and ceilings are alike."""
    plays = evening(100 - cheating, cheating)
    found = calibrate_unlabelled(plays, 0.25, MADE_UP, load_calibration())
    assert found.stable
    assert {one.account for one in found.aside} == {f"u{k}" for k in range(cheating)}
    labelled = calibrate([p for p in plays if p.account[0] == "a"], [], MADE_UP, load_calibration())
    for name in ("head_fraction", "blind_shots"):
        for line, ceiling in labelled.ceilings[name].items():
            assert found.calibration.ceilings[name][line].share == pytest.approx(ceiling.share, rel=0.3)


def test_no_one_account_lifts_a_ceiling():
    """One aimer among sixty, not set aside by anybody: the ceiling stays where it is without it."""
    plays = evening(60, 0)
    bold = plays[0]._replace(account="bold", shares=plays[0].shares | {("head_fraction", "steady"): [40, 45]})
    alone = calibrate(plays, [], MADE_UP).ceilings["head_fraction"]["all"].share
    assert calibrate([*plays, bold], [], MADE_UP).ceilings["head_fraction"]["all"].share > 1.2 * alone
    held = calibrate_unlabelled([*plays, bold], 0.0, MADE_UP).calibration.ceilings["head_fraction"]["all"].share
    assert held == pytest.approx(alone, rel=0.1)


def test_too_little_play_gives_no_number():
    """Of a handful of accounts no ceiling is told: the detector says nothing rather than something."""
    table = calibrate(evening(6, 0), [], MADE_UP)
    rows = [row for name, lines in table.ceilings.items() if name != "claim_rate" for row in lines.values()]
    assert {row.share for row in rows} == {1.0}
    assert table.findings["teleport"]["steady"]["clear"].decibans == 10.0, "nobody showed it: a cautious guess"
    assert standing(evening(6, 0), table)["a0"][0] < 3.0


@pytest.fixture(scope="module")
def match(tmp_path_factory):
    """Half a minute of six, all honest."""
    path = tmp_path_factory.mktemp("week") / "match"
    simulate_match(seed=29, seconds=32.0, players=6, cheats={}, record_to=path)
    return path


@pytest.fixture(scope="module")
def watched(match):
    """All that an observer of the match sees of it."""
    return list(observed_in(Recording(match)))


def test_sums_of_a_match_weigh_what_the_match_weighed_live(match, watched):
    """What is worked out from a match's sums is what stood at its end, kind by kind."""
    rules, calibration = Recording(match).require_header().rules, load_calibration()
    collector = Collector(frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic))
    live = MatchEvaluator(calibration, rules)
    for seen in watched:
        live.add(seen)
        collector.take(
            seen.shots, seen.gazes, [f for _, f in seen.findings], seen.quality_of(), seen.accounts(), seen.claims,
            seen.until_s - seen.from_s,
        )  # fmt: skip
    compared = 0
    for account, mine in collector.plays.items():
        stood, summed = live.timeline.now(account), weighed(mine, calibration)
        for kind in set(stood) - set(EXACT) - {"claim_rate"}:
            assert summed.get(kind, 0.0) == pytest.approx(stood[kind], abs=5e-3), (account, kind)
            compared += bool(stood[kind])
    assert compared > 40


def mistaken(seen, **columns):
    """A stretch in which some columns of all shots are other ones."""
    return seen._replace(shots=seen.shots._replace(**{name: made(seen.shots) for name, made in columns.items()}))


def bodies_look_away(mirrored):
    """Aims all over the place, seen from where bodies look."""
    return lambda s: mistaken(s, gaze_rad=lambda x: np.linspace(0.7, 3.0, len(x.time)), mirrored_rad=mirrored)


MISTAKES = {
    "beside the server's eye": ("`eye`", lambda s: mistaken(s, aside_m=lambda x: x.aside_m * 0.0 + 0.2)),
    "mirrored axes": ("conventions", bodies_look_away(lambda x: 0.0 * x.time)),
    "degrees are taken for": ("conventions", bodies_look_away(lambda x: np.linspace(0.6, 1.6, len(x.time)))),
    "older than round trip": ("interpolation_delay_s", lambda s: mistaken(s, late_s=lambda x: 0.0 * x.time + 0.11)),
    "younger than round trip": ("interpolation_delay_s", lambda s: mistaken(s, late_s=lambda x: 0.0 * x.time - 0.05)),
    "never answered a ping": ("pong", lambda s: s._replace(connections={})),
}  # fmt: skip


@pytest.mark.parametrize("told", MISTAKES)
def test_a_mistake_of_the_integration_is_named_with_where_to_look(match, watched, told):
    """What lies off for everybody is told once, with its likely cause and place; without the mistake nothing is."""
    rules, (look, made) = Recording(match).require_header().rules, MISTAKES[told]
    sound, wrong = (Doctor(rules, load_calibration()) for _ in range(2))
    for seen in watched:
        sound.add(seen)
        wrong.add(made(seen))
    assert sound.complaints() == []
    found = [one for one in wrong.complaints() if told in f"{one.what} {one.cause}"]
    assert [look in one.look for one in found] == [True]


def test_rates_and_findings_of_everybody_are_told_by_command(match, watched):
    """A loop at another rate than the rules say, and a code on every account, by the command as a user reads it."""
    doctor = Doctor(Recording(match).require_header().rules)
    doctor.ticks(np.arange(400) / 30.0)
    assert "30 times a second, and the rules say 64" in doctor.complaints()[0].what
    for seen in watched:
        wrong = [
            (1, f) for account in seen.claims for k in range(9) for f in [_finding(account, seen.from_s + 0.1 * k)]
        ]
        doctor.add(seen._replace(findings=wrong))
    assert any(one.what.startswith("muzzle_far") and one.accounts == one.of == 6 for one in doctor.complaints())
    done = CliRunner().invoke(main, ["doctor", str(match)])
    assert (done.exit_code, done.stdout.strip()) == (0, "Nothing shows on most accounts that shouldn't.")
    told = json.loads(CliRunner().invoke(main, ["doctor", str(data_file("sample")), "--json"]).stdout)
    assert set(told) == {"mend", "drift", "too_little"}


def test_a_mistake_in_the_map_of_foreign_logs_is_told_with_its_cause(match, tmp_path):
    """Quaternions read in the other order: `import-logs` says that aims lie off where bodies look, and why."""
    mapping = write_foreign_logs(Recording(match), tmp_path / "logs")
    sound = CliRunner().invoke(main, ["import-logs", str(mapping), str(tmp_path / "sound"), "--json"])
    assert json.loads(sound.stdout)["mend"] == []
    mapping.write_text(mapping.read_text().replace('quaternion = "wxyz"', 'quaternion = "xyzw"'))
    told = CliRunner().invoke(main, ["import-logs", str(mapping), str(tmp_path / "wrong")]).stdout
    assert "off where bodies look (6 of 6 accounts)" in told
    assert "quaternions in the other order" in " ".join(told.split())


def _finding(account: str, at: float):
    from tinclock import Finding

    return Finding("muzzle_far", "c", account, 1, 1, at, 1.0, 0.6, 0.4, "m")


def test_a_table_is_calibrated_without_labels_by_command(match, tmp_path):
    """The command takes no labels, says who was set aside, and refuses two sources of truth at once."""
    out = tmp_path / "w.json"
    done = CliRunner().invoke(
        main, ["calibrate", str(match), "--max-cheating-fraction", "0.1", "--out", str(out), "--json"]
    )
    report = json.loads(done.stdout)
    assert (report["aside"], report["honest_accounts"]) == ([], 6)
    assert "head_fraction" in report["not_enough_play"]
    assert load_calibration(out).provenance.calibrated_rules["tick rate"] == "64 Hz"
    both = ["calibrate", str(match), "--max-cheating-fraction", "0.1", "--store", str(tmp_path), "--out", str(out)]
    assert "give one of them" in CliRunner().invoke(main, both).output
    assert math.isfinite(load_calibration(out).odds)
