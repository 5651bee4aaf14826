"""Whether a claim is well formed: right types, finite numbers, a unit direction. The border, for numbers."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.arrays import nearly_unit
from tinclock.core.checks.context import excerpt
from tinclock.core.records import Step
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim, Triple

HIGHEST_INTEGER = 2**53
FARTHEST_M = 1e7
LONGEST_NAME = 64


def is_count(value: object) -> bool:
    """Whether a client's number is an integer that every language holds exactly."""
    return type(value) is int and -HIGHEST_INTEGER <= value <= HIGHEST_INTEGER


def is_number(value: object) -> bool:
    """Whether a client's number is finite and no larger than anything in a match."""
    return type(value) in (float, int) and -FARTHEST_M <= value <= FARTHEST_M  # type: ignore[operator]


def is_time(value: object) -> bool:
    """Whether a client's number can be a time of its own clock, in seconds."""
    return type(value) in (float, int) and -1e15 < value < 1e15  # type: ignore[operator]


def as_triple(value: object) -> Triple | None:
    """Three numbers of a client as floats; None when they aren't that."""
    if type(value) is tuple and len(value) == 3:
        x, y, z = value
        if type(x) is float and type(y) is float and type(z) is float:
            near = -FARTHEST_M <= x <= FARTHEST_M and -FARTHEST_M <= y <= FARTHEST_M and -FARTHEST_M <= z <= FARTHEST_M
            return value if near else None
    if isinstance(value, (tuple, list)) and len(value) == 3 and all(map(is_number, value)):
        return float(value[0]), float(value[1]), float(value[2])
    return None


def _first_bad_field(claim: ShotClaim, origin: Triple | None, direction: Triple | None) -> str:
    view, victim, part, damage = claim.view, claim.victim, claim.part, claim.damage
    if (  # the usual claim, in one look; what isn't usual is taken apart below
        origin is not None
        and direction is not None
        and type(view) is View
        and type(view.from_tick) is type(view.to_tick) is type(claim.actor) is int
        and type(view.fraction) is float
        and 0 <= view.from_tick <= view.to_tick <= HIGHEST_INTEGER
        and 0.0 <= view.fraction <= FARTHEST_M
        and 0 <= claim.actor <= HIGHEST_INTEGER
        and type(claim.weapon) is str
        and victim is None
        and part is None
        and damage is None
        and len(claim.weapon) <= LONGEST_NAME
    ):
        return ""
    if not is_count(claim.actor):
        return "actor"
    if type(claim.weapon) is not str or len(claim.weapon) > LONGEST_NAME:
        return "weapon"
    if origin is None:
        return "origin"
    if direction is None:
        return "direction"
    if view is None:
        if not is_time(claim.command_time):
            return "command_time" if claim.command_time is not None else "view"
    elif type(view) is not View or not (
        is_count(view.from_tick) and is_count(view.to_tick) and is_number(view.fraction)
    ):
        return "view"
    if victim is not None and not is_count(victim):
        return "victim"
    if part is not None and (type(part) is not str or len(part) > LONGEST_NAME):
        return "part"
    if damage is not None and not is_number(damage):
        return "damage"
    return ""


def check_form(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `malformed` or `direction_not_unit`; works out origin and direction as floats, the latter normalised."""
    origin, direction = as_triple(claim.origin), as_triple(claim.direction)
    field = _first_bad_field(claim, origin, direction)
    if field or origin is None or direction is None:
        given = excerpt(getattr(claim, field))
        context.steps.append(Step("form", f"{field} {given}"))
        return context.find("malformed", detail=f"{field}: {given}")
    x, y, z = direction
    length = math.sqrt(x * x + y * y + z * z)
    context.steps.append(Step("form", length, 1.0))
    if not nearly_unit(length):
        return context.find("direction_not_unit", length, 1.0, "")
    context.origin = origin
    context.direction = (x / length, y / length, z / length)
    return None
