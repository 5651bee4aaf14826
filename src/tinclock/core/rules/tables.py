"""Types of a rules file's values: bounded numbers, names, points, and the common base of its tables."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, Struct

Positive = Annotated[float, Meta(gt=0)]
NotNegative = Annotated[float, Meta(ge=0)]
Share = Annotated[float, Meta(ge=0, le=1)]
HalfTurn = Annotated[float, Meta(ge=0, le=180)]
"""Degrees."""
Count = Annotated[int, Meta(ge=1, le=1_000_000)]
Whole = Annotated[int, Meta(ge=0, le=1_000_000)]
Interval = Annotated[float, Meta(ge=0.001)]
"""Seconds between two things that a weapon does: a server's second has no room for more than a thousand."""
Point = tuple[float, float, float]
Name = Annotated[str, Meta(min_length=1, max_length=64)]


class Table(Struct, frozen=True, forbid_unknown_fields=True):
    """A table of a rules file: frozen, and without room for keys that nobody reads."""


EffectName = Literal["shield", "boost", "speed", "free_movement"]
"""Effects for a time: no damage, more damage, another speed, moves without limits."""
