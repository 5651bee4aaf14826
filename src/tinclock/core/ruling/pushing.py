"""Pushes by the server: velocity that a body gets on top of its own."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

from tinclock.core.combat.events import PushEvent
from tinclock.core.kernels.dtypes import BODY

if TYPE_CHECKING:
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Participant
    from tinclock.core.vectors import Triple

PUSH_LEFT_S: Final = 0.5
"""Time after the end of a push during which the rest of its way still counts, seconds."""
BLAST_S: Final = 1.0
"""Time for which a body that a splash pushed may keep that velocity, seconds."""


def push_body(ledger: Ledger, actor: Participant, velocity: Triple, duration_s: float, now: float) -> None:
    """Let a body move by a push over ground and upward, on top of one that is still under way."""
    row, (x, y, z) = actor.numbers, velocity
    if row[BODY.push_until] + PUSH_LEFT_S > now:
        x, y, z = x + row[BODY.push_x], y + row[BODY.push_y], max(0.0, z + row[BODY.push_z])
    row[BODY.push_x], row[BODY.push_y], row[BODY.push_z] = x, y, max(0.0, z)
    row[BODY.push_until], row[BODY.push_m] = now + duration_s + PUSH_LEFT_S, math.hypot(x, y) * duration_s
    bulletin = ledger.bulletin
    bulletin.tell(PushEvent(bulletin.next, now, actor.entity, velocity, now + duration_s))


def push_by_blast(
    ledger: Ledger, victim: Participant, mass_kg: float | None, impulse: Triple | None, now: float
) -> None:
    """Push a living body whose client reports moves by the impulse of a splash, in newton seconds."""
    if impulse is None or mass_kg is None or victim.accepted is None or not ledger.alive(victim.entity):
        return
    x, y, z = impulse
    push_body(ledger, victim, (x / mass_kg, y / mass_kg, z / mass_kg), BLAST_S, now)
