"""Kernel: how long a vector is, correctly rounded: the same number on every machine and in every language."""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.ray_shapes import exact_product


@inner
def exact_sum(a, b):
    """A sum and what its rounding left out, in the summands' unit (Knuth, The Art of Computer Programming 2, 4.2.2)."""
    total = a + b
    part = total - a
    return total, (a - (total - part)) + (b - part)


@njit(cache=True, error_model="numpy")
def length_of(x, y, z):
    """The length of a vector, in its own unit.

    Squares and sums are taken with what their rounding leaves out, and the root is corrected once (Borges, An Improved
    Algorithm for hypot(a, b), 2020). Components must be below 1e150.
    """
    a, da = exact_product(x, x)
    b, db = exact_product(y, y)
    c, dc = exact_product(z, z)
    total, left = exact_sum(a, b)
    total, more = exact_sum(total, c)
    low = ((da + db) + dc) + (left + more)
    if not total + low > 0.0:
        return 0.0
    root = math.sqrt(total + low)
    square, rest = exact_product(root, root)
    return root + (((total - square) - rest) + low) / (2.0 * root)
