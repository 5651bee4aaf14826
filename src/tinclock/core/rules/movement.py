"""The table of a body's movement, for servers whose clients report their position."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from tinclock.core.rules.tables import NotNegative, Point, Positive, Table


class ZoneRules(Table, frozen=True, kw_only=True):
    """An upright box."""

    low: Point
    """Its least corner."""
    high: Point
    """Its greatest corner."""


class StanceRules(Table, frozen=True, kw_only=True):
    """Limits of a body in a stance, such as crouching or sprinting; the others are those of its rig's movement."""

    speed_m_s: Positive | None = None
    """Over ground."""
    acceleration_m_s2: Positive | None = None
    """Over ground."""
    up_m_s: Positive | None = None
    """Jumping and climbing."""
    jump_m: NotNegative | None = None
    """Height of a jump."""
    step_m: NotNegative | None = None
    """Highest stair that it walks up or down."""
    radius_m: Positive | None = None
    """Radius of the ball that is swept against the level."""
    centre_up_m: NotNegative | None = None
    """Height of that ball's middle above the reported position."""


class MovementRules(Table, frozen=True, kw_only=True):
    """Limits of a body's movement, for servers whose clients report their position."""

    speed_m_s: Positive
    """Over ground."""
    moved_by: Literal["client", "server"] = "client"
    """Side that moves the body (default "client"): with "server" a move report is an input, `push`, that the server
    simulates and acknowledges with `set_position(input=)`; its position is the client's prediction."""
    prediction_tolerance_m: NotNegative = 0.1
    """With "server": distance of a prediction from the simulated position that is not flagged (default 0.1)."""
    up_m_s: Positive = 6.0
    """Jumping and climbing."""
    down_m_s: Positive = 30.0
    """Falling."""
    acceleration_m_s2: Positive = 80.0
    """Over ground. Slowing down is free: walls do that to everybody."""
    radius_m: Positive = 0.3
    """The ball that is swept against the level."""
    centre_up_m: NotNegative = 0.9
    """Height of that ball's middle above the reported position."""
    teleport_m: Positive = 3.0
    """A leap between two reports that no speed explains is refused as a whole from this length on."""
    tolerance_m: NotNegative = 0.05
    """Spare way for turns that look too sharp, in total; walking refills it slowly (default 0.05)."""
    rounding_m: NotNegative = 0.002
    """Rounding of the places that clients report (default 0.002). A larger value lets bodies turn a little sooner."""
    skin_m: NotNegative = 0.02
    """Gap that clients keep to the ground, and depth to which a body may lean into a wall (default 0.02)."""
    time_tolerance_s: NotNegative = 0.25
    """Largest lead of a client's time over the server's, as far as its line's jitter explains it (default 0.25)."""
    gravity_m_s2: NotNegative = 9.81
    """Gravity where the level has ground (default 9.81); 0: nothing falls."""
    jump_m: NotNegative | None = None
    """Height of a jump (default: as high as `up_m_s` carries a body)."""
    step_m: NotNegative = 0.4
    """Highest stair that a body walks up or down (default 0.4)."""
    ride_reach_m: NotNegative = 1.0
    """Distance from the hitboxes of its vehicle at which a rider may still be (default 1)."""
    free_zones: list[ZoneRules] = field(default_factory=list)
    """Ladders, lifts and water: boxes in which bodies don't fall."""
