"""The small numbers that geometry needs, in one place, each with its unit and its reason."""

from __future__ import annotations

from typing import Final, NamedTuple


class Tolerances(NamedTuple):
    """Numerical tolerances. None of them forgives a player anything; allowances live in the rules."""

    unit_length: float = 1e-3
    """Relative. A recorded quaternion may be this far from unit length (float32 math on the server) and is
    normalised; further off it is a mistake and raises."""

    direction_length: float = 1e-3
    """Relative. A claimed direction may be this far from unit length; it is normalised before use."""

    parallel_sine_squared: float = 1e-20
    """Ratio. Below it a ray counts as parallel to a capsule's axis, where the cylinder equation divides by it."""

    bound_slack: float = 1e-9
    """Relative to the squared distance. Widens bounding spheres so that rounding can't cull a grazing hit."""

    largest: float = 1e100
    """Any unit. Places and directions are smaller than this, and directions longer than its inverse, so that no square
    or reciprocal overflows; what isn't is refused, not missed."""

    side_m: float = 1e-3
    """Metres. A left (right) part's centre must lie at least this far on the body's left (right)."""


TOLERANCES: Final = Tolerances()
