"""Strictness towards clients: one word for a table of defaults; any key of a rules file overrides one.

All three use the server's numbers. "lenient" gives wide allowances and adjusts what can be adjusted; "standard" is what
the types of `rules` say; "strict" has narrow allowances and refuses what the others only note.
"""

from __future__ import annotations

from typing import Final

from tinclock.core.findings import FINDINGS
from tinclock.core.plain import Fields

PROFILES: Final[dict[str, dict[str, Fields]]] = {
    "lenient": {
        "view": {
            "late_tolerance_s": 0.2,
            "max_view_backstep_s": 0.2,
            "jitter_factor": 8.0,
            "display_delay_tolerance_s": 0.02,
        },
        "muzzle": {"reach_m": 1.5, "steady_m": 1.5},
        "fire_rate": {"tolerance_s": 0.3},
        "movement": {"tolerance_m": 0.5, "time_tolerance_s": 0.6, "teleport_m": 6.0},
        "status": {"health_tolerance": 10.0, "ammunition_tolerance": 5.0, "position_tolerance_m": 3.0},
        "actions": {k.code: k.lenient for k in FINDINGS.values() if k.lenient},
    },
    "standard": {},
    "strict": {
        "view": {
            "late_tolerance_s": 0.03,
            "max_view_backstep_s": 0.03,
            "jitter_factor": 3.0,
            "display_delay_tolerance_s": 0.002,
        },
        "muzzle": {"reach_m": 0.4},
        "fire_rate": {"tolerance_s": 0.08},
        "movement": {"tolerance_m": 0.02, "time_tolerance_s": 0.15},
        "actions": {k.code: k.strict for k in FINDINGS.values() if k.strict},
    },
}
"""By profile, by table, by key: what differs from the defaults of the types."""


def overridden(tables: Fields) -> list[str]:
    """Return the keys of a file that override its profile, as "fire_rate.tolerance_s = 0.3 (strict: 0.08)"."""
    strictness = tables.get("strictness", "standard")
    profile = PROFILES.get(strictness, {}) if isinstance(strictness, str) else {}
    out = []
    for table, defaults in profile.items():
        given = tables.get(table)
        for key, value in given.items() if isinstance(given, dict) else ():
            if key in defaults and value != defaults[key]:
                out.append(f"{table}.{key} = {value} ({strictness}: {defaults[key]})")
    return out


def with_profile(tables: Fields) -> Fields:
    """The tables of a rules file on top of its profile's defaults; what isn't a table is left for others to refuse.

    Without `strictness` it is "standard". The profile's `movement` counts only where the file has such a table.
    """
    strictness = tables.get("strictness", "standard")
    profile = PROFILES.get(strictness, {}) if isinstance(strictness, str) else {}
    out = dict(tables)
    for table, defaults in profile.items():
        given = tables.get(table)
        if isinstance(given, dict):
            out[table] = {**defaults, **given}
        elif given is None and table != "movement":
            out[table] = dict(defaults)
    return out
