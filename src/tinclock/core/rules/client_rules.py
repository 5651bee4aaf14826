"""Rules for a client build: all that an honest client needs to draw and to predict, and nothing else.

An allow-list: a key of the rules that isn't listed here stays on the server.
"""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Final

import msgspec
from msgspec import Struct

from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.rules.ruleset import Rules

FORMAT = 2
PUBLIC: Final[dict[str, tuple[str, ...]]] = {
    "match": ("tick_rate_hz", "snapshot_every", "health"),
    "movement": ("speed_m_s", "up_m_s", "down_m_s", "acceleration_m_s2", "radius_m", "centre_up_m", "moved_by"),
    "rig": ("bones", "parts", "eye", "blocks_only", "resistance_per_m", "health", "movement", "stances"),
    "weapon": (
        "kind", "interval_s", "range_m", "penetration", "pellets", "automatic", "burst", "magazine", "reserve",
        "reload_s", "reload_interruptible", "reload_when_empty", "draw_s", "charge_s", "min_charge_fraction", "spread",
        "recoil", "projectile", "splash", "radius_m", "cone_deg", "costs", "requires", "blocked_by",
    ),
    "burst": ("shots", "interval_s"),
    "spread": ("base_deg", "moving_deg", "moving_at_m_s", "per_shot_deg", "recovery_deg_per_s", "max_deg", "flat"),
    "recoil": ("pattern_deg", "reset_s"),
    "projectile": (
        "speed_m_s", "radius_m", "lifetime_s", "gravity_m_s2", "drag_per_m", "wind_m_s", "thrust_m_s2", "thrust_s",
        "turn_deg_per_s", "on_level", "on_body", "passes", "bounce", "fuse_s", "proximity_fuse_m", "owner_arm_s",
        "owner_arms_at_bounce", "compensation", "blend_s", "hit_source",
    ),
    "bounce": ("restitution", "friction", "rest_below_m_s", "max_count"),
    "splash": ("radius_m",),
    "item": ("effect", "amount", "duration_s", "count", "cooldown_s", "range_m", "costs", "requires", "blocked_by"),
    "counter": ("start", "min_value", "max_value"),
    "phase": ("weapons", "moves", "damage", "scores"),
}  # fmt: skip
"""Keys of each table that clients get; tables inside a table by the name of their key."""


class ClientRules(Struct, frozen=True):
    """For a client build. digests : SHA-256 of each part, by its name ("match", "weapons.hose", ...), for `Join`."""

    format: int
    match: Fields
    movement: Fields | None
    rigs: dict[str, Fields]
    weapons: dict[str, Fields]
    items: dict[str, Fields]
    counters: dict[str, Fields]
    phases: dict[str, Fields]
    digests: dict[str, str]


def client_rules(rules: Rules) -> ClientRules:
    """Return the part of some rules for clients. Weapons and items with `for_clients = false` are left out."""
    match = _public(rules.match, "match")
    movement = None if rules.movement is None else _public(rules.movement, "movement")
    rigs = {name: _public(rig, "rig") for name, rig in rules.rigs.items()}
    weapons = {name: _public(one, "weapon") for name, one in rules.weapons.items() if one.for_clients}
    items = {name: _public(one, "item") for name, one in rules.items.items() if one.for_clients}
    counters = {name: _public(one, "counter") for name, one in rules.counters.items()}
    phases = {name: _public(one, "phase") for name, one in rules.phases.items()}
    parts: Fields = {"match": match, **({} if movement is None else {"movement": movement})}
    tables = {"rigs": rigs, "weapons": weapons, "items": items, "counters": counters, "phases": phases}
    for table, entries in tables.items():
        parts |= {f"{table}.{name}": entry for name, entry in entries.items()}
    return ClientRules(FORMAT, match, movement, **tables, digests={name: _digest(part) for name, part in parts.items()})


def _public(table: Struct, name: str) -> Fields:
    out = {}
    for key in PUBLIC[name]:
        value = getattr(table, key)
        out[key] = _public(value, key) if isinstance(value, Struct) and key in PUBLIC else msgspec.to_builtins(value)
    return out


def _digest(part: object) -> str:
    """SHA-256 over the part as JSON with sorted keys: the same whatever the order in the file."""
    return hashlib.sha256(msgspec.json.encode(part, order="deterministic")).hexdigest()


def differences(own: Mapping[str, str], stated: Mapping[str, str]) -> list[str]:
    """The parts whose digests a client states otherwise, lacks, or has besides: for the server's log only."""
    return sorted(name for name in {*own, *stated} if own.get(name) != stated.get(name))
