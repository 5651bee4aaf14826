"""The commands with what people type first: misspelt names, empty folders, their own matches, too little play."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

import tinclock
from tinclock.cli.main import main
from tinclock.core.evidence.doctor import Doctor
from tinclock.garden.estimated import estimated_truth
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import data_file
from tinclock.garden.truth import read_truth
from tinclock.recordings import Recorder, Recording
from tinclock.testing import Stage

RULES = tinclock.load_rules(data_file("garden.toml"))
SAMPLE = str(data_file("sample"))


def run(*arguments: object, fails: int = 0) -> str:
    done = CliRunner().invoke(main, [str(argument) for argument in arguments], catch_exceptions=False)
    assert done.exit_code == fails, done.output
    return " ".join(done.output.split())


@pytest.fixture
def own(tmp_path, monkeypatch):
    """A recording of one's own: nobody wrote down what screens showed."""
    monkeypatch.chdir(tmp_path)
    shutil.copytree(SAMPLE, "evening")
    return Path("evening")


@pytest.mark.parametrize(
    ("option", "given", "near", "there"),
    [
        ("--account", "clovr", "clover", "anvil, beryl, clover, dibber"),
        ("--weapon", "grit_rifel", "grit_rifle", "grit_rifle, oil_can"),
        ("--kind", "shoot", "shot", "shot"),
        ("--finding", "fires_to_fast", "fires_too_fast", "damage_differs"),
    ],
)
def test_a_misspelt_name_gets_the_nearest_and_what_there_is(option, given, near, there):
    """Explain says which name the recording doesn't know, instead of that nothing fits."""
    told = run("explain", SAMPLE, option, given, fails=1)
    assert f"{given!r}. Did you mean {near!r}?" in told
    assert there in told


def test_a_finding_that_was_never_made_is_no_misspelling():
    """A code that exists and isn't in the recording is said to be just that."""
    told = run("explain", SAMPLE, "--finding", "teleport", fails=1)
    assert "nothing was found of 'teleport'; found were: damage_differs" in told


def test_contents_lists_accounts_and_the_names_they_were_shown_by(tmp_path):
    """Names that were given at admit appear in contents and in explain."""
    referee = tinclock.Referee(RULES)
    with Recorder(tmp_path / "match", referee) as recorder:
        entity = recorder.admit(connection="c", account="acc-17", name="Rosa", rig="gardener")
        pose = np.hstack([referee.history.rigs["gardener"].rest, np.tile([0, 0, 0, 1.0], (19, 1))])
        recorder.record(0, 0.0, [entity], pose[None])
        recorder.rule("c", b"nonsense", received_at=0.0)
    assert "accounts: acc-17 (Rosa)" in run("info", tmp_path / "match")
    assert Recording(tmp_path / "match").names() == {entity: "Rosa (acc-17)"}


@pytest.mark.parametrize(
    ("arguments", "fails", "said"),
    [
        (["doctor", "empty"], 1, "empty: is an empty folder; a recording is a folder that holds recording.json"),
        (["watch", "evening/recording.json"], 2, "is a file; give a recording's folder"),
        (["review", "evening/recording.json"], 2, "is a file; give a recording's folder"),
        (["cases", "list", "--store", "typo"], 1, "typo: holds no case store; `tinclock weigh RECORDING --store typo`"),
        (["cases", "show", "ada", "--store", "typo"], 1, "typo: holds no case store"),
    ],
)
def test_what_is_no_recording_or_store_is_said_and_nothing_is_made(own, arguments, fails, said):
    """A wrong path ends with what it is; no folder comes of a misspelt store."""
    Path("empty").mkdir()
    assert said in run(*arguments, fails=fails)
    assert not Path("typo").exists()


def test_follow_says_what_it_waits_for(own):
    """On a folder without recordings it doesn't wait in silence."""
    Path("empty").mkdir()
    command = [sys.executable, "-m", "tinclock", "watch", "empty", "--interval", "0.1"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as following:
        try:
            assert following.stdout is not None
            assert "empty: holds no recording yet" in following.stdout.readline()
        finally:
            following.terminate()
        assert following.wait(60) == 0


def test_doctor_passes_over_what_cannot_be_read_and_gives_no_all_clear_for_too_little(own):
    """One recording that is just ending takes no other with it; nine seconds of two players prove nothing."""
    shutil.copytree("evening", "torn")
    Path("torn/flushes.jsonl").write_bytes(b"{}\n")
    told = run("doctor", "torn", "evening")
    assert "passed over" in told
    assert "Nothing shows on most accounts that shouldn't." in told
    simulate_match(seed=5, seconds=9.0, players=2, record_to="short")
    told = run("doctor", "short")
    assert "Too little was played to tell what most accounts show: 2 accounts over 0.3 minutes in all" in told
    assert "Nothing shows" not in told
    assert "expected" not in run("doctor", "torn", fails=1)


@pytest.mark.parametrize("stamped", [0.0, 0.5, 1.0])
def test_arrivals_that_are_stamped_with_the_ticks_time_are_recognised(stamped):
    """A server that reads its sockets once a tick and passes on the tick's time is told so; chance isn't."""
    ticks = np.arange(2000) / 64
    rng = np.random.default_rng(2)
    arrivals = rng.uniform(0.0, 30.0, 400)
    arrivals[: int(stamped * 400)] = rng.choice(ticks, int(stamped * 400))
    doctor = Doctor(RULES)
    doctor.arrivals(arrivals, ticks)
    told = [one.what for one in doctor.complaints()]
    assert told == (["100 % of claims and pongs arrived at the very time of a tick"] if stamped == 1.0 else [])


def test_fairness_of_ones_own_match_is_close_to_the_truth(own):
    """Who was hit after reaching cover, and for how long, comes out of round trips about as it was written down."""
    estimated = json.loads(run("fairness", own, "--sweep", "0.1:0.4:0.3", "--json"))
    known = json.loads(run("fairness", SAMPLE, "--sweep", "0.1:0.4:0.3", "--json"))
    assert (estimated["estimated"], known["estimated"]) == (True, False)
    victims = [each["recorded"]["victims"]["all"] for each in (estimated, known)]
    assert victims[0]["hits"] == victims[1]["hits"] > 50
    assert abs(victims[0]["after_cover"] - victims[1]["after_cover"]) <= 0.1 * victims[1]["hits"]
    assert abs(victims[0]["worst_s"] - victims[1]["worst_s"]) < 0.1
    assert [row["flipped"] for row in estimated["over"]] == [row["flipped"] for row in known["over"]]
    assert (
        estimated["over"][0]["shooters"]["all"]["fraction_counted"]
        < estimated["recorded"]["shooters"]["all"]["fraction_counted"]
    )
    truth, guess = read_truth(f"{SAMPLE}-truth"), estimated_truth(Recording(own))
    assert truth.viewers.keys() == guess.viewers.keys()
    for connection, viewer in guess.viewers.items():
        assert viewer.shown_s == pytest.approx(truth.viewers[connection].shown_s, abs=0.05)


def test_a_match_without_named_victims_still_has_a_fairness(tmp_path, monkeypatch):
    """Clients that never say whom they hit: cover is known, and the range runs."""
    monkeypatch.chdir(tmp_path)
    with Stage(RULES, record_to="stage") as stage:
        stage.enter("ada", (0.0, 0.0, 0.0), weapon="grit_rifle")
        stage.enter("bob", (9.0, 0.0, 0.0))
        stage.run(1.0)
        stage.shoot("ada", "bob")
        stage.run(1.0)
    told = run("fairness", "stage", "--sweep", "0.1:0.2:0.1")
    assert "no client named a victim" in told
    assert "against max_rewind_s" in told


def test_the_picture_of_the_first_launch_is_of_one_that_flew(tmp_path):
    """A rejected launch isn't drawn where another one flew; asked for by number, the reason is said."""
    told = run("explain", SAMPLE, "--kind", "launch", "--first", "--image", tmp_path / "l.png")
    assert (tmp_path / "l.png").exists()
    assert "nothing flew" not in told
    assert "ruling 58, every step" in run("explain", "--help")
