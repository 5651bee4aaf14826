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

    bound_relative: float = 1e-6
    """Relative. Bounds are tested in float32, which is off by at most a tenth of this; so much of every length involved
    is added to them, so that rounding can't cull what a ray meets."""

    bound_m: float = 1e-5
    """Metres. The same, for lengths near zero."""

    least_slope: float = 1e-30
    """Ratio. A direction's component below it counts as this, where a box test divides by it in float32."""

    beyond_m: float = 1e-6
    """Metres. How far behind moving cover that a shot passed the next cast begins, so that it doesn't meet the same
    face again."""

    largest: float = 1e100
    """Any unit. Places and directions are smaller than this, and directions longer than its inverse, so that no square
    or reciprocal overflows; what isn't is refused, not missed."""

    time_s: float = 1e-9
    """Seconds. Differences of times below it are rounding."""

    side_m: float = 1e-3
    """Metres. A left (right) part's centre must lie at least this far on the body's left (right)."""


TOLERANCES: Final = Tolerances()
