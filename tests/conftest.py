"""Shared scenery: the garden's files, and a small range where one gardener shoots at another."""

from __future__ import annotations

import json
import math
import os
import shutil
from collections import Counter
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import settings

import tinclock
from tinclock.core.rules.rigs import RigRules
from tinclock.core.rules.weapons import ItemRules, WeaponRules
from tinclock.garden.scenario import data_file
from tinclock.recordings import Recorder

settings.register_profile("steady", deadline=None, derandomize=True)
settings.load_profile("steady")


@pytest.fixture(scope="session")
def rules() -> tinclock.Rules:
    return tinclock.load_rules(data_file("garden.toml"))


@pytest.fixture(scope="session")
def level() -> tinclock.Level:
    return tinclock.load_level(data_file("garden_level.toml"))


NEEDED = {
    "node": ("node", "Node.js (apt-get install nodejs)"),
    "npm": ("npm", "Node.js and npm (apt-get install nodejs npm)"),
    "mono": ("mcs", "Mono (apt-get install mono-mcs)"),
    "nginx": ("nginx", "nginx (apt-get install nginx-light)"),
    "chromium": ("chromium", "Chromium and its driver (apt-get install chromium chromium-driver)"),
    "postgresql": ("", "a PostgreSQL server, named in TINCLOCK_TEST_POSTGRESQL (.ci/run starts one)"),
}
"""What some tests need: the program that is looked for, and what to install."""


def needs(what: str) -> pytest.MarkDecorator:
    """Marks a test that runs only where something is installed; elsewhere the end of the run says what to install."""
    return pytest.mark.needs(what)


def is_there(what: str) -> bool:
    """Whether what a test needs is here."""
    program, _ = NEEDED[what]
    if what == "chromium" and shutil.which("chromedriver") is None:
        return False
    return bool(os.environ.get("TINCLOCK_TEST_POSTGRESQL")) if not program else shutil.which(program) is not None


def pytest_configure(config: pytest.Config) -> None:
    config.addinivalue_line("markers", "needs(what): runs only where that is installed")


def pytest_runtest_setup(item: pytest.Item) -> None:
    for mark in item.iter_markers("needs"):
        if not is_there(mark.args[0]) and os.environ.get("TINCLOCK_TEST_ALL"):  # CI installs all of it
            pytest.fail(f"needs {NEEDED[mark.args[0]][1]}", pytrace=False)
        if not is_there(mark.args[0]):
            pytest.skip(f"needs {NEEDED[mark.args[0]][1]}")


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Say what did not run, so that nobody takes it for passed."""
    reasons = Counter(str(report.longrepr[2]) for report in terminalreporter.stats.get("skipped", []))
    for reason, count in sorted(reasons.items()):
        terminalreporter.write_line(f"NOT RUN: {count} tests: {reason.removeprefix('Skipped: ')}")


def changed(rules: tinclock.Rules, table: str, name: str, **fields: Any) -> tinclock.Rules:
    """The rules with fields of one weapon, item or rig changed; a name that is new needs all its fields."""
    tables = dict(getattr(rules, table))
    kind = {"weapons": WeaponRules, "items": ItemRules, "rigs": RigRules}[table]
    tables[name] = msgspec.structs.replace(tables[name], **fields) if name in tables else kind(**fields)
    return msgspec.structs.replace(rules, **{table: tables})


def codes(ruling: tinclock.Ruling) -> list[str]:
    return [finding.code for finding in ruling.findings]


def step(ruling: tinclock.Ruling, name: str) -> Any:
    """What a step of the trace measured."""
    return next(step.observed for step in ruling.checks if step.name == name)


class Range:
    """A shooter at (-9, 3) and a runner that crosses at 4 m/s, forty ticks recorded, every second one sent."""

    def __init__(
        self, rules: tinclock.Rules, level: tinclock.Level | None, team: str = "pewter",
        record_to: Path | None = None, **settings: Any,
    ) -> None:  # fmt: skip
        for table, values in settings.items():
            rules = msgspec.structs.replace(
                rules, **{table: values if isinstance(values, dict) and table == "actions"
                          else msgspec.structs.replace(getattr(rules, table), **values)}
            )  # fmt: skip
        self.referee = tinclock.Referee(rules, level=level, seed=3)
        self.server: Any = self.referee if record_to is None else Recorder(record_to, self.referee)
        self.shooter = self.server.admit(connection="s", account="shooter", team="copper", rig="gardener")
        self.runner = self.server.admit(connection="r", account="runner", team=team, rig="gardener")
        self.rest = self.referee.history.rigs["gardener"].rest
        self.tick = -1
        self.sequence = 0
        self.run(40)

    @property
    def now(self) -> float:
        return self.tick / 64

    def pose(self, x: float, y: float) -> np.ndarray:
        return np.hstack([self.rest + [x, y, 0.0], np.tile([0.0, 0.0, 0.0, 1.0], (len(self.rest), 1))])

    def run(self, ticks: int) -> None:
        for _ in range(ticks):
            self.tick += 1
            poses = np.stack([self.pose(-9, 3), self.pose(0, 2 + self.tick / 16)])
            self.server.record(self.tick, self.now, [self.shooter, self.runner], poses)
            if self.tick % 2 == 0:
                self.server.snapshot_sent(self.tick)

    def aimed(self, view: tinclock.View | None = None, bone: int = 2, **fields: Any) -> tinclock.claims.ShotClaim:
        """A claim aimed at the runner's bone (2: chest, 4: head) as it stood at the view, 150 ms ago by default."""
        view = view or tinclock.View(self.tick - 11, self.tick - 9, 0.5)
        eye = self.referee.history.eye_now(self.shooter)
        bones = self.referee.history.bones_at(self.runner, view)
        to = bones[bone, :3] - eye
        along = tuple(float(v) for v in to / math.dist(bones[bone, :3], eye))
        self.sequence += 1
        values = {"sequence": self.sequence, "actor": self.shooter, "weapon": "grit_rifle", "origin": eye,
                  "direction": along, "view": view, **fields}  # fmt: skip
        return tinclock.claims.ShotClaim(**values)

    def say(self, kind: type, *, by: str = "s", late: float = 0.0, **fields: Any) -> tinclock.Ruling:
        """Send a claim of another kind, numbered, for the shooter unless it says otherwise."""
        self.sequence += 1
        claim = kind(**{"sequence": self.sequence, "actor": self.shooter, **fields})
        return self.referee.rule(by, claim, received_at=self.now + late)

    def kinds(self) -> list[str]:
        """What happened since the last look."""
        return [event.kind for event in self.referee.events()]

    def shoot(self, *, late: float = 0.0, **fields: Any) -> tinclock.Ruling:
        return self.referee.rule("s", self.aimed(**fields), received_at=self.now + late)


@pytest.fixture
def shooting(rules: tinclock.Rules, level: tinclock.Level) -> Range:
    return Range(rules, level)


def open_browser(folder: Any, width: int = 1280) -> Any:
    """Chromium without a screen, as on a machine without a graphics card. folder : for its profile"""
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for flag in ("--headless=new", "--no-sandbox", "--disable-gpu", "--enable-unsafe-swiftshader", "--no-first-run",
                 "--disable-background-networking", "--disable-component-update", "--disable-sync",
                 f"--window-size={width},800", f"--user-data-dir={folder / 'profile'}"):  # fmt: skip
        options.add_argument(flag)
    options.add_argument("about:blank")  # not the new-tab page, which makes requests of its own
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    browser = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    browser.set_script_timeout(120)
    return browser


def until(browser: Any, script: str, seconds: float = 120.0) -> Any:
    """Wait for an expression of JavaScript to be true; returns it."""
    from selenium.webdriver.support.wait import WebDriverWait

    return WebDriverWait(browser, seconds).until(lambda b: b.execute_script(f"return {script}"), script)


def complaints(browser: Any) -> list[str]:
    """What the browser's console says is wrong."""
    return [row["message"] for row in browser.get_log("browser") if row["level"] == "SEVERE"]


INSIDE = ("about:", "data:", "blob:")
"""Addresses that never leave a browser."""
BROWSERS_OWN = ("chrome", "devtools:")
"""Beginnings of the addresses of the browser's own pages: its new-tab page, its settings, its extensions."""


def asked_of(browser: Any) -> list[str]:
    """Every address that a page asked for since the last call. Requests of the browser's own pages are left out."""
    logged = [json.loads(row["message"])["message"] for row in browser.get_log("performance")]
    return requested([one["params"] for one in logged if one["method"] == "Network.requestWillBeSent"])


def requested(requests: list[dict[str, Any]]) -> list[str]:
    """The addresses of logged requests that a page made: `documentURL` is the page, or where a link leads."""
    return [one["request"]["url"] for one in requests if not one.get("documentURL", "").startswith(BROWSERS_OWN)]
