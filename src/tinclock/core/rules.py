"""The types of a rules file. Everything is in metres, seconds and points; angles in degrees only where the key says so.

These are plain frozen records: reading a TOML file into them, with every mistake reported by its key path, is
`tinclock.intake.rules_file`.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal

from msgspec import Meta, Struct, field

Positive = Annotated[float, Meta(gt=0)]
NotNegative = Annotated[float, Meta(ge=0)]
Share = Annotated[float, Meta(ge=0, le=1)]
Count = Annotated[int, Meta(ge=1)]
Point = tuple[float, float, float]
Name = Annotated[str, Meta(min_length=1, max_length=64)]


class _Table(Struct, frozen=True, forbid_unknown_fields=True):
    pass


class BoneRules(_Table, frozen=True, kw_only=True):
    """A bone and where its origin lies in the rest pose (body frame: +x ahead, +y left, +z up, metres)."""

    name: Name
    rest: Point = (0.0, 0.0, 0.0)


class PartRules(_Table, frozen=True, kw_only=True):
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


class MountRules(_Table, frozen=True, kw_only=True):
    """A point fixed to a bone."""

    bone: Name
    at: Point = (0.0, 0.0, 0.0)


class RigRules(_Table, frozen=True, kw_only=True):
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
    zone_priority: dict[Name, int] = field(default_factory=dict)
    """Where parts overlap: the higher zone wins within `zone_depth_m`; unlisted zones count 0."""


class WeaponRules(_Table, frozen=True, kw_only=True):
    """One weapon, as the server knows it."""

    kind: Literal["hitscan"]
    damage: NotNegative
    interval_s: Positive
    range_m: Positive
    falloff: list[tuple[NotNegative, NotNegative]] = field(default_factory=list)
    """(distance in metres, factor) points, joined by straight lines, level beyond the ends. Empty: 1 everywhere."""
    zones: dict[Name, NotNegative] = field(default_factory=dict)
    """Damage factor by zone; a zone that is not listed counts 1."""
    penetration: NotNegative = 0.0
    """What a shot can pass through: each metre of a surface takes its `resistance_per_m` from it. 0: nothing."""


class ViewRules(_Table, frozen=True, kw_only=True):
    """How far a shooter's view may lie from the present."""

    max_rewind_s: Positive = 0.4
    """Nobody is rewound further. A claim with an older view is ruled at this age instead (amended)."""
    early_allowance_s: NotNegative = 0.004
    """How much newer than physics allows a view may be before it is refused (clock resolution)."""
    late_allowance_s: NotNegative = 0.060
    """How much older than round trip + interpolation delay + jitter a view may be before it is noted."""
    order_allowance_s: NotNegative = 0.050
    """How far a connection's views may run backwards before it is noted."""
    jitter_factor: NotNegative = 4.0
    """How many times the measured jitter a view may be older than the quiet line explains."""


class MuzzleRules(_Table, frozen=True, kw_only=True):
    """Where a shot may start."""

    reach_m: Positive = 0.6
    """How far from the shooter's eye (as the server has it) a shot may start."""


class CadenceRules(_Table, frozen=True, kw_only=True):
    """How bursts of late packets are told from a weapon that fires too fast."""

    allowance_s: NotNegative = 0.12
    """How early, in total, shots may arrive against the weapon's own interval."""


class MatchRules(_Table, frozen=True, kw_only=True):
    """Rates and match-wide settings."""

    tick_rate_hz: Positive = 64.0
    snapshot_every: Count = 2
    history_s: Positive = 1.0
    health: Positive = 100.0
    friendly_fire: Share = 0.0
    """Share of the damage that team-mates take from each other."""
    zone_depth_m: NotNegative = 0.0
    """How deep behind the first entry a higher zone priority may still win the hit."""


Consequence = Literal["deny", "amend", "note"]


class Rules(_Table, frozen=True, kw_only=True):
    """A whole rules file."""

    schema: Literal[1]
    match: MatchRules = field(default_factory=MatchRules)
    view: ViewRules = field(default_factory=ViewRules)
    muzzle: MuzzleRules = field(default_factory=MuzzleRules)
    cadence: CadenceRules = field(default_factory=CadenceRules)
    rigs: dict[Name, RigRules]
    weapons: dict[Name, WeaponRules]
    consequences: dict[Name, Consequence] = field(default_factory=dict)
    """What a finding does to its claim, by finding code, where that should differ from the default."""


def contradictions(rules: Rules) -> list[str]:
    """What shows only when tables are held together: one message each, with its key path."""
    problems = [f"{key}: at least one is needed" for key in ("rigs", "weapons") if not getattr(rules, key)]
    for name, weapon in rules.weapons.items():
        distances = [distance for distance, _ in weapon.falloff]
        if any(b <= a for a, b in pairwise(distances)):
            problems.append(f"weapons.{name}.falloff: distances must rise, got {distances}")
    rewind, history = rules.view.max_rewind_s, rules.match.history_s
    if rewind > history:
        problems.append(f"view.max_rewind_s: {rewind:g} is more than match.history_s {history:g}")
    return problems
