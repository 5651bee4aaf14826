"""Whether a claim is well formed: right types, finite numbers, a unit direction. The border, for numbers."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

from tinclock.core.ruling.claims import (
    HandleClaim,
    ImpactClaim,
    LaunchClaim,
    MoveClaim,
    ShotClaim,
    StatusClaim,
    StrikeClaim,
    TriggerClaim,
    UseClaim,
)
from tinclock.core.ruling.steps import Measure
from tinclock.core.text import excerpt
from tinclock.core.timeline.views import View
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.shot import ShotWork
    from tinclock.core.ruling.work import AimedWork, Work
    from tinclock.core.vectors import Triple

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


def check_form(claim: ShotClaim, work: ShotWork) -> Finding | None:
    """Find `malformed` or `direction_not_unit`; works out origin and direction as floats, the latter normalised."""
    if work.usual:
        work.origin = claim.origin
        return _check_direction(claim.direction, work)
    field = next((field for field, fits in FIELDS[ShotClaim].items() if not fits(getattr(claim, field))), "")
    if not field and claim.view is None and claim.client_time is None and work.connection.name:
        field = "view"
    origin, direction = as_triple(claim.origin), as_triple(claim.direction)
    if field or origin is None or direction is None:
        return _malformed(field, claim, work)
    work.origin = origin
    return _check_direction(direction, work)


def is_usual(claim: ShotClaim) -> bool:
    """Whether a claim is well formed, in one look, for the usual ones; the others are looked at field by field."""
    view, origin, direction = claim.view, claim.origin, claim.direction
    if not (
        type(view) is View
        and type(origin) is type(direction) is tuple
        and len(origin) == len(direction) == 3
        and claim.victim is None
        and claim.part is None
        and claim.damage is None
        and claim.shot is None
        and claim.charge is None
        and claim.client_time is None
        and type(claim.weapon) is str
        and 0 < len(claim.weapon) <= LONGEST_NAME
        and type(view.from_tick) is type(view.to_tick) is type(claim.actor) is int
        and type(view.fraction) is float
    ):
        return False
    (x, y, z), (a, b, c) = origin, direction
    return (
        type(x) is type(y) is type(z) is type(a) is type(b) is type(c) is float
        and x * x + y * y + z * z <= FARTHEST_M * FARTHEST_M
        and a * a + b * b + c * c <= FARTHEST_M * FARTHEST_M
        and 0 <= view.from_tick <= view.to_tick <= HIGHEST_INTEGER
        and 0.0 <= view.fraction <= FARTHEST_M
        and 0 <= claim.actor <= HIGHEST_INTEGER
    )


def _malformed(field: str, claim: object, work: Work) -> Finding:
    given = excerpt(getattr(claim, field))
    work.steps.append(Measure.FIELDS.step(f"{field} {given}", "well formed"))
    return work.find("malformed", detail=f"{field}: {given}")


def _check_direction(direction: Triple, work: AimedWork) -> Finding | None:
    x, y, z = direction
    length = math.sqrt(x * x + y * y + z * z)
    work.steps.append(Measure.FORM.step(length, 1.0))
    if not abs(length - 1.0) <= TOLERANCES.direction_length:
        return work.find("direction_not_unit", length, 1.0)
    work.direction = (x / length, y / length, z / length)
    return None


def is_name(value: object) -> bool:
    """Whether a client's text can be the name of something in the rules."""
    return type(value) is str and 0 < len(value) <= LONGEST_NAME


def _is_triple(value: object) -> bool:
    return as_triple(value) is not None


def _is_view(value: object) -> bool:
    return type(value) is View and is_count(value.from_tick) and is_count(value.to_tick) and is_number(value.fraction)


def _or_none(fits: Callable[[object], bool]) -> Callable[[object], bool]:
    return lambda value: value is None or fits(value)


_ACTOR = {"actor": is_count}
_SEEN = {"view": _or_none(_is_view), "client_time": _or_none(is_time)}
_AIMED = {**_ACTOR, "weapon": is_name, "direction": _is_triple, **_SEEN}
_CLAIMED = {"victim": _or_none(is_count), "part": _or_none(is_name), "damage": _or_none(is_number)}
FIELDS: Final[dict[type, dict[str, Callable[[object], bool]]]] = {
    ShotClaim: {**_AIMED, "origin": _is_triple, **_CLAIMED, "shot": _or_none(is_count), "charge": _or_none(is_number)},
    LaunchClaim: {**_AIMED, "origin": _is_triple, "shot": _or_none(is_count), "charge": _or_none(is_number)},
    ImpactClaim: {
        **_ACTOR,
        "projectile": is_count,
        "flown_s": is_number,
        "position": _is_triple,
        "victim": is_count,
        "part": _or_none(is_name),
    },
    StrikeClaim: {**_AIMED, "origin": _is_triple, **_CLAIMED},
    TriggerClaim: {**_AIMED, "held": lambda value: type(value) is bool},
    HandleClaim: {**_ACTOR, "weapon": is_name, "action": lambda value: value in ("draw", "reload", "charge", "stop")},
    UseClaim: {**_ACTOR, "item": is_name, "target": _or_none(is_count)},
    MoveClaim: {
        **_ACTOR,
        "position": _is_triple,
        "client_time": is_time,
        "push": _or_none(_is_triple),
        "view": _or_none(_is_view),
    },
    StatusClaim: {
        **_ACTOR,
        "health": _or_none(is_number),
        "armour": _or_none(is_number),
        "ammunition": _or_none(is_count),
        "position": _or_none(_is_triple),
        **_SEEN,
    },
}
"""What each field of a claim must be, beside its sequence number."""


def check_fields(claim: Claim, work: Work) -> Finding | None:
    """Find `malformed`, for every kind of claim, field by field."""
    for field, fits in FIELDS[type(claim)].items():
        if not fits(getattr(claim, field)):
            return _malformed(field, claim, work)
    work.steps.append(Measure.FIELDS.step("well formed"))
    return None


def check_aimed_fields(claim: LaunchClaim | StrikeClaim | TriggerClaim, work: AimedWork) -> Finding | None:
    """`check_form` for other claims with an aim, field by field; works out the same."""
    for field, fits in FIELDS[type(claim)].items():
        if not fits(getattr(claim, field)):
            return _malformed(field, claim, work)
    if claim.view is None and claim.client_time is None and work.connection.name:
        return _malformed("view", claim, work)
    if not isinstance(claim, TriggerClaim):
        work.origin = as_triple(claim.origin) or (0.0, 0.0, 0.0)
    return _check_direction(as_triple(claim.direction) or (0.0, 0.0, 0.0), work)
