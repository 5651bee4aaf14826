"""What a table of weights stands on: the rules that fair play was calibrated under, and what others change about it."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any, Final

import msgspec

if TYPE_CHECKING:
    from collections.abc import Collection, Mapping

    from tinclock.core.rules.ruleset import Rules

_SHOOTING = ("kind", "interval_s", "range_m", "pellets", "automatic", "flight", "penetration", "zones")
"""What decides how often fair players hit, and when they shoot. How much it hurts doesn't."""
_HANDLING = ("magazine", "reserve", "reload_s", "draw_s", "charge_s")
_SPREAD = ("spread", "recoil")


def footing_of(rules: Rules) -> dict[str, str]:
    """What decides how often findings come to fair players and how well the best of them do, name by name.

    Numbers that a person can read, and digests of whole tables.
    """

    def of_weapons(fields: tuple[str, ...]) -> str:
        return _digest({name: {field: getattr(one, field) for field in fields} for name, one in rules.weapons.items()})

    return {
        "tick rate": f"{rules.match.tick_rate_hz:g} Hz",
        "snapshots": f"every {rules.match.snapshot_every} ticks",
        "weapons": of_weapons(_SHOOTING),
        "magazines and reloading": of_weapons(_HANDLING),
        "spread": of_weapons(_SPREAD),
        "views": _digest(rules.view),
        "muzzle and cadence": _digest([rules.muzzle, rules.cadence]),
        "movement": _digest(rules.movement),
    }


def differences(footing: Mapping[str, str], rules: Rules) -> tuple[str, ...]:
    """What of a match's rules isn't as it was where a table was made; nothing for a table that doesn't say."""
    here = footing_of(rules)
    return tuple(name for name, value in footing.items() if here.get(name) != value)


MUTES: Final = {
    "spread": frozenset({"hit_share", "head_share", "damage_in_sight"}),
    "magazines and reloading": frozenset({"no_ammunition", "reloading", "not_drawn", "damage_in_sight"}),
}
"""What hangs on some differences alone. All others leave no calibrated number standing."""


def muted_by(unlike: tuple[str, ...], calibrated: Collection[str]) -> frozenset[str]:
    """Which calibrated kinds say nothing where a match's rules differ so."""
    everything = frozenset(calibrated)
    return frozenset().union(*(MUTES.get(name, everything) for name in unlike))


def _digest(value: Any) -> str:
    plain = _floats(msgspec.to_builtins(value))
    return hashlib.sha256(msgspec.json.encode(plain, order="sorted")).hexdigest()[:12]


def _floats(value: Any) -> Any:
    """The same with every number as a float: 1 and 1.0 are one setting, however a file writes it."""
    if isinstance(value, dict):
        return {key: _floats(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_floats(one) for one in value]
    return float(value) if isinstance(value, int) and not isinstance(value, bool) else value
