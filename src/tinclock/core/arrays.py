"""Checks on array arguments: the one place where a wrong shape or a NaN turns into a message."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, TypeVar

import numpy as np

from tinclock.core.errors import BadArrayError, BadNumberError
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

Kind = TypeVar("Kind", bound=np.generic)


def require_shape(name: str, value: ArrayLike, shape: tuple[int | None, ...], dtype: type[Kind]) -> NDArray[Kind]:
    """`value` as a contiguous array of that shape (None: any length) and kind; raises `BadArrayError`.

    The array keeps its own unit: nothing is converted but its kind. Letters in `shape`, as (n, 3), are None here.
    """
    if (
        type(value) is np.ndarray
        and value.dtype == dtype
        and value.ndim == len(shape)
        and value.flags.c_contiguous
        and all(n is None or n == m for n, m in zip(shape, value.shape, strict=True))
    ):
        return value  # as nearly all are: nothing to look into
    wanted = "(" + ", ".join("any" if n is None else str(n) for n in shape) + ")"
    expected = f"shape {wanted}, {np.dtype(dtype).name}"
    try:
        array = np.ascontiguousarray(value)
        if len(shape) and array.size == 0 and array.ndim == 1:
            array = array.reshape(tuple(0 if n is None else n for n in shape))
        fractional = array.dtype.kind == "f" and np.issubdtype(dtype, np.integer) and array.size > 0
        if array.dtype.kind not in "iufb" or fractional:
            raise BadArrayError(name, expected, f"shape {array.shape}, {array.dtype}")
        kept = array.astype(dtype, copy=False)
    except (TypeError, ValueError) as error:
        if isinstance(error, BadArrayError):
            raise
        raise BadArrayError(name, expected, f"{type(value).__name__} ({error})") from error
    if array.ndim != len(shape) or any(n is not None and n != m for n, m in zip(shape, array.shape, strict=True)):
        raise BadArrayError(name, expected, f"shape {array.shape}, {array.dtype}")
    return kept


def spread(name: str, value: ArrayLike, count: int, dtype: type[Kind]) -> NDArray[Kind]:
    """One value for all rays, or one a ray, as a contiguous array: (count,), in the value's own unit."""
    if np.ndim(value) == 0:
        return np.full(count, value, dtype)
    return require_shape(name, value, (count,), dtype)


def require_limits(limits_m: ArrayLike, count: int) -> NDArray[np.float64]:
    """Return rays' ranges, metres: one for all or one per ray, (count,) float64; raises `BadArrayError` for NaN."""
    limits = spread("limits_m", limits_m, count, np.float64)
    if not (limits >= 0.0).all():
        row = int(np.argmin(limits >= 0.0))
        raise BadArrayError("limits_m", "numbers of at least 0", f"{limits[row]}", row)
    return limits


def check_finite(name: str, array: NDArray[np.generic]) -> None:
    """Raise `BadArrayError` naming the first row with a NaN or an infinity.

    array : (n, ...), in any unit.
    """
    if not np.isfinite(array).all():
        row = int(np.argwhere(~np.isfinite(array))[0][0])
        raise BadArrayError(name, "finite numbers", f"{np.asarray(array[row]).tolist()}", row)


def require_rays(origins: ArrayLike, directions: ArrayLike) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Origins and unit directions as (m, 3) float64; directions are normalised.

    Raises `BadArrayError` for wrong shapes, for numbers that aren't finite or too large to square, and for directions
    without a length.
    """
    start = require_shape("origins", origins, (None, 3), np.float64)
    along = require_shape("directions", directions, (len(start), 3), np.float64)
    check_finite("origins", start)
    check_finite("directions", along)
    largest = np.abs(along).max(axis=1, initial=0.0)
    least, most = 1.0 / TOLERANCES.largest, TOLERANCES.largest
    if largest.size and not (largest.min() > least and largest.max() < most):
        row = int(np.argmin((largest > least) & (largest < most)))
        raise BadArrayError("directions", "vectors with a length", f"{along[row].tolist()}", row)
    if start.size and not np.abs(start).sum(axis=1).max() < most:
        row = int(np.argmax(np.abs(start).sum(axis=1)))
        raise BadArrayError("origins", f"places nearer than {most:g} m", f"{start[row].tolist()}", row)
    along = along * (1.0 / largest)[:, None]  # as in unit_direction, operation by operation: equal to the bit
    x, y, z = along[:, 0], along[:, 1], along[:, 2]
    return start, along * (1.0 / np.sqrt(x * x + y * y + z * z))[:, None]


def unit_direction(direction: tuple[float, float, float]) -> tuple[float, float, float]:
    """One direction, normalised; raises `BadArrayError` for non-finite ones and ones without a length."""
    x, y, z = direction
    largest = max(abs(x), abs(y), abs(z))
    if not (1.0 / TOLERANCES.largest < largest < TOLERANCES.largest and x == x and y == y and z == z):
        raise BadArrayError("direction", "a finite vector with a length", f"{list(direction)}")
    shrink = 1.0 / largest
    x, y, z = x * shrink, y * shrink, z * shrink
    shrink = 1.0 / math.sqrt(x * x + y * y + z * z)
    return x * shrink, y * shrink, z * shrink


Point = tuple[float, float, float]


def sound_ray(origin: Point, direction: Point, limit_m: float) -> tuple[Point, Point, float]:
    """One ray as kernels take it: origin, unit direction and limit, all floats.

    A direction within rounding of unit length stays as it is. Raises `BadArrayError` for an origin that isn't a place
    and for a direction without a length, `BadNumberError` for a limit that is NaN or negative.
    """
    ox, oy, oz = float(origin[0]), float(origin[1]), float(origin[2])
    if not abs(ox) + abs(oy) + abs(oz) < TOLERANCES.largest:
        raise BadArrayError("origin", "finite numbers", f"{list(origin)}")
    if not limit_m >= 0.0:
        raise BadNumberError("limit_m", "a number of at least 0", limit_m)
    dx, dy, dz = float(direction[0]), float(direction[1]), float(direction[2])
    if not abs(dx * dx + dy * dy + dz * dz - 1.0) <= TOLERANCES.product_relative:
        dx, dy, dz = unit_direction((dx, dy, dz))
    return (ox, oy, oz), (dx, dy, dz), float(limit_m)
