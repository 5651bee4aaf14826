"""From a row of numbers to findings: what the compiled checks found, in words."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, Final

from tinclock.core.kernels.checks.view import FROM_BEFORE, OF_THE_FUTURE
from tinclock.core.kernels.dtypes import AGAINST, CODE, FINDING_FIELDS, FINDINGS_FROM, FOUND, MEASURED, MORE
from tinclock.core.kernels.facts import FINDING
from tinclock.core.ruling.trace import SHOOTS
from tinclock.core.text import excerpt

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.findings import Finding
    from tinclock.core.ruling.trace import Context
    from tinclock.core.ruling.work import Work

CODES: Final = FINDING._fields


def findings_found(found: Any, context: Context, work: Work) -> list[Finding]:
    """The findings in the row of what was found, about the claim of `work`."""
    out = []
    for at in range(FINDINGS_FROM, FINDINGS_FROM + int(found[FOUND.findings]) * FINDING_FIELDS, FINDING_FIELDS):
        number, more = int(found[at + CODE]), found[at + MORE]
        observed: float | None = found[at + MEASURED]
        limit: float | None = found[at + AGAINST]
        if observed is None or observed != observed or limit is None:
            observed = limit = None
        elif number in _COUNTED or (number == FINDING.view_ahead and more == OF_THE_FUTURE):
            observed, limit = int(observed), int(limit)
        unit = "ticks" if number == FINDING.view_ahead and more == OF_THE_FUTURE else None
        if number in (FINDING.muzzle_blocked, FINDING.through_wall):
            detail = _obstacle(int(found[FOUND.blocker]), work)
        else:
            detail = _DETAILS[number](context, more) if number in _DETAILS else ""
        out.append(work.find(CODES[number], observed, limit, detail, unit))
    return out


_COUNTED: Final = frozenset({FINDING.stale_sequence, FINDING.skipped_sequence, FINDING.shots_skipped})


def _obstacle(what: int, work: Work) -> str:
    """Return the name of an obstacle that a kernel found: a surface of the level, or the rig of moving cover."""
    if what <= -2:
        return work.history.columns.rig_at(-2 - what).name
    return "" if work.level is None else work.level.surface_of(what).name


def _unknown_view(context: Context, why: float) -> str:
    if why == FROM_BEFORE:
        return "shows a snapshot from before this connection was admitted"
    return f"client time {context.claim.client_time}" if context.claim.view is None else context.view


def _ahead(context: Context, why: float) -> str:
    return "names a tick of the future" if why == OF_THE_FUTURE else f"since snapshot {int(why)} was sent"


def _wrong_kind(context: Context, _: float) -> str:
    return f"{SHOOTS[context.kind][1]} with a weapon of kind {context.weapon_kind}"


_DETAILS: Final[dict[int, Callable[[Context, float], str]]] = {
    FINDING.wrong_actor: lambda context, _: f"named entity {context.claim.actor}, owns {context.own}",
    FINDING.unknown_weapon: lambda context, _: excerpt(context.claim.weapon),
    FINDING.weapon_not_carried: lambda context, _: excerpt(context.claim.weapon),
    FINDING.weapon_not_held: lambda context, _: f"claimed {context.claim.weapon}, holds {context.wielded}",
    FINDING.wrong_kind: _wrong_kind,
    FINDING.no_ammunition: lambda context, under_way: "reloading" if under_way else "",
    FINDING.undercharged: lambda context, full: f"full after {full:g} s",
    FINDING.shots_skipped: lambda context, _: "drawn from the server's own stream",
    FINDING.fires_too_fast: lambda context, interval: f"interval {interval:g} s",
    FINDING.view_unknown: _unknown_view,
    FINDING.view_ahead: _ahead,
    FINDING.too_fast: lambda context, seconds: (
        f"upright in {-seconds:.3f} s" if math.copysign(1.0, seconds) < 0.0 else f"in {seconds:.3f} s"
    ),
    FINDING.catching_up: lambda context, seconds: f"in {seconds:.3f} s",
}
