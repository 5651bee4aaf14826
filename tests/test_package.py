"""The package as such: its public names, what importing it costs, and the errors it raises."""

from __future__ import annotations

import ast
import importlib
import inspect
import io
import os
import pickle
import re
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import numba
import pytest

import tinclock
from tinclock.cases.store import SCHEMA
from tinclock.cli.compiling import warm_up_beside
from tinclock.core import errors
from tinclock.core.warming import AHEAD, STEPS
from tinclock.evidence import CaseReview, CaseStore
from tinclock.garden.scenario import data_file

ROOT = Path(__file__).resolve().parent.parent
HEAVY = {"numba", "numpy", "scipy", "pandas", "matplotlib", "click", "rich", "msgspec", "pyarrow"}


PUBLIC = ("", "claims", "client", "recordings", "evidence", "wire", "logs", "sample", "meshes", "types", "errors")


def test_public_names_load_are_documented_and_stand_in_the_reference():
    """Each public name stands once in a stub, loads on first use, has a docstring, and is in docs/api.md as it is."""
    assert len(tinclock.__all__) <= 37 + len(PUBLIC)  # names, and the public modules
    for module in PUBLIC:
        loaded = importlib.import_module(f"tinclock.{module}".rstrip("."))
        assert loaded.__all__ == sorted(loaded.__all__)
        for name in loaded.__all__:
            assert getattr(loaded, name).__doc__, name
            assert name in dir(loaded)
    with pytest.raises(AttributeError, match="no attribute 'Nothing'"):
        tinclock.Nothing  # noqa: B018
    check = [sys.executable, str(ROOT / "tools" / "api.py"), "--check"]
    done = subprocess.run(check, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_every_type_in_a_public_signature_can_be_imported_from_a_public_place():
    """A caller who annotates its own code needs no deep module: what a public call takes or gives back is public."""
    public, kinds = {}, set()
    for module in PUBLIC:
        loaded = importlib.import_module(f"tinclock.{module}".rstrip("."))
        public |= {name: getattr(loaded, name) for name in loaded.__all__}
    for file in (ROOT / "src" / "tinclock").rglob("*.py"):
        kinds |= {n.name for n in ast.parse(file.read_text("utf-8")).body if isinstance(n, ast.ClassDef)}
    hidden, elsewhere = set(), {"Path", "Connection", "Table"}  # names that other packages have too
    for name, value in public.items():
        calls = [value] if inspect.isroutine(value) else []
        if inspect.isclass(value):
            calls = [m for n, m in inspect.getmembers(value, inspect.isroutine) if not n.startswith("_")]
        for call in calls:
            if (getattr(call, "__module__", "") or "").startswith("tinclock"):
                said = " ".join(map(str, call.__annotations__.values()))
                hidden |= {
                    (name, word) for word in re.findall(r"[A-Z]\w+", said) if word in kinds - set(public) - elsewhere
                }
    assert not hidden, sorted(hidden)


def test_importing_costs_no_heavy_package():
    """Importing costs no heavy package."""
    code = "import tinclock, sys; print(*sorted({m.split('.')[0] for m in sys.modules}))"
    loaded = set(
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    )
    assert not loaded & HEAVY


@pytest.mark.parametrize("extra", ["matplotlib", "pandas"])
def test_a_missing_extra_names_the_caller_and_the_pip_command(extra):
    """A missing extra names the caller and the pip command."""
    code = f"""
import sys
sys.modules[{extra!r}] = None
import tinclock, numpy as np
from tinclock.errors import MissingExtraError
from tinclock.core.timeline.hitboxes import pose_hitboxes
from tinclock.report.frames import hitboxes_frame
from tinclock.sample import data_file
from tinclock.report.style import new_figure
rig = tinclock.Rig("g", tinclock.load_rules(data_file("garden.toml")).rigs["gardener"])
try:
    new_figure("draw_shot") if {extra!r} == "matplotlib" else hitboxes_frame(pose_hitboxes(
        rig, np.tile([0, 0, 0, 0, 0, 0, 1.0], (19, 1)), 1, 0.0))
except MissingExtraError as error:
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
    errors.ReadOnlyError("history.cut", "mark_teleport"),
    errors.RecordingError("evening", "torn"),
    errors.EvidenceError("cases.db", "locked"),
    errors.CheckpointError("bytes that this release wrote", "EOFError"),
    errors.BatchError("results", "another sweep's"),
    errors.LogError(["shots.csv, line 18, column 'x': expected a number, got 'a'"]),
    errors.MissingExtraError("draw", "matplotlib", "figures"),
]


@pytest.mark.parametrize("error", ERRORS, ids=lambda error: type(error).__name__)
def test_errors_are_built_in_kinds_too_and_survive_pickling(error):
    """Errors are built-in kinds too and survive pickling."""
    again = pickle.loads(pickle.dumps(error))
    assert (type(again), str(again), vars(again)) == (type(error), str(error), vars(error))
    assert isinstance(error, errors.TinClockError)
    assert isinstance(error, (ValueError, LookupError, TypeError, ImportError))


def test_every_error_leaf_is_tried_above():
    """Every error leaf is tried above."""
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
from tinclock.garden.match import simulate_match
simulate_match(seed=3, seconds=6.0, players=8)
after = compiled()
fresh = {name: (before.get(name), count) for name, count in after.items() if before.get(name, 0) != count}
print(told[0][:2], told[-1][1] == told[-1][2], fresh, sum(after.values()) > 25)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip() == "('levels', 0) True {} True"


def test_every_kernel_that_python_calls_is_warm():
    """A match that reloads, charges or derives a view waits for no compiler either."""
    script = """
import ast, importlib, pathlib, sys, tinclock
tinclock.warm_up()
core = pathlib.Path(tinclock.__file__).parent / "core"
cold = set()
for path in core.rglob("*.py"):
    if "kernels" not in path.parts:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("tinclock.core.kernels"):
                module = importlib.import_module(node.module)
                for name in node.names:
                    kernel = getattr(module, name.name)
                    if hasattr(kernel, "signatures") and not kernel.signatures:
                        cold.add(name.name)
print(*sorted(cold))
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []


def test_what_only_kernels_call_works_inside_them_and_in_python():
    """A part of kernels gives a kernel and Python the same answer."""
    script = """
from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.poses import rotate
@inner
def twice(x):
    return 2.0 * x
@njit()
def turned(x):
    return rotate(0.0, 0.0, 1.0, 0.0, twice(twice(x)), 1.0, 0.5)
print(turned(3.0), rotate(0.0, 0.0, 1.0, 0.0, twice(twice(3.0)), 1.0, 0.5))
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "(-12.0, -1.0, 0.5) (-12.0, -1.0, 0.5)"


def test_a_first_ruling_waits_for_no_linear_algebra_and_takes_it_from_nobody():
    """Kernels load without SciPy's, and without what Numba compiles with; somebody else's function finds both."""
    script = """
import sys, numba, numpy as np, tinclock
context, times = numba.core.registry.cpu_target.target_context, []
refresh, context.refresh = context.refresh, lambda: (times.append(1), refresh())
tinclock.warm_up()
print("scipy.linalg" in sys.modules, len(times))
print(numba.njit(lambda a, b: np.convolve(a, b))(np.arange(3.0), np.ones(2)).tolist())
print("scipy.linalg" in sys.modules)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines() == ["False 0", "[0.0, 1.0, 3.0, 2.0]", "True"]


def test_a_command_lets_arrow_do_without_pandas():
    """Arrow imports pandas at its first array, wherever it is; a command that reads a recording isn't kept by that."""
    run = [sys.executable, "-X", "importtime", "-m", "tinclock", "replay", str(data_file("sample")), "--json"]
    done = subprocess.run(run, capture_output=True, text=True, check=True)
    imported = {line.rsplit("|", 1)[1].strip() for line in done.stderr.splitlines() if line.startswith("import time:")}
    assert {"pyarrow", "numba"} <= imported
    assert {"pandas.core.frame", "scipy.stats", "matplotlib"} & imported == set()


def test_weighing_imports_no_more_than_it_needs(tmp_path):
    """SciPy's statistics and Alembic take longer to import than a match takes to be weighed."""
    script = f"""
import sys
from tinclock.cli.main import main
main(["weigh", {str(data_file("sample"))!r}, "--store", "cases", "--json"], standalone_mode=False)
print("and imported", *({{"scipy.stats", "alembic"}} & set(sys.modules)), file=sys.stderr)
"""
    with closing(CaseStore(tmp_path / "cases" / "cases.db")) as store:  # so that its schema is there already
        run = [sys.executable, "-c", script]
        done = subprocess.run(run, cwd=tmp_path, capture_output=True, text=True, check=True)
        assert done.stderr.splitlines()[-1] == "and imported"
        assert [case.account for case in CaseReview(store).queue()] == ["clover"]
    newest = sorted((ROOT / "src" / "tinclock" / "cases" / "migrations" / "versions").glob("v*.py"))[-1]
    assert newest.name.startswith(f"v{SCHEMA}_")


def test_kernels_are_kept_under_what_a_call_looks_for():
    """A process that never warmed up finds in the cache what another one compiled."""
    tinclock.warm_up()
    kept = []
    for name, module in list(sys.modules.items()):
        for kernel in vars(module).values() if name.startswith("tinclock.core.kernels") else ():
            if hasattr(kernel, "stats") and kernel.stats.cache_path:
                for index in Path(kernel.stats.cache_path).glob(f"*.{kernel.__name__}-*.nbi"):
                    file = io.BytesIO(index.read_bytes())
                    pickle.load(file)  # the version comes first
                    kept += [signature for signature, *_ in pickle.load(file)[1]]
    assert len(kept) > 25
    assert [one for one in kept if not all(isinstance(each, numba.types.Type) for each in one)] == []


def test_without_a_place_for_a_cache_kernels_are_compiled_and_what_to_set_is_said(tmp_path):
    """A read-only installation whose user has no home still rules; one warning says what would make it quick."""
    script = """
import pathlib, shutil, sys, tempfile, warnings
source = pathlib.Path(sys.argv[1]); copy = pathlib.Path(sys.argv[2]) / "tinclock"
shutil.copytree(source, copy, ignore=shutil.ignore_patterns("__pycache__", "data"))
sys.path.insert(0, str(copy.parent))
def refuse(*arguments, **more):
    raise PermissionError(13, "read-only")
tempfile.TemporaryFile = refuse  # what Numba tries a folder with
with warnings.catch_warnings(record=True) as told:
    warnings.simplefilter("always")
    import tinclock
    level = tinclock.Level([[5, -9, -9], [5, 9, -9], [5, 0, 9]], [[0, 1, 2]])
    print(tinclock.__file__.startswith(sys.argv[2]), level.first((0, 0, 0), (1, 0, 0), 9).distance_m)
print([str(one.message) for one in told if "NUMBA_CACHE_DIR" in str(one.message)].__len__())
"""
    source = Path(tinclock.__file__).parent
    run = [sys.executable, "-c", script, str(source), str(tmp_path)]
    done = subprocess.run(run, capture_output=True, text=True, check=False, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout.split() == ["True", "5.0", "1"]


def test_kernels_are_compiled_by_two_processes_and_found_again(tmp_path):
    """A process that compiled before is told from one that never did; the other half works by itself."""
    ask = "from tinclock.core.warming import is_compiled; print(is_compiled())"
    empty = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path)}
    told = [
        subprocess.run(
            [sys.executable, "-c", ask], env=empty, capture_output=True, text=True, check=True
        ).stdout.strip()
        for _ in range(2)
    ]
    assert told == ["False", "True"]
    heard = []
    tinclock.warm_up(lambda name, done, of: heard.append((name, done, of)), ahead=True)
    assert [name for name, _, _ in heard] == [*AHEAD, ""]
    assert heard[-1][1:] == (len(AHEAD), len(AHEAD))
    assert set(AHEAD) < set(STEPS)
    warm_up_beside()  # nothing is left to compile: no other process, and it is quick
