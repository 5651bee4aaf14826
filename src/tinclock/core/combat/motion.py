"""Flight of a projectile, as it is published."""

from __future__ import annotations

from tinclock.core.sparse import Sparse


class Motion(Sparse, frozen=True, omit_defaults=True, gc=False):
    """Published motion of a projectile: enough to draw it for its whole life."""

    radius_m: float = 0.0
    gravity_m_s2: float = 0.0
    drag_per_m: float = 0.0
    wind_m_s: tuple[float, float, float] = (0.0, 0.0, 0.0)
    thrust_m_s2: float = 0.0
    thrust_s: float = 0.0
    turn_deg_per_s: float = 0.0
    on_level: str = "end"
    restitution: float = 0.0
    friction: float = 0.0
    rest_below_m_s: float = 0.0
    max_bounces: int = 0
