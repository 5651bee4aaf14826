"""Strictness towards clients: one word for a table of defaults; any key of a rules file overrides one.

All three use the server's numbers. "lenient" gives wide allowances and amends what can be amended; "standard" is what
the types of `rules` say; "strict" has narrow allowances and refuses what the others only note.
"""

from __future__ import annotations

from typing import Final

from tinclock.core.findings import FINDINGS
from tinclock.core.plain import Fields

PROFILES: Final[dict[str, dict[str, Fields]]] = {
    "lenient": {
        "view": {"late_allowance_s": 0.2, "order_allowance_s": 0.2, "jitter_factor": 8.0, "lag_allowance_s": 0.02},
        "muzzle": {"reach_m": 1.5, "steady_m": 1.5},
        "cadence": {"allowance_s": 0.3},
        "movement": {"allowance_m": 0.5, "time_allowance_s": 0.6, "teleport_m": 6.0},
        "status": {"health_slack": 10.0, "ammunition_slack": 5.0, "position_slack_m": 3.0},
        "consequences": {k.code: k.lenient for k in FINDINGS.values() if k.lenient},
    },
    "standard": {},
    "strict": {
        "view": {"late_allowance_s": 0.03, "order_allowance_s": 0.03, "jitter_factor": 3.0, "lag_allowance_s": 0.002},
        "muzzle": {"reach_m": 0.4},
        "cadence": {"allowance_s": 0.08},
        "movement": {"allowance_m": 0.02, "time_allowance_s": 0.15},
        "consequences": {k.code: k.strict for k in FINDINGS.values() if k.strict},
    },
}
"""By profile, by table, by key: what differs from the defaults of the types."""


def overridden(tables: Fields) -> list[str]:
    """Return the keys of a file that override its profile, as "cadence.allowance_s = 0.3 (strict: 0.08)"."""
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
