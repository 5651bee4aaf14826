"""Loading a rules file: the file's own mistakes, then the ones that show only when tables are held together."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.checks.consequences import consequences_of
from tinclock.core.contradictions import contradictions
from tinclock.core.errors import RulesError
from tinclock.core.geometry.rig import Rig
from tinclock.core.rules import Rules
from tinclock.core.trust import with_profile
from tinclock.intake.toml_tables import convert_table, read_toml

if TYPE_CHECKING:
    from pathlib import Path


def load_rules(path: str | Path) -> Rules:
    """Read a rules file (TOML). Raises one `RulesError` that lists every mistake with its key path."""
    return parse_rules(read_toml(path), str(path))


def parse_rules(tables: object, source: str = "rules") -> Rules:
    """Rules from tables that are already read; `source` names them in messages."""
    rules = convert_table(Rules, with_profile(tables) if isinstance(tables, dict) else tables, source)
    problems: list[str] = []
    for name, rig in rules.rigs.items():
        try:
            Rig(name, rig)
        except RulesError as error:
            problems += [f"rigs.{name}.{problem}" for problem in error.problems]
    problems += contradictions(rules)
    try:
        consequences_of(rules)
    except RulesError as error:
        problems += error.problems
    if problems:
        raise RulesError(source, problems)
    return rules
