"""The small numbers that geometry needs, in one place, each with its unit and its reason."""

from __future__ import annotations

from typing import Final, NamedTuple


class Tolerances(NamedTuple):
    """Numerical tolerances. None of them forgives a player anything; allowances live in the rules."""

    unit_length: float = 1e-3
    """Relative. A recorded quaternion may be this far from unit length (float32 math on the server) and is
    normalised; further off it is a mistake and raises."""

    rotation_length: float = 2e-2
    """Absolute. A quaternion in a rules file may be this far from unit length (typed with two digits); it is
    normalised."""

    direction_length: float = 1e-3
    """Relative. A claimed direction may be this far from unit length; it is normalised before use."""

    parallel_sine_squared: float = 1e-20
    """Ratio. Below it a ray counts as parallel to a capsule's axis, where the cylinder equation divides by it."""

    product_relative: float = 1e-15
    """Relative. A difference of two products that is smaller than this share of them is worked out exactly: four times
    what rounding can be off."""

    bound_relative: float = 1e-6
    """Relative. Bounds are tested in float32, which is off by at most a tenth of this; so much of every length involved
    is added to them, so that rounding can't cull what a ray meets."""

    bound_m: float = 1e-5
    """Metres. The same, for lengths near zero."""

    min_slope: float = 1e-30
    """Ratio. A direction's component below it counts as this, where a box test divides by it in float32."""

    beyond_m: float = 1e-6
    """Metres. How far behind moving cover that a shot passed the next cast begins, so that it doesn't meet the same
    face again."""

    largest: float = 1e100
    """Any unit. Places and directions are smaller than this, and directions longer than its inverse, so that no square
    or reciprocal overflows; what isn't is refused, not missed."""

    time_s: float = 1e-9
    """Seconds. Differences of times below it are rounding."""

    time_relative: float = 1e-15
    """Ratio. What time goes on by at least, against itself, so that it goes on at all however late in a match."""

    touch_m: float = 1e-6
    """Metres. What flies touches a surface from this gap on; at 1 m/s that is a microsecond."""

    skin_m: float = 1e-5
    """Metres. What bounced starts so far off the surface, so that it doesn't meet it again at once."""

    aside_m: float = 1e-3
    """Metres. Directions off a body, and lines of sight from a burst, begin so far off the surface: nearer by, the
    direction would be rounding, and the surface that was hit would hide everything."""

    step_s: float = 1e-7
    """Seconds. Searches for a first contact don't advance by less."""

    closing_m_s: float = 1e-3
    """Metres a second. Below it a contact is a graze, whose instant can't be made more exact."""

    upright: float = 1e-9
    """Ratio. A direction whose level part is shorter counts as straight up or down, where its left is asked for."""

    min_turn: float = 1e-9
    """Radians. A smaller turn of what homes goes straight: dividing by its angle would be rounding."""

    min_across: float = 1e-12
    """Ratio. The sine of the angle to a target below which what homes flies at it already."""

    min_square: float = 1e-30
    """Square metres. A way shorter than its root counts as this, where a share of it is worked out in float32."""

    short_of: float = 1e-9
    """Ratio. A search that may go on up to a contact stops short of it by so much."""

    series_cosine: float = 0.9
    """Ratio. Rotations whose half angle has a larger cosine are blended by a power series, good to 1e-10 there."""

    stick: float = 1e-3
    """Ratio. An input may be so much longer than 1: rounding of a client's normalisation."""

    side_m: float = 1e-3
    """Metres. A left (right) part's centre must lie at least this far on the body's left (right)."""


TOLERANCES: Final = Tolerances()
