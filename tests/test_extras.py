"""Each extra does what it is for with its own packages alone, as if those of the others weren't installed."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from importlib.metadata import PackageNotFoundError, packages_distributions, requires
from pathlib import Path

import pytest
from packaging.requirements import Requirement

ROOT = Path(__file__).resolve().parent.parent
BLOCK = """
import sys
class Absent:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in ABSENT:
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)
sys.meta_path.insert(0, Absent())
"""
PLAY = "main(['simulate', 'm', '--players', '2', '--seconds', '2', '--json'], standalone_mode=False)\n"
WEIGH = PLAY + "main(['weigh', 'm', '--json'], standalone_mode=False)\n"
WORKS = {
    "figures": "main(['demo', '--seconds', '1', '--quiet'], standalone_mode=False)\n"
    "assert open('demo-output/match.png')",
    "frames": """
import tinclock
from tinclock.sample import data_file
rig = tinclock.Rig("g", tinclock.load_rules(data_file("garden.toml")).rigs["gardener"])
history = tinclock.PoseHistory({"g": rig}, tick_rate_hz=64, history_s=1.0)
history.add(1, "g")
history.record(0, 0.0, [1], tinclock.rooted_bones(rig, [[0, 0, 0, 0, 0, 0, 1.0]]))
assert len(tinclock.hitboxes_frame(history.hitboxes_at(1, tinclock.View(0, 0, 0.0)))) == len(rig.parts)
""",
    "recordings": PLAY + "main(['replay', 'm', '--json'], standalone_mode=False)",
    "logs": PLAY.replace("'--json'", "'--logs', 'logs', '--json'")
    + "main(['import-logs', 'logs/mapping.toml', 'ruled', '--json'], standalone_mode=False)",
    "serve": "from tinclock.serve.app import Service, Settings\nfrom tinclock.serve.hub import Hub\n"
    "import structlog, prometheus_client, websockets\nService(Hub(None, None), Settings('127.0.0.1', 0), print)",
    "cases": WEIGH + "main(['cases', 'list', '--json'], standalone_mode=False)",
    "review": PLAY + """
import asyncio, httpx
from pathlib import Path
from tinclock.review.access import Reviewer, Sessions
from tinclock.review.app import ReviewApp
from tinclock.review.watched import WatchedMatches
sessions = Sessions([Reviewer("a", "decide")])
app = ReviewApp(WatchedMatches([Path("m")]), sessions)
ask = httpx.AsyncClient(transport=httpx.ASGITransport(app.asgi), base_url="http://127.0.0.1")
asyncio.run(ask.get("/enter/" + sessions.invite(sessions.reviewers[0])))
assert asyncio.run(ask.get("/api/match/m/window/0")).status_code == 200
""",
    "meshes": f"sys.path.insert(0, {str(ROOT / 'examples')!r})\nfrom pathlib import Path\n"
    "from bring_a_gltf import write_character\nwrite_character(Path('hero.gltf'))\n"
    "main(['rig', 'hero.gltf', '--out', 'hero.toml', '--json'], standalone_mode=False)",
    "cluster": WEIGH + "import distributed, tinclock.batch.pools",
    "postgresql": "import psycopg\nfrom tinclock.cases.store import CaseStore\n"
    "from tinclock.errors import EvidenceError\ntry:\n    CaseStore('postgresql+psycopg://nobody@127.0.0.1:1/none')\n"
    "except EvidenceError:\n    pass\nelse:\n    raise SystemExit('it was opened')",
    "testing": "import pytest\nfrom tinclock.testing import Stage\nimport tinclock\n"
    "from tinclock.sample import data_file\nStage(tinclock.load_rules(data_file('garden.toml'))).enter('ada')",
}  # fmt: skip
"""What is tried with each extra; `main` is the command."""


def needed_by(extra: str) -> set[str]:
    """The names of all packages that come with an extra, and with those again."""
    found: set[str] = set()
    waiting = [("tinclock", frozenset({extra}))]
    seen = set()
    while waiting:
        name, extras = waiting.pop()
        if (name, extras) in seen:
            continue
        seen.add((name, extras))
        try:
            listed = requires(name) or []
        except PackageNotFoundError:
            continue  # of another system
        found.add(name)
        for text in listed:
            one = Requirement(text)
            if one.marker is None or any(one.marker.evaluate({"extra": each}) for each in ("", *extras)):
                waiting.append((re.sub(r"[-_.]+", "-", one.name).lower(), frozenset(one.extras)))
    return found


def test_every_extra_is_tried():
    """No extra of the package is left out here, but those that only develop it and the one of all."""
    metadata = [Requirement(text) for text in requires("tinclock")]
    extras = {m.group(1) for one in metadata if (m := re.search(r'extra == "(\w+)"', str(one.marker)))}
    assert set(WORKS) == extras - {"all", "test", "lint", "docs", "bench"}


@pytest.mark.parametrize("extra", WORKS)
def test_an_extra_needs_no_other(extra, tmp_path):
    """What an extra is for works where the packages of all others are missing."""
    there = needed_by(extra)
    assert len(there) > 5
    absent = {
        module
        for module, owners in packages_distributions().items()
        if not {re.sub(r"[-_.]+", "-", owner).lower() for owner in owners} & there
    }
    assert {"selenium", "hypothesis"} <= absent
    code = f"ABSENT = {sorted(absent)!r}{BLOCK}\nfrom tinclock.cli.main import main\n{WORKS[extra]}"
    run = subprocess.run(
        [sys.executable, "-W", "error::ImportWarning", "-c", code], cwd=tmp_path, capture_output=True, text=True,
        env={**os.environ, "COLUMNS": "120"}, check=False,
    )  # fmt: skip
    assert run.returncode == 0, run.stderr[-1500:]
