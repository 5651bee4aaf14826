"""Events of shots and melee attacks, for clients that draw tracers and impacts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.events import ShotEnd, ShotEvent

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.ruling.hits import Stop
    from tinclock.core.vectors import Triple

PLACES = 3
"""Decimal places of positions in these events: a millimetre, to keep them small."""


def rounded(position: Triple) -> Triple:
    """Return a position in metres, rounded for an event."""
    x, y, z = position
    return round(x, PLACES), round(y, PLACES), round(z, PLACES)


def along(origin: Triple, direction: Triple, distance_m: float) -> Triple:
    """Return the place at a distance along a unit direction."""
    (x, y, z), (a, b, c) = origin, direction
    return x + a * distance_m, y + b * distance_m, z + c * distance_m


def end_of(position: Triple, stopped_by: Stop | None, part: str = "") -> ShotEnd:
    """Return the end of a ray. part : of the body that it met"""
    if stopped_by is None:
        return ShotEnd(rounded(position))
    if stopped_by.kind == "body":
        return ShotEnd(rounded(position), stopped_by.entity, part)
    return ShotEnd(rounded(position), surface=stopped_by.name)


def tell_shot(
    ledger: Ledger, now: float, entity: int, weapon: str, sequence: int, start: Triple, ends: Sequence[ShotEnd]
) -> None:
    """Publish a committed shot or melee attack, where the rules say so."""
    if ledger.publishes_shots:
        bulletin = ledger.bulletin
        bulletin.tell(ShotEvent(bulletin.next, now, entity, weapon, rounded(start), tuple(ends), sequence))
