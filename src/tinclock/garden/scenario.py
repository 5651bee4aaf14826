"""Who plays in the garden, over which lines, with which rules and level."""

from __future__ import annotations

import tomllib
from importlib.resources import files
from typing import TYPE_CHECKING, Any, NamedTuple

from tinclock.garden.gardener import Conduct, Seat
from tinclock.garden.network import LineQuality
from tinclock.intake.level_file import load_level
from tinclock.intake.rules_file import load_rules

if TYPE_CHECKING:
    import numpy as np

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules import Rules

NAMES = ("anvil", "beryl", "clover", "dibber", "elder", "fennel", "gorse", "hazel")


class Garden(NamedTuple):
    """The scenario's rules and level; `boxes` and `surfaces` are the level file once more, for the screens."""

    rules: Rules
    level: Level
    boxes: list[dict[str, Any]]
    surfaces: dict[str, Any]


def data_file(name: str) -> Any:
    """A file of the scenario that ships with the package: "garden.toml" (rules) or "garden_level.toml"."""
    return files("tinclock.garden") / "data" / name


def load_garden() -> Garden:
    """Read the scenario's files."""
    tables = tomllib.loads(data_file("garden_level.toml").read_text(encoding="utf-8"))
    return Garden(
        load_rules(data_file("garden.toml")),
        load_level(data_file("garden_level.toml")),
        tables["boxes"],
        tables["surfaces"],
    )


def seats(rng: np.random.Generator) -> list[Seat]:
    """Eight players, two teams: four honest on common lines, one honest on a bad one, three that cheat."""
    conducts: dict[str, Conduct] = {
        "clover": "inflates damage",
        "elder": "names another",
        "gorse": "fires too fast",
    }
    trips = dict(zip(NAMES, rng.permutation([0.020, 0.034, 0.048, 0.065, 0.085, 0.110, 0.140]).tolist(), strict=False))
    out = []
    for place, name in enumerate(NAMES):
        if name == "hazel":
            line = LineQuality(0.095, 0.085, 0.022, 0.07)
        else:
            share = float(rng.uniform(0.4, 0.6))
            trip, jitter = trips[name], float(rng.uniform(0.0008, 0.005))
            line = LineQuality(trip * share, trip * (1 - share), jitter, float(rng.uniform(0.0, 0.02)))
        delay = 0.12 if name == "hazel" else float(rng.choice([0.05, 0.066, 0.08, 0.1]))
        team = ("copper", "pewter")[place % 2]
        out.append(Seat(name, team, conducts.get(name, "honest"), line, delay, float(rng.uniform(0.006, 0.014))))
    return out
