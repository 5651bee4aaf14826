"""Action of each finding on its claim: deny it, amend it, or only note it. The rules may change some of them."""

from __future__ import annotations

from difflib import get_close_matches
from typing import TYPE_CHECKING, Final

from tinclock.core.errors import RulesError
from tinclock.core.findings import DEFAULTS, FINDINGS

if TYPE_CHECKING:
    from tinclock.core.findings import Consequence
    from tinclock.core.rules.ruleset import Rules

ALWAYS_DENIED: Final = frozenset(kind.code for kind in FINDINGS.values() if kind.always_denies)
"""There is nothing to rule on after one of these, however forgiving the match."""

NEVER_DENIED: Final = frozenset(kind.code for kind in FINDINGS.values() if kind.never_denies)
"""These are found when the claim was ruled by the server's own numbers already; there is nothing left to deny."""


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
