"""The package as such: its public names, what importing it costs, and the errors it raises."""

from __future__ import annotations

import pickle
import subprocess
import sys

import pytest

import tinclock
from tinclock.core import errors

HEAVY = {"numba", "numpy", "scipy", "pandas", "matplotlib", "click", "rich", "msgspec", "pyarrow"}


def test_the_public_names_are_sorted_exported_and_documented():
    names = tinclock.__all__
    assert names == sorted(names)
    assert set(names) == set(tinclock._HOME)
    for name in names:
        assert getattr(tinclock, name).__doc__, name
        assert name in dir(tinclock)
    with pytest.raises(AttributeError, match="no attribute 'Nothing'"):
        tinclock.Nothing  # noqa: B018


def test_importing_costs_no_heavy_package():
    code = "import tinclock, sys; print(*sorted({m.split('.')[0] for m in sys.modules}))"
    loaded = set(
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    )
    assert not loaded & HEAVY


@pytest.mark.parametrize("extra", ["matplotlib", "pandas"])
def test_a_missing_extra_names_the_caller_and_the_pip_command(extra):
    code = f"""
import sys
sys.modules[{extra!r}] = None
import tinclock, numpy as np
from tinclock.core.timeline.hitboxes import pose_hitboxes
from tinclock.report.frames import hitboxes_frame
from tinclock.garden.scenario import data_file
from tinclock.report.looks import new_figure
rig = tinclock.Rig("g", tinclock.load_rules(data_file("garden.toml")).rigs["gardener"])
try:
    new_figure("draw_shot") if {extra!r} == "matplotlib" else hitboxes_frame(pose_hitboxes(
        rig, np.tile([0, 0, 0, 0, 0, 0, 1.0], (19, 1)), 1, 0.0))
except tinclock.MissingExtraError as error:
    print(error)
"""
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert f"needs {extra}: pip install 'tinclock[" in told


ERRORS = [
    errors.RulesError("rules.toml", ["a: wrong"]),
    errors.BadArrayError("bones", "shape (1, 2)", "shape (3,)", 4),
    errors.BadNumberError("limit_m", "a number", "x"),
    errors.BadNameError("account", "at most 200 characters", "x" * 300),
    errors.MeshError("no triangles"),
    errors.TimeOrderError("tick", 3, 4),
    errors.OutOfHistoryError("tick", 3, 4, 5),
    errors.UnknownNameError("rig", "pot", ["gardener"]),
    errors.AlreadyKnownError("entity", 3),
    errors.RecordingError("evening", "torn"),
    errors.EvidenceError("cases.db", "locked"),
    errors.SweepError("results", "another sweep's"),
    errors.LogError(["shots.csv, line 18, column 'x': expected a number, got 'a'"]),
    errors.MissingExtraError("draw", "matplotlib", "figures"),
]


@pytest.mark.parametrize("error", ERRORS, ids=lambda error: type(error).__name__)
def test_errors_are_built_in_kinds_too_and_survive_pickling(error):
    again = pickle.loads(pickle.dumps(error))
    assert (type(again), str(again), vars(again)) == (type(error), str(error), vars(error))
    assert isinstance(error, errors.TinClockError)
    assert isinstance(error, (ValueError, LookupError, ImportError))


def test_every_error_leaf_is_tried_above():
    assert {type(error) for error in ERRORS} == set(errors.TinClockError.__subclasses__())


def test_after_the_warm_up_a_match_compiles_nothing(tmp_path):
    """Every kernel that a claim of any kind needs is loaded before the first claim, and progress is told."""
    script = """
import sys, tinclock
told = []
tinclock.warm_up(lambda name, done, of: told.append((name, done, of)))
def compiled():
    return {
        f"{name}.{key}": len(kernel.signatures)
        for name, module in list(sys.modules.items()) if name.startswith("tinclock.core")
        for key, kernel in vars(module).items() if hasattr(kernel, "signatures")
    }
before = compiled()
from tinclock.garden.match import play_match
play_match(seed=3, seconds=6.0, players=8)
after = compiled()
fresh = {name: (before.get(name), count) for name, count in after.items() if before.get(name, 0) != count}
print(told[0][:2], told[-1][1] == told[-1][2], fresh, sum(after.values()) > 25)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip() == "('levels', 0) True {} True"
