"""Loading a rules file: the file's own mistakes, then those that show only when tables are held together."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from tinclock.core.errors import RulesError
from tinclock.core.geometry.rig import Rig
from tinclock.core.plain import Fields
from tinclock.core.rules.actions import actions_of
from tinclock.core.rules.contradictions import contradictions
from tinclock.core.rules.rigs import RigRules
from tinclock.core.rules.ruleset import Rules
from tinclock.core.rules.strictness import with_profile
from tinclock.core.rules.weapons import ItemRules, WeaponRules
from tinclock.intake.old_names import SCHEMA as OLD_SCHEMA
from tinclock.intake.old_names import renamed_rules
from tinclock.intake.toml_tables import convert_table, read_toml

if TYPE_CHECKING:
    from pathlib import Path


def load_rules(path: str | Path) -> Rules:
    """Read a rules file (TOML). Raises one `RulesError` that lists every mistake with its key path."""
    return parse_rules(read_toml(path), str(path))


def parse_rules(tables: object, source: str = "rules") -> Rules:
    """Rules from tables that are already read; `source` names them in messages."""
    if isinstance(tables, dict) and tables.get("schema") == OLD_SCHEMA:
        raise RulesError(source, _renames(tables))
    whole = with_profile(tables) if isinstance(tables, dict) else tables
    try:
        rules = convert_table(Rules, whole, source)
    except RulesError as error:
        sound = _sound_part(whole) if isinstance(whole, dict) else None
        also = [] if sound is None else [found for found in _between_tables(sound) if "at least one" not in found]
        raise RulesError(source, [*error.problems, *also]) from None
    problems = _between_tables(rules)
    if problems:
        raise RulesError(source, problems)
    return rules


def _renames(tables: Fields) -> list[str]:
    """Return the problems of a rules file of 0.2: each key that has another name now."""
    advice = (
        f"schema: {OLD_SCHEMA} is of version 0.2, expected {OLD_SCHEMA + 1}; `tinclock check --fix` renames its keys"
    )
    return [advice, *map(str, renamed_rules(tables)[1])]


def _between_tables(rules: Rules) -> list[str]:
    """Find contradictions between values that are valid by themselves."""
    problems: list[str] = []
    for name, rig in rules.rigs.items():
        try:
            Rig(name, rig)
        except RulesError as error:
            problems += [f"rigs.{name}.{problem}" for problem in error.problems]
    problems += contradictions(rules)
    try:
        actions_of(rules)
    except RulesError as error:
        problems += error.problems
    return problems


def _sound_part(tables: Fields) -> Rules | None:
    """The rules without the tables that have mistakes of their own, so that the others can be held together too."""
    kept: Fields = {"schema": 2, "rigs": {}, "weapons": {}}
    for key, kind in (("rigs", RigRules), ("weapons", WeaponRules), ("items", ItemRules)):
        named = tables.get(key)
        if isinstance(named, dict):
            kept[key] = {name: table for name, table in named.items() if _fits(table, kind)}
    for key in ("match", "view", "muzzle", "fire_rate", "damage", "score", "movement", "status", "actions"):
        if key in tables and _fits({**kept, key: tables[key]}, Rules):
            kept[key] = tables[key]
    if ("match" in tables) != ("match" in kept) or ("view" in tables) != ("view" in kept):
        kept.pop("match", None), kept.pop("view", None)  # held against each other: both or neither
    return msgspec.convert(kept, Rules) if _fits(kept, Rules) else None


def _fits(table: object, kind: type) -> bool:
    try:
        msgspec.convert(table, kind)
    except msgspec.ValidationError:
        return False
    return True
