"""Basis of a calibration: the rules of its calibration, and the effects of other rules on it."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any, Final

import msgspec

if TYPE_CHECKING:
    from collections.abc import Collection, Mapping

    from tinclock.core.rules.ruleset import Rules

_SHOOTING = ("kind", "interval_s", "range_m", "pellets", "automatic", "projectile", "penetration", "zones")
"""Fields that decide how often honest players hit, and when they shoot. Damage doesn't."""
_HANDLING = ("magazine", "reserve", "reload_s", "draw_s", "charge_s")
_SPREAD = ("spread", "recoil")
_ALLOWANCES: Final = {
    "view": (
        "early_tolerance_s", "late_tolerance_s", "max_view_backstep_s", "jitter_factor", "display_delay_tolerance_s",
        "max_send_delay_s", "clock_mismatch_tolerance_s",
    ),
    "muzzle": ("reach_m", "steady_m"),
    "fire_rate": ("tolerance_s", "max_skipped"),
    "movement": (
        "tolerance_m", "rounding_m", "skin_m", "time_tolerance_s", "teleport_m", "ride_reach_m",
        "prediction_tolerance_m",
    ),
}  # fmt: skip
"""Keys that say how much of honest jitter and rounding is forgiven: smaller values keep a table valid."""
AT_MOST = "at most "


def calibrated_rules_of(rules: Rules) -> dict[str, str]:
    """Return the settings that decide how often honest players have findings, and how well the best of them play.

    Readable numbers, and digests of whole tables. Of an allowance, the calibrated value and every smaller one will do.
    """

    def of_weapons(fields: tuple[str, ...]) -> str:
        return _digest({name: {field: getattr(one, field) for field in fields} for name, one in rules.weapons.items()})

    out = {
        "tick rate": f"{rules.match.tick_rate_hz:g} Hz",
        "snapshots": f"every {rules.match.snapshot_every} ticks",
        "weapons": of_weapons(_SHOOTING),
        "magazines and reloading": of_weapons(_HANDLING),
        "spread": of_weapons(_SPREAD),
        "view.max_rewind_s": f"{rules.view.max_rewind_s:g}",
        "movement": _digest(_abilities(rules)),
    }
    for table, keys in _ALLOWANCES.items():
        values = getattr(rules, table)
        out |= {f"{table}.{key}": f"{AT_MOST}{getattr(values, key):g}" for key in keys if values is not None}
    return out


def _abilities(rules: Rules) -> Any:
    """The rules' movement without its allowances: what a body can do."""
    if rules.movement is None:
        return None
    table = msgspec.to_builtins(rules.movement)
    if table["moved_by"] == "client":  # as in tables from before there was a choice
        del table["moved_by"]
    return {key: value for key, value in table.items() if key not in _ALLOWANCES["movement"]}


def differences(calibrated_rules: Mapping[str, str], rules: Rules) -> tuple[str, ...]:
    """Return the settings of a match that its calibration doesn't cover."""
    here = calibrated_rules_of(rules)
    return tuple(name for name, value in calibrated_rules.items() if not _covers(value, here.get(name)))


def _covers(calibrated: str, here: str | None) -> bool:
    if here is None or not (calibrated.startswith(AT_MOST) and here.startswith(AT_MOST)):
        return calibrated == here
    return float(here.removeprefix(AT_MOST)) <= float(calibrated.removeprefix(AT_MOST))


MUTES: Final = {
    "spread": frozenset({"hit_fraction", "head_fraction", "damage_in_sight"}),
    "magazines and reloading": frozenset({"no_ammunition", "reloading", "not_drawn", "damage_in_sight"}),
}
"""Kinds of evidence that depend on one setting only. Any other difference mutes all calibrated kinds."""


def muted_by(unlike: tuple[str, ...], calibrated: Collection[str]) -> frozenset[str]:
    """Return the calibrated kinds that such differences mute."""
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
