"""The ways of what was launched, as points that pages draw."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.events import EndEvent, LaunchEvent
from tinclock.core.combat.projectile_motion import ProjectilePath
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.core.combat.events import Event
    from tinclock.core.geometry.level import Level

STEP_S, MAX_STEPS = 1.0 / 30.0, 300


def flights_of(events: list[Event], level: Level | None) -> list[Fields]:
    """Return the projectiles of some events. A way ends with its flight, if that is among them, else as it would."""
    ends = {one.projectile: one for one in events if isinstance(one, EndEvent)}
    out: list[Fields] = []
    for one in events:
        if not isinstance(one, LaunchEvent):
            continue
        end = ends.get(one.projectile)
        until = one.until if end is None else end.server_time
        flight = ProjectilePath(one.motion, one.server_time, one.position, one.velocity, level=level)
        steps = min(max(int((until - one.server_time) / STEP_S), 1), MAX_STEPS)
        times = [one.server_time + (until - one.server_time) * k / steps for k in range(steps + 1)]
        points = [[round(v, 3) for v in flight.at(at)[0]] for at in times]
        if end is not None:
            points[-1] = [round(v, 3) for v in end.position]
        out.append(
            {"projectile": one.projectile, "entity": one.entity, "weapon": one.weapon, "sequence": one.sequence,
             "from": one.server_time, "until": until, "points": points, "victim": 0 if end is None else end.victim}
        )  # fmt: skip
    return out
