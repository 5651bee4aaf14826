"""Damage to somebody, by the rules of the match: team-mates, oneself, armour, shields, those who can't be harmed."""

from __future__ import annotations

from operator import itemgetter
from typing import TYPE_CHECKING

from msgspec.structs import replace

from tinclock.core.combat.ledger import Blow, Wound
from tinclock.core.ruling.steps import Measure

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.combat.roster import Participant
    from tinclock.core.geometry.rig import Part
    from tinclock.core.rules.ruleset import HarmRules
    from tinclock.core.ruling.work import HarmWork


def untouchable(work: HarmWork, victim: Participant) -> str:
    """Why nothing is applied to the victim in the present, "" when there is no reason."""
    view, ledger, entity = work.view, work.ledger, victim.entity
    if entity in ledger.dead:
        return "died since the view"
    if victim.life_epoch > 1:
        slot = work.slots[view.fraction >= 1.0]
        ago = work.history.cuts_since(entity, slot)
        if ago < 0 or work.history.epoch_of(entity) - ago < victim.life_epoch:
            return "respawned since the view"
    if entity in ledger.affected and ledger.shielded(entity, work.received_at):
        return "shielded"
    return ""


def apply_harm(
    work: HarmWork, victim: Participant, met: Sequence[tuple[Part, float]], cause: str
) -> tuple[float, Wound]:
    """Do the damage of a hit; returns the points meant for the victim, and what they changed of it.

    met : the parts that were met, and the points that each would take by itself; armour covers each by its own zone
    """
    weapon, actor, ledger, now = work.weapon, work.actor, work.ledger, work.received_at
    amount = met[0][1] if len(met) == 1 else sum([points for _, points in met])
    part = max(met, key=itemgetter(1))[0]
    reason = untouchable(work, victim)
    if actor.entity in ledger.affected:
        amount *= ledger.boosted(actor.entity, now)
    reflected = False
    if victim is actor:
        amount *= work.rules.harm.self_share
    elif not reason and victim.team == actor.team != "":
        reason, amount, reflected = _among_friends(amount, work.rules.harm)
    if not reason and amount == 0.0:
        reason = "out of the shot's reach"
    work.steps.append(Measure.VICTIM.step(reason or "alive"))
    name = weapon.name
    covered = _covered(work, victim, met) if ledger.armoured else 0.0
    if reflected and work.roster.actors.get(actor.entity) is actor:  # who left takes nothing
        own = _covered(work, actor, met) if ledger.armoured else 0.0
        ledger.wound(actor.entity, amount, now, Blow("reflected", actor.entity, name, part.name, own), claimed=True)
    if reason:
        amount = 0.0
    blow = Blow(cause, actor.entity, name, part.name, covered)
    wound = ledger.wound(victim.entity, amount, now, blow, claimed=True)
    if weapon.rules.lasting is not None and not reason and not wound.lethal and ledger.enforces:
        ledger.linger(victim.entity, weapon.rules.lasting, now, replace(blow, cause="lasting", covered=0.0))
    work.steps.append(Measure.DAMAGE.step(amount))
    return amount, wound


def _among_friends(amount: float, rules: HarmRules) -> tuple[str, float, bool]:
    """What damage to a team-mate comes to: why it doesn't count, the points, whether the shooter takes them."""
    if rules.friendly_fire == "none" or rules.friendly_share == 0.0:
        return "team-mate", 0.0, False
    reflected = rules.friendly_fire == "reflected"
    return "team-mate: the shooter takes it" if reflected else "", amount * rules.friendly_share, reflected


def _covered(work: HarmWork, victim: Participant, met: Sequence[tuple[Part, float]]) -> float:
    """The share of the damage that the victim's armour may take: of that to the zones that it covers."""
    zones = work.rules.rigs[victim.rig].armour_zones
    share = work.rules.harm.armour_share * (1.0 - work.weapon.rules.armour_piercing)
    bare = sum([points for part, points in met if zones and part.zone not in zones])
    if bare == 0.0:
        return share
    whole = sum([points for _, points in met])
    return share * (1.0 - bare / whole)
