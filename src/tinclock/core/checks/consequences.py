"""What each finding does to its claim: deny it, amend it, or only note it. The rules may change some of them."""

from __future__ import annotations

from difflib import get_close_matches
from typing import TYPE_CHECKING, Final

from tinclock.core.errors import RulesError

if TYPE_CHECKING:
    from tinclock.core.rules import Consequence, Rules

ALWAYS_DENIED: Final = frozenset(
    {
        "unknown_connection",
        "malformed",
        "repeated_sequence",
        "stale_sequence",
        "skipped_sequence",
        "dead_actor",
        "absent_actor",
        "unknown_weapon",
        "direction_not_unit",
        "view_unknown",
        "view_ahead",
    }
)
"""There is nothing to rule on after one of these, however forgiving the match."""

DEFAULTS: Final[dict[str, Consequence]] = {
    **dict.fromkeys(sorted(ALWAYS_DENIED), "deny"),
    "foreign_actor": "deny",
    "weapon_not_held": "deny",
    "fast_cadence": "deny",
    "muzzle_far": "deny",
    "muzzle_blocked": "deny",
    "view_capped": "amend",
    "damage_differs": "amend",
    "victim_differs": "amend",
    "part_differs": "amend",
    "view_late": "note",
    "view_backwards": "note",
}


def consequences_of(rules: Rules) -> dict[str, Consequence]:
    """The defaults with the rules' own settings; raises `RulesError` for unknown codes and ones that must deny."""
    problems = []
    for code, consequence in rules.consequences.items():
        if code not in DEFAULTS:
            near = get_close_matches(code, DEFAULTS, 1)
            hint = f"; did you mean {near[0]!r}?" if near else f"; codes are {', '.join(DEFAULTS)}"
            problems.append(f"consequences.{code}: no such finding{hint}")
        elif code in ALWAYS_DENIED and consequence != "deny":
            problems.append(
                f"consequences.{code}: is {consequence!r}, but nothing is left to rule on; it must be 'deny'"
            )
    if problems:
        raise RulesError("rules", problems)
    return {**DEFAULTS, **rules.consequences}
