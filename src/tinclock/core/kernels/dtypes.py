"""Structured dtypes of the records in `fields`, and the functions by which kernels open one by its address.

A kernel reads `line.jitter_s`; Python's objects show the same numbers under the same names (`core.packed`), by the
places of the fields.
"""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from tinclock.core.kernels.fields import (
    BodyFields,
    ClaimFields,
    FoundFields,
    HeldFields,
    LineFields,
    MovedFields,
    RulesFields,
    WeaponFields,
)
from tinclock.core.kernels.memory import record_at


def places(fields: type, start: int = 0) -> tuple[int, ...]:
    """Return the places of a row's fields, in their order."""
    return tuple(range(start, start + len(fields._fields)))  # type: ignore[attr-defined]


LINE: Final = LineFields(*places(LineFields))
MOVED: Final = MovedFields(*places(MovedFields))
BODY: Final = BodyFields(*places(BodyFields))
HELD: Final = HeldFields(*places(HeldFields))
WEAPON: Final = WeaponFields(*places(WeaponFields))
RULES: Final = RulesFields(*places(RulesFields))
CLAIM: Final = ClaimFields(*places(ClaimFields))
FOUND: Final = FoundFields(*places(FoundFields))


def _dtype(fields: type, *more: Any, **nested: Any) -> np.dtype[Any]:
    """Return the dtype of a row: each field a float64, those in `nested` records of their own, `more` behind them."""
    out: list[Any] = []
    skip = 0
    for name in fields._fields:  # type: ignore[attr-defined]
        if skip:
            skip -= 1
        elif name in nested:
            out.append((name, nested[name]))
            skip = len(nested[name].names) - 1
        else:
            out.append((name, "f8"))
    return np.dtype([*out, *more])


def _floats(names: str) -> np.dtype[Any]:
    return np.dtype([(name, "f8") for name in names.split()])


MAX_PLACES: Final = 64
MAX_STEPS: Final = 32
MAX_FINDINGS: Final = 16
MIN_T: Final = _floats("value count span_s ring")
"""Of values that came in lately: the least, how many, the time between first and last, and where they lie; `least`."""
PLACE_T: Final = _floats("since x y z")
"""Accepted position of a body from a server time on, metres."""
STEP_T: Final = _floats("what observed limit verdict")
FINDING_T: Final = _floats("code observed limit more")
"""`more` is what a finding's words need besides."""
LINE_T: Final = _dtype(LineFields, pong_trip=MIN_T, claim_trip=MIN_T)
MOVED_T: Final = _dtype(MovedFields, ("places", PLACE_T, (MAX_PLACES,)))
"""`places` is a ring."""
BODY_T, HELD_T, WEAPON_T, RULES_T, CLAIM_T = map(
    _dtype, (BodyFields, HeldFields, WeaponFields, RulesFields, ClaimFields)
)
FOUND_T: Final = _dtype(FoundFields, ("step_rows", STEP_T, (MAX_STEPS,)), ("finding_rows", FINDING_T, (MAX_FINDINGS,)))
line_row, moved_row = record_at("line", LINE_T), record_at("moved", MOVED_T)
body_row, held_row = record_at("body", BODY_T), record_at("held", HELD_T)
weapon_row, rules_row = record_at("weapon", WEAPON_T), record_at("rules", RULES_T)
claim_row, found_row = record_at("claim", CLAIM_T), record_at("found", FOUND_T)
"""Functions of kernels that open each kind of row by its address."""

PLACES_FROM: Final = len(MOVED)
"""Place of a body's accepted positions in its row: a ring, each a server time and a position in metres."""
PLACE_FIELDS: Final = 4
STEPS_FROM: Final = len(FOUND)
"""Place of a claim's steps in its results: four numbers each."""
STEP, OBSERVED, LIMIT, VERDICT = 0, 1, 2, 3
STEP_FIELDS: Final = 4
FINDINGS_FROM: Final = STEPS_FROM + MAX_STEPS * STEP_FIELDS
"""Place of its findings: four numbers each; `MORE` is for the finding's words."""
CODE, MEASURED, AGAINST, MORE = 0, 1, 2, 3
FINDING_FIELDS: Final = 4
FOUND_LENGTH: Final = FINDINGS_FROM + MAX_FINDINGS * FINDING_FIELDS

OWN, LENT, FOREIGN = 0.0, 1.0, 2.0
IN_HAND, ANOTHER, UNHEARD_OF, NOT_CARRIED = 0.0, 1.0, 2.0, 3.0
OK, FLAGGED, ADJUSTED, REJECTED = 0.0, 1.0, 2.0, 3.0
HITSCAN, PELLETS, PROJECTILE, REACH = 0.0, 1.0, 2.0, 3.0
