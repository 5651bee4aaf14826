"""Damage to somebody: `kernels.damage` works it out, and here it is told."""

from __future__ import annotations

from operator import itemgetter
from typing import TYPE_CHECKING, Final

import numpy as np
from msgspec.structs import replace

from tinclock.core.combat.accounts import Blow, Wound
from tinclock.core.kernels.damage import HURT, REFLECTED, do_damage_of
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.shot_events import rounded

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Participant
    from tinclock.core.geometry.rig import Part
    from tinclock.core.ruling.work import DamageWork
    from tinclock.core.vectors import Triple

WHY: Final = (
    "alive", "died since the view", "respawned since the view", "team-mate", "out of the shot's reach", "shielded",
    "team-mate: the shooter takes it", "out of this phase: no damage",
)  # fmt: skip
"""The state of a victim, by the reason that `kernels.damage` gives."""


def apply_damage(
    work: DamageWork, victim: Participant, met: Sequence[tuple[Part, int, float]], cause: str, position: Triple,
    direction: Triple | None, force_n_s: float | None = None,
) -> tuple[float, Wound]:  # fmt: skip
    """Do the damage of a hit; returns the points meant for the victim, and what they changed of it.

    met : the parts that were met with their rows, and the points that each would take by itself
    position, direction, force_n_s : place of the hit in metres, unit direction of the damage, and push
    """
    weapon, actor, ledger, now = work.weapon, work.actor, work.ledger, work.received_at
    columns = work.history.columns
    why, amount, *numbers = do_damage_of(
        work.world.numbers.at, weapon.at, actor.at, work.roster.actors.get(actor.entity) is actor, victim.at,
        columns.stored, columns.cuts_at, columns.of(victim.entity), work.slots[work.view.fraction >= 1.0],
        np.array([row for _, row, _ in met]), np.array([points for _, _, points in met]), now,
    )  # fmt: skip
    work.steps.append(Measure.VICTIM.step(WHY[int(why)]))
    part = max(met, key=itemgetter(2))[0]
    blow = Blow(
        cause, actor.entity, weapon.name, part.name, 0.0, rounded(position),
        None if direction is None else rounded(direction), force_n_s,
    )  # fmt: skip
    wound, own = Wound(*numbers[:4]), Wound(*numbers[4:])
    tell_damage(ledger, victim.entity, why, wound, own, now, blow)
    if weapon.rules.damage_over_time is not None and why == HURT and not wound.lethal and ledger.enforces:
        ledger.linger(victim.entity, weapon.rules.damage_over_time, now, replace(blow, cause="damage_over_time"))
    work.steps.append(Measure.DAMAGE.step(amount))
    return amount, wound


def tell_damage(ledger: Ledger, victim: int, why: float, wound: Wound, own: Wound, now: float, blow: Blow) -> None:
    """Keep and tell what follows from a hit that a kernel applied. own : what it took from its actor, if reflected"""
    if not ledger.enforces:
        return
    if why == REFLECTED:
        ledger.wounded(blow.actor, own, now, replace(blow, cause="reflected"))
    ledger.wounded(victim, wound, now, blow)
