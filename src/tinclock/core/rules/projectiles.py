"""The tables of what flies: its motion, what stops it, what it does around itself."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, field

from tinclock.core.rules.tables import NotNegative, Point, Positive, Share, Table


class BounceRules(Table, frozen=True, kw_only=True):
    """Bounce off surfaces and bodies."""

    restitution: Share = 0.5
    """Share of the speed straight off the surface that it keeps."""
    friction: Share = 0.2
    """Share of the speed along the surface that it loses."""
    rest_below_m_s: Positive = 0.5
    """It comes to rest where it would leave a surface, straight off it, slower than this. It doesn't roll."""
    max_count: Annotated[int, Meta(ge=1, le=10_000)] = 32
    """At the bounce after these it ends."""


class ProjectileRules(Table, frozen=True, kw_only=True):
    """Motion of a projectile, and the conditions of its end."""

    speed_m_s: Annotated[float, Meta(gt=0, le=100_000)]
    """At the launch."""
    radius_m: NotNegative = 0.0
    """The ball that is swept; 0 is a point."""
    lifetime_s: Annotated[float, Meta(gt=0, le=3_600)] = 10.0
    """It ends so long after its launch, without a burst."""
    gravity_m_s2: NotNegative = 9.81
    """Straight down; 0 flies straight."""
    drag_per_m: Annotated[float, Meta(ge=0, le=100)] = 0.0
    """k of the deceleration k v^2, v relative to the wind."""
    wind_m_s: Point = (0.0, 0.0, 0.0)
    """Felt only with drag."""
    thrust_m_s2: NotNegative = 0.0
    """Along the launch direction, for `thrust_s`."""
    thrust_s: NotNegative = 0.0
    """For how long."""
    turn_deg_per_s: NotNegative = 0.0
    """Turn rate towards its target, at constant speed, without gravity, drag or thrust."""
    on_level: Literal["end", "bounce", "stick"] = "end"
    """Behaviour at the level."""
    on_body: Literal["end", "bounce", "pass"] = "end"
    """Behaviour at a hitbox."""
    passes: Annotated[int, Meta(ge=1, le=8)] = 4
    """With on_body = "pass": how many bodies it hits; it ends in the last of them."""
    bounce: BounceRules = field(default_factory=BounceRules)
    fuse_s: Positive | None = None
    """It ends (and bursts) so long after its launch, wherever it is."""
    proximity_fuse_m: Positive | None = None
    """It ends (and bursts) where its middle comes so near to somebody else's hitbox."""
    owner_arm_s: Positive | None = None
    """From so long after its launch on it may hit who launched it; otherwise never directly."""
    owner_arms_at_bounce: bool = False
    """From its first bounce on it may hit who launched it."""
    compensation: Literal["none", "catch_up", "blend"] = "none"
    """Time at which it meets others: in the present; flown from the shooter's view on; at an instant that
    slides from the shooter's view to the present over `blend_s`."""
    blend_s: Positive = 0.5
    """With `compensation = "blend"`."""
    max_live: Annotated[int, Meta(ge=1, le=10_000)] = 32
    """Of one owner and weapon; the oldest ends when another is launched."""
    when_owner_leaves: Literal["remove", "orphan"] = "remove"
    """With `"orphan"` it flies on and damages in nobody's name."""
    when_owner_dies: Literal["keep", "remove"] = "keep"
    """True if it flies on."""
    hit_source: Literal["server", "client_confirmed"] = "server"
    """Time of a projectile's damage: at the server's own impact; or once the owner's client has claimed it."""
    claim_window_s: Positive = 0.5
    """With hit_source = "client_confirmed": how long a hit waits for its claim."""
    claim_time_tolerance_s: Positive = 0.1
    """Maximum difference between a claimed impact and the server's in time ..."""
    claim_position_tolerance_m: Positive = 0.5
    """... and in place."""


class SplashRules(Table, frozen=True, kw_only=True):
    """Splash around the position of its end."""

    radius_m: Positive
    """It reaches so far."""
    damage: Positive
    """Points at the middle, without cover."""
    falloff: list[tuple[NotNegative, NotNegative]] = field(default_factory=list)
    """(metres to the nearest hitbox, factor); empty: a straight line from 1 at the middle to 0 at the radius."""
    cover_fraction: Share = 1.0
    """Share of the damage that full cover takes."""
    direct_bonus: NotNegative = 0.0
    """Points more for the body that it ended in."""
    impulse_n_s: NotNegative = 0.0
    """Newton seconds at the middle, with the same falloff and cover: told, for the game to use."""
    detonates_others: bool = False
    """True if other projectiles with a splash end (and burst) where it reaches them."""
