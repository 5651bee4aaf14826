"""What a table of weights stands on: the rules that fair play was calibrated under, and what others change about it."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any

import msgspec

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.rules.ruleset import Rules

_OF_A_WEAPON = (
    "kind", "interval_s", "range_m", "pellets", "automatic", "magazine", "reload_s", "draw_s", "charge_s", "spread",
    "recoil", "flight", "penetration", "zones",
)  # fmt: skip
"""What decides how often fair players hit, shoot and are early. How much it hurts doesn't."""


def footing_of(rules: Rules) -> dict[str, str]:
    """What decides how often findings come to fair players and how well the best of them do, name by name.

    Numbers that a person can read, and digests of whole tables.
    """
    weapons = {
        name: {field: getattr(weapon, field) for field in _OF_A_WEAPON} for name, weapon in rules.weapons.items()
    }
    return {
        "tick rate": f"{rules.match.tick_rate_hz:g} Hz",
        "snapshots": f"every {rules.match.snapshot_every} ticks",
        "weapons": _digest(weapons),
        "views": _digest(rules.view),
        "muzzle and cadence": _digest([rules.muzzle, rules.cadence]),
        "movement": _digest(rules.movement),
    }


def differences(footing: Mapping[str, str], rules: Rules) -> tuple[str, ...]:
    """What of a match's rules isn't as it was where a table was made; nothing for a table that doesn't say."""
    here = footing_of(rules)
    return tuple(name for name, value in footing.items() if here.get(name) != value)


def _digest(value: Any) -> str:
    return hashlib.sha256(msgspec.json.encode(value, order="sorted")).hexdigest()[:12]
