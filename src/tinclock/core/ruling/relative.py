"""Claims whose place is relative to a vehicle."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from tinclock.core.kernels.dtypes import BODY
from tinclock.core.kernels.facts import UNKNOWN_LATE_S
from tinclock.core.kernels.poses import point_on_bone
from tinclock.core.ruling.claims import MeleeClaim, ShotClaim

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.ruling.work import World


def in_world(world: World, claim: Any, actor: Participant, now: float) -> Any:
    """Return a claim whose place is relative to a vehicle with that place in the world; None if it isn't its vehicle.

    A vehicle's frame is that of its first bone: +x ahead, +y left, +z up. A shot or a melee attack was aimed from where
    the view shows the vehicle, and keeps `relative_to`; a launch begins, and a body is, where the vehicle is now.
    """
    vehicle, history = claim.relative_to, world.history
    column, row = history.columns.of(vehicle), actor.numbers
    if column < 0 or row[BODY.vehicle] != column or row[BODY.rode_until] < now - UNKNOWN_LATE_S:
        return None
    view: Any = getattr(claim, "view", None)
    is_seen = isinstance(claim, ShotClaim | MeleeClaim)
    if is_seen and (view is None or not (history.holds(view.from_tick) and history.holds(view.to_tick))):
        return None
    if is_seen:
        at = history.slot_of(view.from_tick), history.slot_of(view.to_tick), float(view.fraction)
    else:
        at = history.newest_slot, history.newest_slot, 0.0
    field = "position" if hasattr(claim, "position") else "origin"
    there, x, y, z = point_on_bone(column, 0, getattr(claim, field), at, history.columns.stored)
    kept = vehicle if is_seen else None
    return replace(claim, relative_to=kept, **{field: (x, y, z)}) if there else None
