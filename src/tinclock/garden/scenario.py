"""Players of the garden, their connections, rules and level."""

from __future__ import annotations

import tomllib
from importlib.resources import files
from typing import TYPE_CHECKING, Any, NamedTuple

from tinclock.core.errors import BadNumberError, UnknownNameError
from tinclock.core.plain import Fields
from tinclock.garden.cheats import KINDS
from tinclock.garden.network import line_of
from tinclock.garden.seat import Seat
from tinclock.intake.level_file import load_level
from tinclock.intake.rules_file import parse_rules

if TYPE_CHECKING:
    from collections.abc import Mapping

    import numpy as np

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules

NAMES = ("anvil", "beryl", "clover", "dibber", "elder", "fennel", "gorse", "hazel")
TEAMS = ("copper", "pewter")
MAX_PLAYERS = 100
SEATED_ON = ("wired", "home_wireless", "wired", "mobile", "home_wireless", "distant", "wired", "awful")
"""The quality of each player's line, in turn."""
FAVOURITES = ("grit_rifle", "grit_rifle", "grit_rifle", "gravel_scatter", "hose", "pebble_sling", "clod_mortar")
USUAL_SUSPECTS = {"clover": {"inflate_damage": 1.0}, "elder": {"forge_actor": 0.6}, "gorse": {"fast_trigger": 0.8}}
WEAPONS = ("grit_rifle", "gravel_scatter", "hose", "pebble_sling", "clod_mortar", "trowel")
"""Equipment of a gardener."""
SCENARIOS = ("skirmish", "barrow")
"""Scenarios of the demo game."""


class Garden(NamedTuple):
    """The scenario's rules and level; `boxes` and `surfaces` are the level file once more, for the screens."""

    rules: Rules
    level: Level
    boxes: list[Fields]
    surfaces: Fields


def data_file(name: str) -> Any:
    """A file of the scenario that ships with the package: "garden.toml" (rules) or "garden_level.toml"."""
    return files("tinclock.garden") / "data" / name


def load_garden(scenario: str = "skirmish") -> Garden:
    """Read the files of a scenario, "skirmish" or "barrow". Raises `UnknownNameError` for another."""
    if scenario not in SCENARIOS:
        raise UnknownNameError("scenario", scenario, SCENARIOS)
    garden = tomllib.loads(data_file("garden.toml").read_text(encoding="utf-8"))
    if scenario != "skirmish":
        garden = _with(garden, tomllib.loads(data_file(f"{scenario}.toml").read_text(encoding="utf-8")))
    tables = tomllib.loads(data_file("garden_level.toml").read_text(encoding="utf-8"))
    return Garden(
        parse_rules(garden, str(data_file("garden.toml"))),
        load_level(data_file("garden_level.toml")),
        tables["boxes"],
        tables["surfaces"],
    )


def _with(tables: Fields, changes: Fields) -> Fields:
    """Return tables with other keys."""
    out = dict(tables)
    for key, value in changes.items():
        out[key] = _with(out[key], value) if isinstance(value, dict) and isinstance(out.get(key), dict) else value
    return out


def seats(
    players: int, seconds: float, rng: np.random.Generator, cheats: Mapping[str, Mapping[str, float]] | None = None
) -> list[Seat]:
    """Return players on two teams, over lines of every quality.

    cheats : strength of each cheat, by account; by default three of the first seven cheat blatantly,
        each in another way. Raises `BadNumberError` and `UnknownNameError` for what there isn't.
    """
    if not 2 <= players <= MAX_PLAYERS:
        raise BadNumberError("players", f"from 2 to {MAX_PLAYERS}", players)
    names = [name_of(place) for place in range(players)]
    chosen = (
        {name: strengths for name, strengths in USUAL_SUSPECTS.items() if name in names} if cheats is None else cheats
    )
    for account, strengths in chosen.items():
        if account not in names:
            raise UnknownNameError("account", account, names)
        for kind, strength in strengths.items():
            if kind not in KINDS:
                raise UnknownNameError("cheat", kind, KINDS)
            if not 0.0 < strength <= 1.0:
                raise BadNumberError(f"the strength of {account}'s {kind}", "above 0 and at most 1", strength)
    return [_seat(place, name, seconds, rng, chosen.get(name, {})) for place, name in enumerate(names)]


def name_of(place: int) -> str:
    """The account of a player by its place: anvil, beryl, ... and after hazel anvil2, and so on."""
    return NAMES[place % len(NAMES)] + (str(place // len(NAMES) + 1) if place >= len(NAMES) else "")


def _seat(place: int, name: str, seconds: float, rng: np.random.Generator, cheats: Mapping[str, float]) -> Seat:
    quality = SEATED_ON[place % len(SEATED_ON)]
    line = line_of(quality, seconds, rng)
    delay = 0.12 if quality == "awful" else float(rng.choice([0.05, 0.066, 0.08, 0.1]))
    return Seat(
        name, TEAMS[place % 2], cheats, line, delay, float(rng.uniform(0.0, 1.0)), str(rng.choice(FAVOURITES)),
        float(rng.uniform(-300.0, 300.0)), float(rng.uniform(-3e-5, 3e-5)),
    )  # fmt: skip
