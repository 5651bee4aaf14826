"""Checks of a claim's form: right types, finite numbers, a unit direction. The gateway, for numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Final

from tinclock.core.kernels.checks.sender import FARTHEST_M
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.claims import (
    ImpactClaim,
    LaunchClaim,
    MeleeClaim,
    MoveClaim,
    ShotClaim,
    StatusClaim,
    TriggerClaim,
    UseClaim,
    WeaponActionClaim,
)
from tinclock.core.text import excerpt
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.work import Work
    from tinclock.core.vectors import Triple

AIMED = (ShotClaim, LaunchClaim, MeleeClaim, TriggerClaim)
HIGHEST_INTEGER = 2**53
LONGEST_NAME = 64


def is_count(value: object) -> bool:
    """True if a client's number is an integer that every language holds exactly."""
    return type(value) is int and -HIGHEST_INTEGER <= value <= HIGHEST_INTEGER


def is_number(value: object) -> bool:
    """True if a client's number is finite and no larger than anything in a match."""
    return type(value) in (float, int) and -FARTHEST_M <= value <= FARTHEST_M  # type: ignore[operator]


def is_time(value: object) -> bool:
    """True if a client's number can be a time of its own clock, in seconds."""
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


def claims_plainly(claim: ShotClaim) -> bool:
    """True if what a shot says of its hit is well formed, and every number of its kind."""
    damage = claim.damage
    return (
        (claim.victim is None or is_count(claim.victim))
        and (claim.part is None or is_name(claim.part))
        and (damage is None or (type(damage) is float and is_number(damage)))
    )


def is_name(value: object) -> bool:
    """True if a client's text can be the name of something in the rules."""
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
_FROM = {"origin": _is_triple, "relative_to": _or_none(is_count)}
_CLAIMED = {"victim": _or_none(is_count), "part": _or_none(is_name), "damage": _or_none(is_number)}
FIELDS: Final[dict[type, dict[str, Callable[[object], bool]]]] = {
    ShotClaim: {**_AIMED, **_FROM, **_CLAIMED, "shot": _or_none(is_count), "charge": _or_none(is_number)},
    LaunchClaim: {**_AIMED, **_FROM, "shot": _or_none(is_count), "charge": _or_none(is_number)},
    ImpactClaim: {
        **_ACTOR,
        "projectile": is_count,
        "flight_time_s": is_number,
        "position": _is_triple,
        "victim": is_count,
        "part": _or_none(is_name),
    },
    MeleeClaim: {**_AIMED, **_FROM, **_CLAIMED},
    TriggerClaim: {**_AIMED, "held": lambda value: type(value) is bool},
    WeaponActionClaim: {
        **_ACTOR,
        "weapon": is_name,
        "action": lambda value: value in ("draw", "reload", "charge", "stop"),
    },
    UseClaim: {**_ACTOR, "item": is_name, "target": _or_none(is_count)},
    MoveClaim: {
        **_ACTOR,
        "position": _is_triple,
        "client_time": is_time,
        "push": _or_none(_is_triple),
        "view": _or_none(_is_view),
        "relative_to": _or_none(is_count),
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
"""Type and range of each field of a claim, beside its sequence number."""


def misfit(claim: Claim, *, needs_view: bool) -> str:
    """The first field of a claim that isn't what it must be, "" for none.

    needs_view : whether one with an aim must say what its screen showed, or when
    """
    for field, fits in FIELDS[type(claim)].items():
        if not fits(getattr(claim, field)):
            return field
    aimed = needs_view and isinstance(claim, AIMED)
    return "view" if aimed and claim.view is None and claim.client_time is None else ""  # type: ignore[union-attr]


def find_malformed(claim: Claim, work: Work) -> Finding | None:
    """Find `malformed`: it names the first field that isn't what it must be."""
    field = misfit(claim, needs_view=bool(work.connection.name))
    given = excerpt(getattr(claim, field))
    work.steps.append(Measure.FIELDS.step(f"{field} {given}", "well formed"))
    return work.find("malformed", detail=f"{field}: {given}")
