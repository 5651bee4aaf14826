"""Server times as they come from the caller: finite seconds of a match, checked once, before anything changes."""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.errors import BadNumberError

CATCH_UP_S = 1.0
"""Time that is caught up on step by step, shot by shot. After a longer leap of the server's clock held triggers are
let go, what flies ends, and lasting damage is summed: a second's work must never take an hour's time."""
LONGEST_MATCH_S = 1e8
"""Three years. Times beyond it are another clock's, or another unit."""
_MILLISECONDS_FROM = 1e11
HIGHEST_TICK = 2**53


def seconds(name: str, value: object) -> float:
    """A server time as float64 seconds; NumPy scalars are taken.

    Raises `BadNumberError` for what is no number, NaN, infinite, or can't be the seconds of a match.
    """
    if type(value) is float and -LONGEST_MATCH_S <= value <= LONGEST_MATCH_S:
        return value
    if isinstance(value, (bool, np.bool_)) or not isinstance(value, (float, int, np.floating, np.integer)):
        raise BadNumberError(name, "a number of seconds", value)
    try:
        at = float(value)
    except OverflowError:
        at = math.inf
    if not math.isfinite(at):
        raise BadNumberError(name, "a finite number of seconds", value)
    if abs(at) > LONGEST_MATCH_S:
        likely = "milliseconds" if abs(at) >= _MILLISECONDS_FROM else "the seconds since 1970"
        raise BadNumberError(name, f"seconds since the match began; this looks like {likely}", value)
    return at


def tick_number(name: str, value: object) -> int:
    """Return a tick as an integer; NumPy's integers are taken.

    Raises `BadNumberError` for what is no whole number from 0 to 2**53, which every language holds exactly.
    """
    if type(value) is int and 0 <= value <= HIGHEST_TICK:
        return value
    if isinstance(value, (bool, np.bool_)) or not isinstance(value, (int, np.integer)):
        raise BadNumberError(name, "a whole number (server times are seconds, ticks are integers)", value)
    if not 0 <= value <= HIGHEST_TICK:
        raise BadNumberError(name, "a whole number from 0 to 2**53", value)
    return int(value)


def are_seconds(values: list[float]) -> bool:
    """True if all can be seconds of a match, and are floats: then `seconds` gives each as it is."""
    if not values or set(map(type, values)) != {float}:
        return not values
    return min(values) >= -LONGEST_MATCH_S and max(values) <= LONGEST_MATCH_S and math.isfinite(sum(values))


def is_finite(value: object) -> bool:
    """True if something is a finite number, Python's or NumPy's."""
    number = isinstance(value, (float, int, np.floating, np.integer)) and not isinstance(value, (bool, np.bool_))
    return number and math.isfinite(value)  # type: ignore[arg-type]
