"""The tables of weapons and items. Seconds, metres and points; never ticks, so that a tick rate changes nothing."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, field

from tinclock.core.rules.projectiles import ProjectileRules, SplashRules
from tinclock.core.rules.tables import (
    Count,
    EffectName,
    HalfTurn,
    Interval,
    Name,
    NotNegative,
    Positive,
    Share,
    Table,
    Whole,
)


class BurstRules(Table, frozen=True, kw_only=True):
    """Shots that follow each other faster than the weapon's own interval, which then comes after the last of them."""

    shots: Annotated[int, Meta(ge=2, le=1_000)]
    """Of one held_trigger."""
    interval_s: Interval
    """Between the shots of a burst."""


class SpreadRules(Table, frozen=True, kw_only=True):
    """Spread of shots: the half angle of a cone around the aim, filled evenly by area."""

    base_deg: NotNegative = 0.0
    """At rest, with the first shot."""
    moving_deg: NotNegative = 0.0
    """Added in proportion to the shooter's speed, all of it at `moving_at_m_s`."""
    moving_at_m_s: Positive = 4.0
    """The speed at which all of `moving_deg` is added."""
    per_shot_deg: NotNegative = 0.0
    """Added by each shot, and lost again at `recovery_deg_per_s`."""
    recovery_deg_per_s: NotNegative = 0.0
    """Rate at which the spread that shots added is lost."""
    max_deg: Annotated[float, Meta(ge=0, le=60)] = 20.0
    """All together never stray further."""
    flat: bool = False
    """Stray only sideways: for games in a plane."""


class RecoilRules(Table, frozen=True, kw_only=True):
    """Recoil of the shots of one held trigger, relative to the aim."""

    pattern_deg: list[tuple[float, float]]
    """(up, left) of each shot in a row; the last entry holds for all further ones."""
    reset_s: Positive = 0.4
    """A pause of this length begins the pattern anew."""


class DamageOverTimeRules(Table, frozen=True, kw_only=True):
    """Damage that goes on after the hit, at fixed instants.

    It goes past armour and is not scaled by boosts, zones, distance or charge. An instant at which the victim has a
    shield does nothing. It ends with the victim's life, and a hit that did nothing to its victim does not begin it.
    """

    damage: Positive
    """Points each time."""
    every_s: Interval
    """Between two times."""
    times: Count
    """Number of times."""


class WeaponRules(Table, frozen=True, kw_only=True):
    """One weapon, as the server knows it."""

    kind: Literal["hitscan", "pellets", "projectile", "melee"]
    """A ray, several rays, something that flies, or a melee attack."""
    damage: NotNegative
    """Points; of one pellet, where there are several."""
    interval_s: Interval
    """Between shots or attacks."""
    range_m: Positive
    """Nothing is hit farther away."""
    falloff: list[tuple[NotNegative, NotNegative]] = field(default_factory=list)
    """(distance in metres, factor) points, joined by straight lines, level beyond the ends. Empty: 1 everywhere."""
    zones: dict[Name, NotNegative] = field(default_factory=dict)
    """Damage factor by zone; a zone that is not listed counts 1."""
    penetration: NotNegative = 0.0
    """Penetration budget of a shot: each metre of a surface takes its `resistance_per_m` from it. 0: none."""
    armour_piercing: Share = 0.0
    """Share of the damage that armour doesn't stop."""
    damage_over_time: DamageOverTimeRules | None = None
    pellets: Annotated[int, Meta(ge=1, le=256)] = 1
    """Number of rays or projectiles of one shot."""
    automatic: bool = True
    """True if a trigger that is held down goes on firing. One that doesn't fires once a pull (once a burst)."""
    burst: BurstRules | None = None
    magazine: Count | None = None
    """Shots before a reload. Without it the weapon never runs out."""
    reserve: Whole | None = None
    """Shots beside the magazine at the start of a life. Without it there is always another magazine."""
    reload_s: NotNegative = 0.0
    """From its begin to a full magazine."""
    reload_interruptible: bool = False
    """True if a shot breaks a reload off (and loses it) instead of being refused."""
    reload_when_empty: bool = False
    """True if a reload begins by itself with the last shot of a magazine."""
    draw_s: NotNegative = 0.0
    """From taking it in hand to the first shot."""
    charge_s: NotNegative = 0.0
    """From beginning to charge to a full charge; each shot needs one of its own."""
    min_charge_fraction: Share = 1.0
    """The least charge that fires; damage is in proportion to the charge."""
    spread: SpreadRules | None = None
    recoil: RecoilRules | None = None
    projectile: ProjectileRules | None = None
    """Projectiles: how they fly. `pellets` of them leave at once; `falloff` goes by the distance from the launch."""
    splash: SplashRules | None = None
    """Projectiles: what they do around the place where they end."""
    radius_m: NotNegative = 0.0
    """Melee weapons: the ball that is swept along the aim."""
    cone_deg: HalfTurn = 0.0
    """Melee weapons: parts whose nearest point lies within this angle of the aim are reached as well."""
    facing_deg: HalfTurn = 180.0
    """Melee weapons: how far the aim may lie from where the server's own body faces."""
    backstab_deg: HalfTurn | None = None
    """Melee weapons: only from behind, within this angle of the victim's own facing."""
    victims: Annotated[int, Meta(ge=1, le=1_000)] = 1
    """Melee weapons: the maximum number of victims of one attack."""
    for_clients: bool = True
    """False: clients get nothing of its rules and carry it only by name, as for turrets and the like."""
    costs: dict[Name, NotNegative] = field(default_factory=dict)
    """Price of a shot, launch or melee attack, by counter."""
    requires: dict[Name, float] = field(default_factory=dict)
    """Least values of counters for a shot, launch or melee attack, by counter; nothing is spent."""
    blocked_by: list[EffectName] = field(default_factory=list)
    """Effects during which a shot, launch or melee attack is rejected."""


class ItemRules(Table, frozen=True, kw_only=True):
    """Something that is used up for an effect."""

    effect: Literal["repair", "armour", "shield", "boost", "ammunition"]
    """Health, armour, invulnerability for a time, more damage for a time, reserve for the weapon in hand."""
    amount: NotNegative = 0.0
    """Points; shots for "ammunition"; the factor of "boost"."""
    duration_s: NotNegative = 0.0
    """Duration of "shield" and "boost"."""
    count: Whole = 1
    """Number at the start of a life."""
    cooldown_s: NotNegative = 0.0
    """From one use to the next."""
    range_m: NotNegative = 0.0
    """Maximum distance of a team-mate; 0: only for oneself."""
    for_clients: bool = True
    """False: clients get nothing of its rules and have it only by name."""
    costs: dict[Name, NotNegative] = field(default_factory=dict)
    """Price of a use, by counter."""
    requires: dict[Name, float] = field(default_factory=dict)
    """Least values of counters for a use, by counter; nothing is spent."""
    blocked_by: list[EffectName] = field(default_factory=list)
    """Effects during which a use is rejected."""
