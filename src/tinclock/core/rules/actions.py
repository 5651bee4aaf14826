"""Action of each finding on its claim: reject it, adjust it, or only note it. The rules may change some of them."""

from __future__ import annotations

from difflib import get_close_matches
from typing import TYPE_CHECKING, Final

from tinclock.core.errors import RulesError
from tinclock.core.findings import DEFAULTS, FINDINGS

if TYPE_CHECKING:
    from tinclock.core.findings import Action
    from tinclock.core.rules.ruleset import Rules

ALWAYS_REJECTED: Final = frozenset(kind.code for kind in FINDINGS.values() if kind.always_rejects)
"""There is nothing to rule on after one of these, however forgiving the match."""

NEVER_REJECTED: Final = frozenset(kind.code for kind in FINDINGS.values() if kind.never_rejects)
"""These are found when the claim was ruled by the server's own numbers already; there is nothing left to reject."""


def actions_of(rules: Rules) -> dict[str, Action]:
    """The defaults with the rules' own settings; raises `RulesError` for unknown codes and ones that must reject.

    What the strictness of a rules file sets has been written into `rules.actions` when the file was read.
    """
    problems = []
    for code, action in rules.actions.items():
        if code not in DEFAULTS:
            near = get_close_matches(code, DEFAULTS, 1)
            hint = f"; did you mean {near[0]!r}?" if near else f"; codes are {', '.join(DEFAULTS)}"
            problems.append(f"actions.{code}: no such finding{hint}")
        elif code in ALWAYS_REJECTED and action != "reject":
            problems.append(f"actions.{code}: is {action!r}, but nothing is left to rule on; it must be 'reject'")
        elif code in NEVER_REJECTED and action == "reject":
            problems.append(
                f"actions.{code}: is 'reject', but what the server found has counted by then; use 'adjust' or 'note'"
            )
    if problems:
        raise RulesError("rules", problems)
    game = {code: table.action for code, table in rules.game_findings.items()}
    return {**DEFAULTS, **rules.actions, **game}
