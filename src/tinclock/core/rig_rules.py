"""The tables of a rig: bones, hitboxes, and where the eye is. Metres, body frame: +x ahead, +y left, +z up."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from tinclock.core.tables import Name, NotNegative, Point, Positive, Table


class BoneRules(Table, frozen=True, kw_only=True):
    """A bone and where its origin lies in the rest pose (body frame: +x ahead, +y left, +z up, metres)."""

    name: Name
    rest: Point = (0.0, 0.0, 0.0)


class PartRules(Table, frozen=True, kw_only=True):
    """A hitbox, in the frame of the bone that carries it."""

    name: Name
    bone: Name
    zone: Name
    shape: Literal["sphere", "capsule", "box"]
    side: Literal["left", "right", "middle"] = "middle"
    radius_m: Positive | None = None
    centre: Point | None = None
    start: Point | None = None
    end: Point | None = None
    half_size_m: tuple[Positive, Positive, Positive] | None = None
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)


class MountRules(Table, frozen=True, kw_only=True):
    """A point fixed to a bone."""

    bone: Name
    at: Point = (0.0, 0.0, 0.0)


class RigRules(Table, frozen=True, kw_only=True):
    """The bones and hitboxes of one kind of body."""

    bones: list[BoneRules]
    parts: list[PartRules]
    eye: MountRules
    blocks_only: bool = False
    """Stops shots and takes no damage: a door, a lift, an unbreakable shield."""
    resistance_per_m: NotNegative | None = None
    """With `blocks_only`: what a metre of it costs a shot that penetrates; without it, everything stops."""
    health: Positive | None = None
    """Points at the start of a life, where it differs from `match.health`."""
    armour_zones: list[Name] = field(default_factory=list)
    """Zones that armour covers; empty: all of them."""
    worth: float | None = None
    """Points for a kill, where they differ from `score.kill`."""
    zone_priority: dict[Name, int] = field(default_factory=dict)
    """Where parts overlap: the higher zone wins within `zone_depth_m`; unlisted zones count 0."""
