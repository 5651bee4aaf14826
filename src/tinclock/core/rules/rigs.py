"""The tables of a rig: bones, hitboxes, and where the eye is. Metres, body frame: +x ahead, +y left, +z up."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from tinclock.core.rules.movement import MovementRules, StanceRules
from tinclock.core.rules.tables import Name, NotNegative, Point, Positive, Table


class BoneRules(Table, frozen=True, kw_only=True):
    """A bone and where its origin lies in the rest pose (body frame: +x ahead, +y left, +z up, metres)."""

    name: Name
    """As parts, eye and logs call it."""
    rest: Point = (0.0, 0.0, 0.0)
    """Position of its origin in the rest pose."""
    rest_rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    """Rotation in the rest pose, in the body frame: a unit quaternion xyzw."""


class PartRules(Table, frozen=True, kw_only=True):
    """A hitbox, in the frame of the bone that carries it."""

    name: Name
    """Form of a hit in messages."""
    bone: Name
    """Bone that carries it."""
    zone: Name
    """Selects the damage factor of a weapon."""
    shape: Literal["sphere", "capsule", "box"]
    """A sphere needs a radius, a capsule a radius, start and end, a box half sizes."""
    side: Literal["left", "right", "middle"] = "middle"
    """Of the body itself. Left parts must lie to the left of right ones: a mix-up is refused."""
    radius_m: Positive | None = None
    """Of spheres and capsules."""
    centre: Point | None = None
    """Of spheres and boxes, in the frame of the bone."""
    start: Point | None = None
    """One end of the capsule's axis, in the frame of the bone."""
    end: Point | None = None
    """The other end."""
    half_size_m: tuple[Positive, Positive, Positive] | None = None
    """Of boxes, from the middle to each face."""
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    """Of boxes, in the frame of the bone: a unit quaternion xyzw."""


class MountRules(Table, frozen=True, kw_only=True):
    """A point fixed to a bone."""

    bone: Name
    """Bone that carries it."""
    at: Point = (0.0, 0.0, 0.0)
    """Where, in the frame of the bone."""


class RigRules(Table, frozen=True, kw_only=True):
    """The bones and hitboxes of one kind of body."""

    bones: list[BoneRules]
    """Bodies of the poses, in this order."""
    parts: list[PartRules]
    """The hitboxes."""
    eye: MountRules | None = None
    """Eye of the rig; only a rig that blocks and does nothing else can go without."""
    blocks_only: bool = False
    """Stops shots and takes no damage: a door, a lift, an unbreakable shield."""
    flies: bool = False
    """Nothing pulls it down, where clients report moves."""
    resistance_per_m: NotNegative | None = None
    """With `blocks_only`: what a metre of it costs a shot that penetrates; without it, everything stops."""
    health: Positive | None = None
    """Points at the start of a life, where it differs from `match.health`."""
    armour_zones: list[Name] = field(default_factory=list)
    """Zones that armour covers; empty: all of them."""
    kill_score: float | None = None
    """Points for a kill, where they differ from `score.kill`."""
    movement: MovementRules | None = None
    """Limits of its movement, in place of `[movement]`: a cart, a giant."""
    stances: dict[Name, StanceRules] = field(default_factory=dict)
    """Limits that differ while the server has it in a stance, see `set_stance`."""
    loadout: Name | None = None
    """Loadout of its players, one of `[loadouts]` (default: every weapon and item with `for_clients`)."""
    mass_kg: Positive | None = None
    """Mass in kilograms. With it a splash with `impulse_n_s` pushes the body by impulse divided by mass; without it
    (the default) the game's server pushes by itself."""
    zone_priority: dict[Name, int] = field(default_factory=dict)
    """Priority of zones where parts overlap: the higher one wins within `zone_depth_m`; unlisted zones count 0."""
