"""Values of a rules file that are legal and beyond anything plausible, with the unit that was probably meant."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

from msgspec import Struct

from tinclock.core.rules.movement import MovementRules
from tinclock.core.rules.projectiles import ProjectileRules, SplashRules
from tinclock.core.rules.ruleset import (
    DamageRules,
    FireRateRules,
    MatchRules,
    MuzzleRules,
    ScoreRules,
    ViewRules,
)
from tinclock.core.rules.weapons import BurstRules, DamageOverTimeRules, ItemRules, RecoilRules, WeaponRules

if TYPE_CHECKING:
    from collections.abc import Iterator

    from tinclock.core.rules.rigs import RigRules
    from tinclock.core.rules.ruleset import Rules


class Unit(NamedTuple):
    """Unit of a key, and a smaller one that its value is often given in by mistake."""

    sign: str
    smaller: str
    of_smaller: float


SECONDS: Final = Unit("s", "milliseconds", 1000.0)
METRES: Final = Unit("m", "centimetres", 100.0)
SPEED: Final = Unit("m/s", "centimetres per second", 100.0)
PUSH: Final = Unit("m/s2", "centimetres per second squared", 100.0)
HERTZ: Final = Unit("per second", "", 1.0)

LARGEST: Final[dict[type[Struct], dict[str, tuple[float, Unit]]]] = {
    MatchRules: {"tick_rate_hz": (1000.0, HERTZ), "history_s": (60.0, SECONDS)},
    ViewRules: {
        "max_rewind_s": (1.0, SECONDS), "early_tolerance_s": (0.1, SECONDS), "late_tolerance_s": (1.0, SECONDS),
        "max_view_backstep_s": (1.0, SECONDS), "display_delay_tolerance_s": (0.5, SECONDS), "max_send_delay_s": (1.0,
        SECONDS),
        "clock_mismatch_tolerance_s": (0.5, SECONDS),
    },
    MuzzleRules: {"reach_m": (5.0, METRES), "steady_m": (5.0, METRES)},
    FireRateRules: {"tolerance_s": (1.0, SECONDS)},
    DamageRules: {"spawn_shield_s": (60.0, SECONDS), "trade_window_s": (2.0, SECONDS)},
    ScoreRules: {"assist_window_s": (300.0, SECONDS), "credit_window_s": (300.0, SECONDS)},
    MovementRules: {
        "speed_m_s": (150.0, SPEED), "up_m_s": (150.0, SPEED), "down_m_s": (300.0, SPEED), "radius_m": (5.0, METRES),
        "acceleration_m_s2": (2000.0, PUSH), "centre_up_m": (10.0, METRES), "teleport_m": (100.0, METRES),
        "tolerance_m": (2.0, METRES), "time_tolerance_s": (2.0, SECONDS),
        "rounding_m": (0.5, METRES), "skin_m": (0.5, METRES),
        "gravity_m_s2": (100.0, PUSH), "jump_m": (30.0, METRES), "step_m": (2.0, METRES),
    },
    WeaponRules: {
        "interval_s": (30.0, SECONDS), "range_m": (4000.0, METRES), "reload_s": (30.0, SECONDS),
        "draw_s": (15.0, SECONDS), "charge_s": (30.0, SECONDS), "radius_m": (10.0, METRES),
    },
    BurstRules: {"interval_s": (5.0, SECONDS)},
    RecoilRules: {"reset_s": (10.0, SECONDS)},
    DamageOverTimeRules: {"every_s": (60.0, SECONDS)},
    ProjectileRules: {
        "speed_m_s": (3000.0, SPEED), "radius_m": (5.0, METRES), "lifetime_s": (300.0, SECONDS),
        "gravity_m_s2": (100.0, PUSH), "thrust_m_s2": (2000.0, PUSH), "fuse_s": (300.0, SECONDS),
        "proximity_fuse_m": (20.0, METRES), "blend_s": (5.0, SECONDS), "claim_window_s": (3.0, SECONDS),
        "claim_time_tolerance_s": (1.0, SECONDS), "claim_position_tolerance_m": (5.0, METRES), "owner_arm_s": (60.0,
        SECONDS),
    },
    SplashRules: {"radius_m": (100.0, METRES)},
    ItemRules: {"duration_s": (3600.0, SECONDS), "cooldown_s": (3600.0, SECONDS), "range_m": (500.0, METRES)},
}  # fmt: skip
"""By table and key: the largest value that any game is likely to mean."""
LARGEST_HITBOX_M, LONGEST_M, SHORTEST_M = 5.0, 20.0, 0.05
"""Of a body that can be hurt: the radius or half size of one hitbox, and the whole body in its rest pose."""


def implausible(rules: Rules) -> list[str]:
    """Return one message for each value that is beyond anything plausible, with its key path."""
    out = list(_beyond(rules, ""))
    for name, rig in rules.rigs.items():
        if not rig.blocks_only:
            out += [f"rigs.{name}.{odd}" for odd in _odd_sizes(rig)]
    return out


def _beyond(value: object, path: str) -> Iterator[str]:
    if isinstance(value, dict):
        for name, one in value.items():
            yield from _beyond(one, f"{path}{name}.")
    elif isinstance(value, Struct):
        limits = LARGEST.get(type(value), {})
        for name in value.__struct_fields__:
            one = getattr(value, name)
            if name in limits and one is not None and one > limits[name][0]:
                yield f"{path}{name}: {too_large(one, *limits[name])}"
            elif isinstance(one, (dict, Struct)):
                yield from _beyond(one, f"{path}{name}.")


def too_large(value: float, most: float, unit: Unit) -> str:
    """Return in words that a value is beyond the largest plausible one, and the smaller unit that would explain it."""
    text = f"{value:g} {unit.sign} is more than games use (at most {most:g})"
    meant = value / unit.of_smaller
    return f"{text}; if you meant {unit.smaller}, write {meant:g}" if unit.smaller and meant <= most else text


def _odd_sizes(rig: RigRules) -> Iterator[str]:
    for place, part in enumerate(rig.parts):
        reach = max(part.radius_m or 0.0, *(part.half_size_m or (0.0,)))
        if reach > LARGEST_HITBOX_M:
            key = "half_size_m" if part.shape == "box" else "radius_m"
            yield f"parts[{place}] ({part.name}).{key}: {too_large(reach, LARGEST_HITBOX_M, METRES)}"
    size = body_size_m(rig)
    if size > LONGEST_M:
        yield f"bones: the body is {size:.3g} m long in its rest pose; if you meant centimetres, divide by 100"
    elif size < SHORTEST_M:
        yield f"bones: the body is {size:.2g} m long in its rest pose; are its numbers metres?"


def body_size_m(rig: RigRules) -> float:
    """Return the longest side of the box around a rig's bones in the rest pose, with its largest hitbox around them."""
    sides = [max(axis) - min(axis) for axis in zip(*(bone.rest for bone in rig.bones), strict=True)]
    largest = max((max(part.radius_m or 0.0, *(part.half_size_m or (0.0,))) for part in rig.parts), default=0.0)
    return max(sides, default=0.0) + 2.0 * largest
