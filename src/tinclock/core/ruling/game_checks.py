"""Checks of the game's own: their findings stand beside the library's, and are commands, so a replay asks nobody."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from tinclock.core.findings import GameFinding
from tinclock.core.ruling.check_results import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.ruling.work import Work


GameCheck = Callable[[Any, "Ruling"], Iterable[GameFinding]]
"""Check of the game's own. It gets a claim and the preview of its ruling, and returns what it finds, or nothing."""


def check_game(claim: Any, work: Work) -> Finding | None:
    """Find what the game's own checks found: what rejects comes last, what only flags or adjusts is kept before."""
    rejecting = None
    for one in work.connection.game_findings.pop(work.sequence, ()):
        if one.code not in work.world.actions:
            continue  # other rules hold by now
        detail = one.detail or work.rules.game_findings[one.code].text
        finding = work.find(one.code, one.observed, one.limit, detail, one.unit)
        action = work.world.actions[one.code]
        if action == "reject" and rejecting is None:
            rejecting = finding
            continue
        work.findings.append(finding)
        work.steps.append(Measure.GAME.step(one.code, verdict="adjust" if action == "adjust" else "flag"))
    if rejecting is not None:
        work.steps.append(Measure.GAME.step(rejecting.code))
    return rejecting
