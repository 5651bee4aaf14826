"""The command, and the README's and the guides' code, run as a user runs them."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tomllib
from itertools import pairwise
from pathlib import Path

import click
import msgspec
import pytest
from click.testing import CliRunner

import tinclock
from tinclock.cli.main import COMMANDS, main
from tinclock.core.rules.game import CounterRules, LoadoutRules, PhaseRules, RegenerationRules, TeamRules
from tinclock.core.rules.projectiles import BounceRules, ProjectileRules, SplashRules
from tinclock.core.rules.rigs import RigRules
from tinclock.core.rules.ruleset import Rules
from tinclock.core.rules.weapons import (
    BurstRules,
    DamageOverTimeRules,
    ItemRules,
    RecoilRules,
    SpreadRules,
    WeaponRules,
)
from tinclock.garden.scenario import data_file

ROOT = Path(__file__).parent.parent
SAMPLE = str(data_file("sample"))
DEMO = ["demo", "--seconds", "3", "--seed", "2"]


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[str, Path]:
    out = tmp_path_factory.mktemp("demo")
    done = CliRunner().invoke(main, [*DEMO, "--out", str(out), "--limit", "0"])
    assert done.exit_code == 0, done.output
    return done.output, out


def test_demo_prints_a_row_for_every_ruling_and_a_summary(demo):
    """`demo` prints a row for every ruling and a summary."""
    text, out = demo
    rulings = [json.loads(line) for line in (out / "rulings.jsonl").read_text().splitlines()]
    assert f"{len(rulings)} rulings" in text
    for ruling in rulings:
        if ruling["kind"] not in ("shot", "launch", "melee", "projectile"):
            continue
        row = next(line for line in text.splitlines() if line.split()[:1] == [str(ruling["number"])])
        assert ruling["account"] in row
        assert ruling["outcome"] in row
    assert "honest shots that hit on the shooter's screen" in text


def test_demo_writes_findings_and_pictures(demo):
    """`demo` writes findings and pictures."""
    _, out = demo
    findings = [json.loads(line) for line in (out / "findings.jsonl").read_text().splitlines()]
    assert findings
    assert all(finding["code"] for finding in findings)
    for picture in ("match.png", "shot.png"):
        head = (out / picture).read_bytes()[:24]
        assert (int.from_bytes(head[16:20]), int.from_bytes(head[20:24])) == (1280, 800)


def test_demo_as_json_is_json_alone_and_quiet_is_silent(tmp_path):
    """`demo` as JSON is JSON alone and quiet is silent."""
    arguments = ["demo", "--seconds", "1", "--out", str(tmp_path)]
    summary = json.loads(CliRunner().invoke(main, [*arguments, "--json"]).output)
    assert sum(summary["outcomes"].values()) == summary["rulings"]
    assert Path(summary["files"]["rulings"]).exists()
    assert CliRunner().invoke(main, [*arguments, "--quiet"]).output == ""


def test_demo_explains_one_ruling(demo, tmp_path):
    """`demo` explains one ruling of the same match; for a number that there isn't it says which there are."""
    rulings = map(json.loads, (demo[1] / "rulings.jsonl").read_text().splitlines())
    number = next(r["number"] for r in rulings if r["kind"] == "shot" and r["account"] and r["view"])
    text = CliRunner().invoke(main, [*DEMO, "--out", str(tmp_path), "--shot", str(number)]).output
    assert f"ruling {number}: " in text
    assert "age of the view" in text
    wrong = CliRunner().invoke(main, ["demo", "--seconds", "1", "--out", str(tmp_path), "--shot", "9999"])
    assert wrong.exit_code == 2
    assert "this match has rulings 1 to" in wrong.output


GARDEN = str(data_file("garden.toml"))


def test_check_finds_nothing_unusual_in_the_gardens_rules_and_counts_hits(tmp_path):
    """`check` finds no mistake in the garden's rules, says which weapon anybody may take, and counts hits."""
    done = CliRunner().invoke(main, ["check", GARDEN])
    assert done.exit_code == 0
    assert "no mistakes, nothing unusual" in done.output
    carried = "grit_rifle, gravel_scatter, hose, pebble_sling, clod_mortar, trowel"
    assert f"every player without a loadout carries {carried}" in " ".join(done.output.split())
    assert re.search(r"grit_rifle +hitscan +0.18 .*6 0.90", done.output)
    report = json.loads(CliRunner().invoke(main, ["check", GARDEN, "--json", "--target-rig", "sprinkler"]).output)[0]
    assert {row["rig"] for row in report["weapons"]} == {"sprinkler"}
    assert report["carried_by_all"] == {"weapons": carried.split(", "), "items": ["oil_can"]}
    calm = Path(GARDEN).read_text(encoding="utf-8")
    (tmp_path / "calm.toml").write_text(calm, encoding="utf-8")
    assert CliRunner().invoke(main, ["check", str(tmp_path / "calm.toml"), "--quiet"]).output == ""
    wrong = CliRunner().invoke(main, ["check", GARDEN, "--target-rig", "snail"])
    assert (wrong.exit_code, "there are: gardener, sprinkler" in wrong.output) == (2, True)


def test_check_reports_mistakes_of_all_files_at_once_and_fails(tmp_path):
    """`check` reports mistakes of all files at once and fails."""
    text = Path(GARDEN).read_text(encoding="utf-8")
    bad, odd = tmp_path / "bad.toml", tmp_path / "odd[1].toml"
    bad.write_text(text.replace("damage = 17.0", "damge = 17.0").replace("health = 100.0", "health = -1", 1))
    odd.write_text(text.replace("[[12.0, 1.0], [40.0, 0.5]]", "[[12.0, 0.5], [40.0, 1.0]]"))
    done = CliRunner().invoke(main, ["check", str(bad), str(odd), str(tmp_path / "none.toml")])
    assert done.exit_code == 1
    for part in ("bad.toml: 3 mistakes", "did you mean 'damage'", "match.health: got -1", "no such file",
                 "odd[1].toml: no mistakes, 1 unusual setting", "falloff: rises with distance, [0.5, 1"):  # fmt: skip
        assert part in done.output
    assert CliRunner().invoke(main, ["check", str(odd)]).exit_code == 0
    assert CliRunner().invoke(main, ["check", str(odd), "--strict"]).exit_code == 1


def test_help_and_version_answer_with_examples():
    """Help and version answer with examples."""
    run = [sys.executable, "-m", "tinclock"]
    told = subprocess.run([*run, "--version"], capture_output=True, text=True, check=True).stdout
    assert tinclock.__version__ in told
    assert "Examples:" in subprocess.run([*run, "--help"], capture_output=True, text=True, check=True).stdout
    for name in COMMANDS:
        assert "Examples:" in CliRunner().invoke(main, [name, "--help"]).output, name


def test_the_readmes_python_blocks_run_as_printed(tmp_path):
    """The README's Python blocks run as printed."""
    blocks = re.findall(r"```python\n(.*?)```", (ROOT / "README.md").read_text(encoding="utf-8"), re.S)
    assert blocks
    subprocess.run([sys.executable, "-W", "error", "-c", "\n".join(blocks)], check=True, cwd=tmp_path)


def test_the_readme_names_exactly_two_set_up_commands_that_the_makefile_has():
    """The README names exactly two set-up commands that the Makefile has."""
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    set_up = re.search(r"## Set up\n.*?```\w*\n(.*?)```", text, re.S)
    commands = [line.split("#")[0].strip() for line in set_up.group(1).strip().splitlines()]
    assert commands == ["make demo", "make test"]


@pytest.mark.parametrize("page", sorted((ROOT / "docs").glob("*.md")), ids=lambda page: page.name)
def test_the_guides_python_blocks_run_as_printed(page, tmp_path):
    """The guides' Python blocks run as printed."""
    blocks = re.findall(r"```python\n(.*?)```", page.read_text(encoding="utf-8"), re.S)
    if blocks:
        subprocess.run([sys.executable, "-W", "error", "-c", "\n".join(blocks)], check=True, cwd=tmp_path)
    for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text(encoding="utf-8")):
        assert (page.parent / link).exists(), link


def test_the_guides_leave_out_no_key_of_the_rules():
    """The guides leave out no key of the rules."""
    guide = (ROOT / "docs" / "rules-file.md").read_text(encoding="utf-8")
    block = re.search(r"```toml\n(.*?)```", guide, re.S).group(1)
    loaded = msgspec.structs.asdict(tinclock.load_rules(GARDEN)).values()
    tables = [type(value) for value in loaded if isinstance(value, msgspec.Struct)]
    tables += [Rules, WeaponRules, ItemRules, RigRules, SpreadRules, RecoilRules, BurstRules, DamageOverTimeRules]
    tables += [ProjectileRules, BounceRules, SplashRules]
    tables += [CounterRules, LoadoutRules, PhaseRules, RegenerationRules, TeamRules]
    keys = {key for table in tables for key in table.__struct_fields__}
    assert len(keys) > 80
    assert [key for key in sorted(keys) if not re.search(rf"\b{key}\b", block)] == []


def test_the_rules_file_in_the_guide_holds_only_keys_that_exist():
    """The rules file in the guide holds only keys that exist."""
    block = re.search(r"```toml\n(.*?)```", (ROOT / "docs" / "rules-file.md").read_text(encoding="utf-8"), re.S).group(
        1
    )
    assert tinclock.parse_rules(tomllib.loads(block)).weapons["grit_rifle"].interval_s == 0.18


def test_flights_are_told_and_drawn(tmp_path):
    """Flights are told and drawn."""
    done = CliRunner().invoke(main, ["demo", "projectiles", "--out", str(tmp_path), "--json"])
    assert done.exit_code == 0, done.output
    told = {scene["scene"]: scene for scene in json.loads(done.output)["scenes"]}
    assert (told["clod mortar"]["ended"], told["clod mortar"]["bounces"], told["clod mortar"]["flight_time_s"]) == (
        "fuse",
        2,
        2.5,
    )
    assert [bool(told[name]["hits"]) for name in ("none", "catch_up", "blend", "dart")] == [False, False, True, True]
    for picture in ("mortar", "compensation", "dart"):
        head = (tmp_path / f"{picture}.png").read_bytes()[:24]
        assert (int.from_bytes(head[16:20]), int.from_bytes(head[20:24])) == (1280, 800)
    text = CliRunner().invoke(main, ["demo", "projectiles", "--out", str(tmp_path), "--explain"]).output
    assert "bounced off the level" in text
    assert "fraction of it in sight             0 " in text


def commands_of(group: click.Group, before: tuple[str, ...] = ()) -> list[tuple[str, ...]]:
    """Every command's words, groups included."""
    context, out = click.Context(group), []
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        out.append((*before, name))
        if isinstance(command, click.Group):
            out += commands_of(command, (*before, name))
    return out


@pytest.mark.parametrize("words", [(), *commands_of(main)], ids=" ".join)
def test_help_fits_eighty_columns_and_never_breaks_a_command(words):
    """Whoever copies an example from the help gets all of it, and no line runs over."""
    told = CliRunner().invoke(main, [*words, "--help"], terminal_width=80).output
    assert max(len(line) for line in told.splitlines()) <= 80
    examples = told.partition("Examples:")[2].splitlines()
    for line, following in pairwise(examples):
        if line.strip().startswith("tinclock") and following.strip().startswith("--"):
            assert line.endswith("\\"), line


def test_tables_fit_eighty_columns_and_numbers_are_whole(monkeypatch, tmp_path):
    """A number that must be typed is never cut, and COLUMNS counts where the output is piped."""
    monkeypatch.setenv("COLUMNS", "80")
    listed = CliRunner().invoke(main, ["explain", SAMPLE, "--kind", "shot", "--limit", "0"]).output.splitlines()
    assert max(map(len, listed)) <= 80
    numbers = [line.split()[0] for line in listed[1:] if re.match(r" *\d+ ", line)]
    assert len(numbers) > 100
    assert all(number.isdigit() for number in numbers)
    (tmp_path / "garden.toml").write_text(data_file("garden.toml").read_text())
    monkeypatch.chdir(tmp_path)  # a path is said as it was given, however long
    checked = CliRunner().invoke(main, ["check", "garden.toml"]).output
    assert max(map(len, checked.splitlines())) <= 80
    assert re.search(r"^grit_rifle +hitscan", checked, re.M)


def test_explain_leaves_out_what_the_servers_own_did_unless_it_is_asked_for():
    """Who asks why a shot missed means a player's, not a sprinkler's."""
    told = CliRunner().invoke(main, ["explain", SAMPLE, "--missed", "--first"]).output
    opening, head = told.splitlines()[:2]
    assert re.match(r"The (shot|melee attack|projectile) hit nobody: \w+", opening)
    said = r"ruling \d+: \w+( \(a miss\))? - (shot|melee|projectile) .*of (anvil|beryl|clover|dibber) \(entity \d+\)"
    assert re.match(said, head)
    whole = CliRunner().invoke(main, ["explain", SAMPLE, "--missed", "--first", "--include-server"]).output
    assert "the server's own" in whole.splitlines()[1] or "sprinkler" in whole.splitlines()[1]


def test_contents_counts_players_outcomes_and_findings():
    """What a recording holds is said in people and rulings, not in tables alone."""
    told = json.loads(CliRunner().invoke(main, ["info", SAMPLE, "--json"]).output)
    assert told["players"] == ["anvil", "beryl", "clover", "dibber"]
    assert sum(told["outcomes"].values()) == told["tables"]["rulings"]["rows"]
    assert told["findings"]["damage_differs"] >= 50
    plain = CliRunner().invoke(main, ["info", SAMPLE]).output
    assert "4 players; " in plain
    assert "damage_differs" in plain
