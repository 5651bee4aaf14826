"""Launches: what flies is checked like a shot, gets its id from the server, and is told to everybody once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace

from tinclock.core.combat.events import LaunchEvent
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.flying import end_flight
from tinclock.core.ruling.shot import spend_shot
from tinclock.core.ruling.work import FiringWork

if TYPE_CHECKING:
    from tinclock.core.combat.flights import Projectile
    from tinclock.core.combat.receipts import ActorState
    from tinclock.core.ruling.claims import LaunchClaim
    from tinclock.core.vectors import Triple


class LaunchWork(FiringWork):
    """A launch. projectiles : ids of what it let fly, in the order of its pellets."""

    projectiles: tuple[int, ...] = ()

    def state(self, state: ActorState) -> ActorState:
        """Add the projectiles that it launched."""
        return replace(state, projectiles=self.projectiles) if self.projectiles else state


def commit_launch(claim: LaunchClaim, work: LaunchWork) -> None:
    """Let fly what its own client claims to launch."""
    work.keep_view(claim.view)
    commit_fired_launch(claim, work)


def commit_fired_launch(claim: LaunchClaim, work: LaunchWork) -> None:
    """Spend the shot and let fly, one projectile a way; the oldest of too many ends."""
    spend_shot(claim, work)
    work.start_from_the_eye()
    rules, now = work.weapon.projectile, work.received_at
    seen = min(work.view_time, now)
    started = seen if rules.compensation == "catch_up" else now
    launched = [_let_fly(way, started, now - seen, work) for way in work.ways]
    work.projectiles = tuple(one.number for one in launched)
    work.steps.append(Measure.LAUNCHED.step(", ".join(map(str, work.projectiles)), rules.compensation))
    mine = [one for one in work.flights.of(work.actor.entity) if one.weapon is work.weapon]
    for one in mine[: max(0, len(mine) - rules.max_live)]:
        end_flight(work.world, one, now, "replaced")


def _let_fly(way: Triple, started: float, age_s: float, work: LaunchWork) -> Projectile:
    """One projectile, and the event that tells of it."""
    actor, weapon, speed = work.actor, work.weapon, work.weapon.projectile.speed_m_s
    velocity = (speed * way[0], speed * way[1], speed * way[2])
    one = work.flights.launch(actor, work.connection, weapon, work.origin, velocity, started, age_s)
    one.sequence, one.charge = work.sequence, work.charge
    bulletin = work.ledger.bulletin
    bulletin.tell(
        LaunchEvent(
            bulletin.next, started, actor.entity, weapon.name, one.number, work.origin, velocity, one.motion,
            float(work.flights.last_of(one)), one.sequence,
        )
    )  # fmt: skip
    return one
