"""Variants of rules: one setting changed by its key path (`view.max_rewind_s`), or nobody ever dies."""

from __future__ import annotations

from difflib import get_close_matches
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.core.errors import RulesError
from tinclock.core.plain import Fields
from tinclock.intake.rules_file import parse_rules

if TYPE_CHECKING:
    from tinclock.core.rules.ruleset import Rules

BOUNDLESS = 1e9


def with_setting(rules: Rules, path: str, value: object) -> Rules:
    """The rules with another value under a key path. Raises `RulesError` for a path or value that there can't be."""
    tables: Fields = msgspec.to_builtins(rules)
    keys, table = path.split("."), tables
    for depth, key in enumerate(keys):
        if not isinstance(table, dict) or (key not in table and keys[0] != "actions"):
            known = list(table) if isinstance(table, dict) else []
            near = get_close_matches(key, known, 1)
            there = ".".join(keys[:depth]) or "the rules"
            hint = f"did you mean {near[0]!r}?" if near else f"there are: {', '.join(known[:12]) or 'no keys'}"
            raise RulesError(path, [f"{there}: no key {key!r}; {hint}"])
        if depth + 1 < len(keys):
            table = table[key]
    table[keys[-1]] = value
    return parse_rules(_said(tables), path)


def _said(value: object) -> Any:
    """Tables without the keys that say nothing: a rules file has no word for "none"."""
    if isinstance(value, dict):
        return {key: _said(one) for key, one in value.items() if one is not None}
    return [_said(one) for one in value] if isinstance(value, (list, tuple)) else value


def value_of(text: str) -> object:
    """A value as it is written on a command line: JSON, or else just text."""
    try:
        found: object = msgspec.json.decode(text)
    except msgspec.DecodeError:
        return text
    return found


def setting_of(rules: Rules, path: str) -> object:
    """The value under a key path. Raises `RulesError` for one that isn't there."""
    found: Any = msgspec.to_builtins(rules)
    for depth, key in enumerate(path.split(".")):
        if not isinstance(found, dict) or key not in found:
            raise RulesError(path, [f"{'.'.join(path.split('.')[:depth]) or 'the rules'}: no key {key!r}"])
        found = found[key]
    return found


def without_deaths(rules: Rules) -> Rules:
    """The same rules with so much health that nobody dies.

    Other settings change who dies when, and with that whose claims count at all; among the no_deaths each claim is
    judged by itself, and settings can be compared.
    """
    rigs = {
        name: rig if rig.health is None else msgspec.structs.replace(rig, health=BOUNDLESS)
        for name, rig in rules.rigs.items()
    }
    match = msgspec.structs.replace(rules.match, health=BOUNDLESS)
    return msgspec.structs.replace(rules, match=match, rigs=rigs)
