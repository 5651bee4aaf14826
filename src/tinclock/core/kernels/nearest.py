"""Nearest point of a triangle."""

from __future__ import annotations

from tinclock.core.kernels.compiling import njit

Triple = tuple[float, float, float]


def _minus(a: Triple, b: Triple) -> Triple:
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@njit(cache=True, error_model="numpy")
def nearest_on_corner(px, py, pz, ex, ey, ez, fx, fy, fz):
    """The point of the triangle 0, e, f nearest to p (Ericson, Real-Time Collision Detection, 2005, section 5.1.5).

    p, e and f are in metres.
    """
    d1, d2 = ex * px + ey * py + ez * pz, fx * px + fy * py + fz * pz
    if d1 <= 0.0 and d2 <= 0.0:
        return 0.0, 0.0, 0.0
    ee, ff, ef = ex * ex + ey * ey + ez * ez, fx * fx + fy * fy + fz * fz, ex * fx + ey * fy + ez * fz
    d3, d4 = d1 - ee, d2 - ef
    if d3 >= 0.0 and d4 <= d3:
        return ex, ey, ez
    d5, d6 = d1 - ef, d2 - ff
    if d6 >= 0.0 and d5 <= d6:
        return fx, fy, fz
    vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        share = d1 / (d1 - d3)
        return share * ex, share * ey, share * ez
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        share = d2 / (d2 - d6)
        return share * fx, share * fy, share * fz
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        share = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return ex + share * (fx - ex), ey + share * (fy - ey), ez + share * (fz - ez)
    whole = va + vb + vc
    v, w = vb / whole, vc / whole
    return v * ex + w * fx, v * ey + w * fy, v * ez + w * fz


def nearest_on_triangle(point: Triple, a: Triple, b: Triple, c: Triple) -> Triple:
    """The point of a triangle nearest to a point."""
    x, y, z = nearest_on_corner(*_minus(point, a), *_minus(b, a), *_minus(c, a))
    return a[0] + x, a[1] + y, a[2] + z
