"""Compiled kernels: the key of their cache, where it is found, and calls of their parts from Python."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import tinclock
from tinclock.core.kernels import committing, spending
from tinclock.core.kernels.cache import DIGEST, source_digest
from tinclock.core.kernels.dtypes import HELD_T, WEAPON_T
from tinclock.core.ruling.procedures import MOVE, SHOT

SOURCE = Path(tinclock.__file__).parent
ONE_SHOT = """
import sys
sys.path.insert(0, sys.argv[1])
import numba, tinclock
from tinclock.sample import data_file
from tinclock.core.kernels.checking import check_claims
referee = tinclock.Referee(tinclock.load_rules(data_file("garden.toml")))
one = referee.admit(connection="a", account="a", rig="gardener")
rest = referee.history.rigs["gardener"].rest
pose = [[*place, 0.0, 0.0, 0.0, 1.0] for place in rest]
for tick in range(64):
    referee.record(tick, tick / 64, [one], [pose])
    if tick % 2 == 0:
        referee.snapshot_sent(tick)
eye = referee.history.eye_now(one)
shot = tinclock.claims.ShotClaim(1, one, "grit_rifle", eye, (0.0, 0.0, 1.0), tinclock.View(60, 62, 0.5))
ruling = referee.rule("a", shot, received_at=63 / 64)
stats = getattr(check_claims, "stats", None)
print(tinclock.__file__.startswith(sys.argv[1]), ruling.outcome, *[found.code for found in ruling.findings])
print(sum(stats.cache_misses.values()))
"""


def one_shot(folder: Path, **environment: str) -> tuple[list[str], int]:
    """Rule one shot in a process with a copy of the library; returns its result, and how many kernels were compiled."""
    run = [sys.executable, "-c", ONE_SHOT, str(folder)]
    done = subprocess.run(
        run, capture_output=True, text=True, check=True, env={**os.environ, **environment}, cwd=folder
    )
    ruled, compiled = done.stdout.splitlines()
    assert ruled.startswith("True")
    return ruled.split()[1:], int(compiled)


@pytest.fixture
def copied(tmp_path: Path) -> Path:
    """A copy of the library with its compiled kernels, as an installation elsewhere has it."""
    tinclock.warm_up()
    shutil.copytree(SOURCE, tmp_path / "tinclock", ignore=shutil.ignore_patterns("*.pyc", "sample"))
    return tmp_path


def replaced(file: Path, before: str, after: str) -> None:
    text = file.read_text("utf-8")
    assert text.count(before) == 1, (file, before)
    file.write_text(text.replace(before, after), "utf-8")


def test_an_edited_check_and_an_edited_layout_are_compiled_again(copied):
    """A cached kernel is not used once a check or a layout that was inlined into it is another one."""
    assert one_shot(copied) == (["accepted"], 0)
    kernels = copied / "tinclock" / "core" / "kernels"
    replaced(kernels / "checks" / "weapon.py", "if early > allowance:", "if early == early:")
    replaced(
        kernels / "fields.py", "    ready_at: int\n    fired_at", "    added: int\n    ready_at: int\n    fired_at"
    )
    ruled, compiled = one_shot(copied, NUMBA_OPT="0")
    assert (ruled, compiled) == (["rejected", "fires_too_fast"], 1)


@pytest.mark.parametrize("edited", ["core/tolerances.py", "core/kernels/checks/sender.py", "core/kernels/layout.py"])
def test_the_key_of_cached_kernels_covers_everything_compiled_into_them(copied, edited):
    """Any edit of a kernel, a layout or a tolerance changes the key of all cached kernels; a copy has the same key."""
    code = "import sys; sys.path.insert(0, sys.argv[1]); from tinclock.core.kernels.cache import DIGEST; print(DIGEST)"
    ask = [sys.executable, "-c", code, str(copied)]
    assert subprocess.run(ask, capture_output=True, text=True, check=True).stdout.strip() == DIGEST == source_digest()
    with (copied / "tinclock" / edited).open("a") as file:
        file.write("\nMORE = 1\n")
    assert subprocess.run(ask, capture_output=True, text=True, check=True).stdout.strip() != DIGEST


def test_the_key_names_every_file_of_ours_that_kernels_import():
    """A kernel that reads a constant from another file of the library would escape the key."""
    outside = set()
    for file in (SOURCE / "core" / "kernels").rglob("*.py"):
        for line in file.read_text("utf-8").splitlines():
            if line.startswith("from tinclock") and not line.startswith("from tinclock.core.kernels"):
                outside.add(line.split()[1])
    assert outside == {"tinclock.core.tolerances"}


@pytest.mark.parametrize("home", ["writable", "read-only"])
def test_kernels_beside_the_code_are_used_where_the_installation_is_read_only(copied, tmp_path, home):
    """Nothing is compiled again, and nothing written, when kernels lie beside code that another user installed."""
    guard = tmp_path / "guard"
    guard.mkdir()
    refused = f"str(dir).startswith({str(copied / 'tinclock')!r})" if home == "writable" else "True"
    (guard / "sitecustomize.py").write_text(f"""
import tempfile
make = tempfile.TemporaryFile
def refuse(*arguments, dir=None, **more):
    if {refused}:
        raise PermissionError(13, "read-only", str(dir))
    return make(*arguments, dir=dir, **more)
tempfile.TemporaryFile = refuse  # what Numba tries a folder with
""")
    before = {file: file.stat().st_mtime_ns for file in copied.rglob("*.nb?")}
    paths = {"PYTHONPATH": str(guard), "XDG_CACHE_HOME": str(tmp_path / "cache"), "NUMBA_CACHE_DIR": ""}
    assert one_shot(copied, **paths) == (["accepted"], 0)
    assert {file: file.stat().st_mtime_ns for file in copied.rglob("*.nb?")} == before
    assert list(tmp_path.glob("cache/**/*.nbc")) == []


def test_a_part_of_kernels_runs_as_python_when_python_calls_it():
    """Calling a function that only kernels call gives its answer, or an exception, and never ends the process."""
    held, weapon = (np.zeros(1, np.dtype((np.record, dtype)))[0] for dtype in (HELD_T, WEAPON_T))
    held.magazine, held.reserve, held.reload_ends = 3.0, 10.0, np.inf
    assert spending.rounds_at(held, weapon, 1.0) == (3.0, 10.0)
    assert spending.rounds_at.__doc__.startswith("(magazine, reserve)")
    with pytest.raises((AttributeError, NotImplementedError, TypeError)):
        committing.tell_standing(None)


SOBER = '''
"""A check of a test."""
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.facts import FINDING, MEASURE, NOTHING, found, measured
from tinclock.core.kernels.registry import check


@check
def check_sobriety(f):
    """Find `fires_too_fast` on weapons of long range; metres."""
    measured(f, MEASURE.fire_rate, f.weapon.range_m, 1.0)
    return found(f, FINDING.fires_too_fast, f.weapon.range_m, 1.0) if f.weapon.range_m > 1.0 else NOTHING
'''


def with_a_new_check(copied: Path, text: str) -> subprocess.CompletedProcess[str]:
    """Rule a shot with a library that has one more file of checks, and one more row in the shot's procedure."""
    core = copied / "tinclock" / "core"
    (core / "kernels" / "checks" / "sobriety.py").write_text(text, "utf-8")
    procedures = core / "ruling" / "procedures.py"
    replaced(
        procedures, "        weapon.check_shoots,\n", "        sobriety.check_sobriety,\n        weapon.check_shoots,\n"
    )
    replaced(procedures, "import ground, lag,", "import sobriety, ground, lag,")
    run = [sys.executable, "-c", ONE_SHOT, str(copied)]
    environment = {**os.environ, "NUMBA_OPT": "0"}
    return subprocess.run(run, capture_output=True, text=True, check=False, cwd=copied, env=environment)


def test_a_new_check_is_one_function_and_one_row(copied):
    """A check in a file of its own, listed in a procedure, measures, finds and rejects with nothing else edited."""
    done = with_a_new_check(copied, SOBER)
    assert done.stdout.splitlines()[0] == "True rejected fires_too_fast", done.stderr


@pytest.mark.parametrize("first", ["checks.walls", "checks.lag", "committing", "checking"])
def test_numbers_of_checks_do_not_depend_on_the_order_of_imports(first):
    """A cached kernel runs checks by number, so every process gives each check the same one."""
    code = f"""
import tinclock.core.kernels.{first}
from tinclock.core.ruling.procedures import SHOT, MOVE
print([getattr(one, "number", None) for one in (*SHOT.checks, *MOVE.checks)])
"""
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert told.strip() == str([getattr(one, "number", None) for one in (*SHOT.checks, *MOVE.checks)])


def test_a_check_that_is_listed_and_not_registered_refuses_to_import(copied):
    """A kernel in a procedure that no decorator registered is named in an ImportError; nothing runs in its place."""
    done = with_a_new_check(copied, SOBER.replace("@check\n", "@inner\n"))
    assert done.returncode != 0
    assert "ImportError: check_sobriety is listed as a check and not registered" in done.stderr


WAYS = """
import sys; sys.path.insert(0, sys.argv[1])
import msgspec, tinclock
from tinclock.core.ruling.claims import Claim
body = {"eye": {"bone": "b"}, "bones": [{"name": "b"}],
        "parts": [{"name": "p", "bone": "b", "zone": "z", "shape": "sphere", "radius_m": 0.5}]}
gun = {"damage": 10.0, "interval_s": 0.001, "range_m": 50.0}
rules = msgspec.convert({"schema": 2, "match": {"health": 1000.0}, "muzzle": {"reach_m": 1.0},
    "rigs": {"body": body}, "weapons": {
    "plain": {**gun, "kind": "hitscan"}, "pellet": {**gun, "damage": 5.0, "kind": "pellets", "pellets": 2},
    "through": {**gun, "kind": "hitscan", "penetration": 1.0},
    "blow": {**gun, "kind": "melee", "radius_m": 0.1, "cone_deg": 20.0}}}, tinclock.Rules)
referee = tinclock.Referee(rules, seed=1)
for name in ("s", "t"):
    referee.admit(connection=name, account=name, rig="body",
    interpolation=tinclock.Interpolation(interpolation_delay_s=0.0))
for tick in range(64):
    referee.record(tick, tick / 64, [1, 2], [[[[0, 0, 0, 0, 0, 0, 1]], [[5, 0, 0, 0, 0, 0, 1]]][k] for k in (0, 1)])
    referee.snapshot_sent(tick)
number, told = 0, []
def claim(kind, weapon):
    global number
    number += 1
    return {"kind": kind, "sequence": number, "actor": 1, "weapon": weapon, "origin": [0.0, 0.0, 0.0],
            "direction": [1.0, 0.0, 0.0], "view": [60, 60, 0.0]}
for kind, weapon in (("shot", "plain"), ("shot", "pellet"), ("shot", "through"), ("melee", "blow")):
    referee.set_weapon(1, weapon, server_time=1.0)
    told += [referee.rule("s", claim(kind, weapon), received_at=1.0)]
    sent = msgspec.json.encode(claim(kind, weapon))
    told += [referee.rule("s", msgspec.json.decode(sent, type=Claim), received_at=1.0)]
    told += list(referee.rule_many([("s", msgspec.convert(claim(kind, weapon), Claim), 1.0) for _ in range(2)]))
print(*(r.hits[0].damage if r.hits else r.explain() for r in told), sep=",")
"""


def test_a_new_property_of_damage_gives_one_number_on_every_way_in(copied):
    """Damage that halves beyond 3 m, written in its one place, halves for data, messages and batches of all weapons."""
    replaced(
        copied / "tinclock" / "core" / "kernels" / "damage.py", "return share * (weapon",
        "return (0.5 if distance > 3.0 else 1.0) * share * (weapon",
    )  # fmt: skip
    run = [sys.executable, "-c", WAYS, str(copied)]
    done = subprocess.run(run, capture_output=True, text=True, check=False, env={**os.environ, "NUMBA_OPT": "0"})
    assert done.stdout.strip() == ",".join(["5.0"] * 16), done.stdout + done.stderr
