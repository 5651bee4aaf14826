"""Views: what a shooter's screen showed, as two snapshots and a fraction between them; and how clients draw."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from msgspec import Struct

from tinclock.core.errors import BadNumberError
from tinclock.core.timeline.instants import is_finite

if TYPE_CHECKING:
    pass


class View(Struct, frozen=True, array_like=True, gc=False):
    """View of a screen: `fraction` 0 is the snapshot `from_tick`, 1 is `to_tick`; more than 1 extrapolates."""

    from_tick: int
    to_tick: int
    fraction: float


class Interpolation(Struct, frozen=True, gc=False):
    """Interpolation settings of a client: the way it draws other entities.

    interpolation_delay_s : how far behind the fastest snapshots' arrival it draws
    between : what it does between two snapshots: "interpolate", or show the "nearest"
    when_late : what it does when the next snapshot is missing: "hold" the last one, or "extrapolate" the last two
    extrapolate_s : for how long at most; then it holds where it got to
    """

    interpolation_delay_s: float = 0.1
    between: Literal["interpolate", "nearest"] = "interpolate"
    when_late: Literal["hold", "extrapolate"] = "hold"
    extrapolate_s: float = 0.1


def sound_interpolation(interpolation: Interpolation) -> Interpolation:
    """A interpolation that can be used, with floats; raises `BadNumberError` for what isn't one."""
    if not isinstance(interpolation, Interpolation):
        raise BadNumberError("interpolation", "an Interpolation", interpolation)
    for name in ("interpolation_delay_s", "extrapolate_s"):
        value = getattr(interpolation, name)
        if not (is_finite(value) and value >= 0.0):
            raise BadNumberError(f"drawing.{name}", "a finite number of seconds of at least 0", value)
    if interpolation.between not in ("interpolate", "nearest") or interpolation.when_late not in (
        "hold",
        "extrapolate",
    ):
        expected = "between 'interpolate' or 'nearest', when_late 'hold' or 'extrapolate'"
        raise BadNumberError("interpolation", expected, interpolation)
    delay, most = float(interpolation.interpolation_delay_s), float(interpolation.extrapolate_s)
    return Interpolation(delay, interpolation.between, interpolation.when_late, most)
