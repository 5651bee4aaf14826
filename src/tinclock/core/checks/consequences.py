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
        "spectator",
        "malformed",
        "repeated_sequence",
        "stale_sequence",
        "skipped_sequence",
        "dead_actor",
        "absent_actor",
        "unknown_weapon",
        "unarmed",
        "wrong_kind",
        "no_ammunition",
        "direction_not_unit",
        "view_unknown",
        "view_ahead",
        "unknown_item",
        "item_spent",
        "needless",
        "stale_move",
        "moves_not_ruled",
        "unknown_projectile",
        "foreign_projectile",
        "flight_over",
        "no_impact",
    }
)
"""There is nothing to rule on after one of these, however forgiving the match."""

NEVER_DENIED: Final = frozenset({"damage_differs", "victim_differs", "part_differs"})
"""These are found when the claim was ruled by the server's own numbers already; there is nothing left to deny."""

DEFAULTS: Final[dict[str, Consequence]] = {
    **dict.fromkeys(sorted(ALWAYS_DENIED), "deny"),
    "foreign_actor": "deny",
    "not_yet_owner": "deny",
    "weapon_not_held": "deny",
    "not_drawn": "deny",
    "reloading": "deny",
    "fast_cadence": "deny",
    "undercharged": "deny",
    "overcharged": "amend",
    "shots_skipped": "amend",
    "muzzle_far": "deny",
    "muzzle_blocked": "deny",
    "not_facing": "deny",
    "view_capped": "amend",
    "view_late": "note",
    "view_backwards": "note",
    "damage_differs": "amend",
    "victim_differs": "amend",
    "part_differs": "amend",
    "impact_time_differs": "amend",
    "impact_place_differs": "amend",
    "item_cooling": "deny",
    "target_far": "deny",
    "push_too_long": "note",
    "fast_clock": "amend",
    "teleport": "amend",
    "too_fast": "amend",
    "too_sharp": "amend",
    "through_wall": "amend",
    "health_differs": "amend",
    "armour_differs": "amend",
    "ammunition_differs": "amend",
    "position_differs": "amend",
}


def consequences_of(rules: Rules) -> dict[str, Consequence]:
    """The defaults with the rules' own settings; raises `RulesError` for unknown codes and ones that must deny.

    What the strictness of a rules file sets has been written into `rules.consequences` when the file was read.
    """
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
        elif code in NEVER_DENIED and consequence == "deny":
            problems.append(
                f"consequences.{code}: is 'deny', but what the server found has counted by then; use 'amend' or 'note'"
            )
    if problems:
        raise RulesError("rules", problems)
    return {**DEFAULTS, **rules.consequences}
