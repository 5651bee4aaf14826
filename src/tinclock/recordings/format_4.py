"""Recordings of version 0.2 (format 4), read under today's names: tables, headers, flushes and claims."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import msgspec
from msgspec.structs import replace

from tinclock.core.combat.events import DeathEvent
from tinclock.core.plain import Fields
from tinclock.intake.old_names import (
    ACTIONS,
    CAUSES,
    COMMANDS,
    FINDINGS,
    KINDS,
    OUTCOMES,
    SCHEMA,
    renamed_rules,
)

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    import pyarrow

    from tinclock.core.combat.events import Event

FORMAT: Final = 4
MEASURES: Final = {
    "harm": "damage applied", "cadence": "fire rate", "believed health": "reported health",
    "believed armour": "reported armour", "believed ammunition": "reported ammunition",
    "believed place off by": "reported position off by", "lag": "display delay", "told": "display delay unreported",
    "faces of the clock": "clock mismatch", "blow stopped by": "melee attack stopped by",
    "flight was over at": "projectile ended at", "flight ends": "projectile ends",
}  # fmt: skip
"""Names of check results."""
_VALUES: Final[dict[str, Mapping[str, str]]] = {
    "kind": KINDS, "outcome": OUTCOMES, "verdict": ACTIONS, "code": FINDINGS, "cause": CAUSES,
}  # fmt: skip
_TEXTS: Final = {"launch": "catch_up", "fading": "blend", "reach": "melee"}
_OF_CHECKS: Final[dict[str, Mapping[str, str]]] = {"name": MEASURES, "observed": _TEXTS, "limit": _TEXTS}
_KEYS: Final[dict[str, str]] = {
    "steps": "checks", "until_m_s": "rest_below_m_s", "most_bounces": "max_bounces", "first_step": "first_call",
    "next_step": "next_call", "flown_s": "flight_time_s",
}  # fmt: skip
_CALL: Final = {"step": "call_number"}


def header_now(header: Fields) -> Fields:
    """Return a header under today's names."""
    return {**header, "rules": _rules(header["rules"])}


def flush_now(line: bytes) -> bytes:
    """Return a line of the list of flushes under today's names."""
    return msgspec.json.encode(_renamed(msgspec.json.decode(line)))


def table_now(name: str, table: pyarrow.Table) -> pyarrow.Table:
    """Return a table with today's names of columns and values."""
    table = table.rename_columns([_CALL.get(column, column) for column in table.column_names])
    changed = {
        column: [change(value) for value in table[column].to_pylist()]
        for column, change in _COLUMNS.get(name, {}).items() if column in table.column_names
    }  # fmt: skip
    if name in ("calls", "pings") and {"call", "arguments"} <= set(table.column_names):
        both = [_command(*one) for one in zip(*(table[one].to_pylist() for one in ("call", "arguments")), strict=True)]
        changed |= {"call": [call for call, _ in both], "arguments": [arguments for _, arguments in both]}
    for column, values in changed.items():
        place = table.schema.get_field_index(column)
        table = table.set_column(place, column, _array(values, table.schema.field(column).type))
    return table


def _array(values: list[Any], kind: pyarrow.DataType) -> pyarrow.Array:
    import pyarrow as pa

    return pa.array(values, kind)


def _rules(rules: Fields) -> Fields:
    """Return rules under today's names, under which accounts come back and carry weapons as they did then."""
    if rules.get("schema") != SCHEMA:
        return rules
    rules = renamed_rules(rules)[0]
    tables = {table: rules.get(table) or {} for table in ("weapons", "items")}
    everything = {"everything": {table: [*entries] for table, entries in tables.items()}}
    rigs = {name: {**rig, "loadout": "everything"} for name, rig in rules["rigs"].items()}
    return {**rules, "match": {**(rules.get("match") or {}), "rejoin": "new"}, "loadouts": everything, "rigs": rigs}


def event_then(event: Event) -> Event:
    """Return an event without what version 0.2 did not tell of it."""
    return replace(event, position=None, direction=None, force_n_s=None) if isinstance(event, DeathEvent) else event


def _renamed(value: Any, where: str = "") -> Any:
    """Return plain data with today's keys and values. where : the key that holds it"""
    if isinstance(value, list):
        return [_renamed(one, where) for one in value]
    if not isinstance(value, dict):
        return value
    out: Fields = {}
    for key, held in value.items():
        new = _KEYS.get(str(key), str(key))
        words = _OF_CHECKS.get(str(key)) if where == "checks" else None
        words = words or _VALUES.get(str(key))
        out[new] = words.get(held, held) if words and isinstance(held, str) else _renamed(held, new)
    return out


def _json(text: str) -> str:
    return msgspec.json.encode(_renamed(msgspec.json.decode(text))).decode()


def _command(call: str, text: str) -> tuple[str, str]:
    arguments: Fields = msgspec.json.decode(text)
    if call == "harm":
        arguments["points"] = arguments.pop("damage")
    if "drawing" in arguments:
        arguments["interpolation"] = arguments.pop("drawing")
    if call == "change_rules":
        arguments["rules"] = _rules(arguments["rules"])
    if call == "act":
        arguments["claim"] = _renamed(arguments["claim"])
    return COMMANDS.get(call, call), msgspec.json.encode(arguments).decode()


def claim_now(received: bytes) -> bytes:
    """Return a client's bytes with today's names, where they are a claim whose names changed; else as they came."""
    codec: Any = msgspec.json if received[:1] == b"{" else msgspec.msgpack
    try:
        claim = codec.decode(received)
    except (msgspec.DecodeError, ValueError, RecursionError):
        return received
    kind = claim.get("kind") if isinstance(claim, dict) else None
    if not isinstance(kind, str) or not (kind in KINDS or (kind == "impact" and "flown_s" in claim)):
        return received
    changed = {_KEYS.get(key, key) if isinstance(key, str) else key: held for key, held in claim.items()}
    encoded: bytes = codec.encode({**changed, "kind": KINDS.get(kind, kind)})
    return encoded


def _findings(text: str) -> str:
    return ",".join(FINDINGS.get(code, code) for code in text.split(","))


_COLUMNS: Final[dict[str, dict[str, Callable[[Any], Any]]]] = {
    "ticks": {"what": lambda what: COMMANDS.get(what, what)},
    "claims": {"received": claim_now},
    "rulings": {
        "kind": lambda kind: KINDS.get(kind, kind), "outcome": lambda outcome: OUTCOMES.get(outcome, outcome),
        "findings": _findings, "ruling": _json,
    },
    "events": {"kind": lambda kind: KINDS.get(kind, kind), "event": _json},
}  # fmt: skip
