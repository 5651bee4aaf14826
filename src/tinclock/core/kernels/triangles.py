"""Kernels: an eight-wide bounding-volume tree over triangles. Built once, cast against many times.

The binary tree is built by the binned surface-area heuristic (Wald, On fast construction of SAH-based bounding
volume hierarchies, 2007) and then flattened so that each node holds up to eight children, whose boxes one ray meets
in one vectorised loop (Dammertz, Hanika and Keller, Shallow bounding volume hierarchies for fast SIMD ray tracing,
2008). Boxes are float32, widened by more than their rounding; triangles are float64, so hits are exact.

`header` (see `core.memory`) leads to
    0 boxes : (nodes, 2, 3, 8) float32, metres     lower and upper corners of eight children
    1 children : (nodes, 2, 8) int32               node or first triangle; number of triangles (0: a node, -1: nothing)
    2 triangles : (n, 9) float64, metres           three corners, so that neighbours share theirs to the bit
    3 face : (n,) int64                            the triangle's row in the level's faces
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import (
    BOX_BYTES,
    BOXES_AT,
    CHILD_BYTES,
    CHILDREN_AT,
    FACES_AT,
    TRIANGLE_BYTES,
    TRIANGLES_AT,
)
from tinclock.core.kernels.memory import float32_at, float64_at, int32_at, int64_at
from tinclock.core.kernels.ray_shapes import clamp, ray_triangle, shear_of
from tinclock.core.kernels.sweep_shapes import line_round_triangle
from tinclock.core.tolerances import TOLERANCES

WIDTH = 8
LEAF_SIZE = 4
BINS = 16
STACK = 512
INF = math.inf
_SHORT, _LONG = 1.0 / TOLERANCES.largest, TOLERANCES.largest
_RELATIVE, _ABSOLUTE_M, _FLAT = TOLERANCES.bound_relative, TOLERANCES.bound_m, TOLERANCES.min_slope


@inner
def _area(lo, hi):
    """Half the surface of a box, square metres; 0 for an empty one. lo, hi : (3,) float64, metres"""
    x, y, z = hi[0] - lo[0], hi[1] - lo[1], hi[2] - lo[2]
    if x < 0.0:
        return 0.0
    return x * y + y * z + z * x


@inner
def _nothing(lo, hi):
    """Make a box (3,) empty: its corners in metres."""
    for k in range(3):
        lo[k], hi[k] = INF, -INF


@inner
def _around(lo, hi, also_lo, also_hi):
    """Make a box (3,) hold another one too; corners in metres."""
    for k in range(3):
        lo[k], hi[k] = min(lo[k], also_lo[k]), max(hi[k], also_hi[k])


@inner
def _bounds(lo, hi, order, first, last, out_lo, out_hi):
    """The box around items first..last of an order into out_lo, out_hi : (3,). lo, hi : (n, 3) float64, metres"""
    _nothing(out_lo, out_hi)
    for row in range(first, last):
        item = order[row]
        _around(out_lo, out_hi, lo[item], hi[item])


@inner
def _best_split(lo, hi, mid, order, first, last):
    """The axis and plane with the least expected cost; axis -1 when all midpoints coincide.

    Corners are (n, 3) float64, metres; costs are square metres.
    """
    best_cost, best_axis, best_at = INF, -1, 0.0
    count = np.empty(BINS, np.int64)
    bin_lo, bin_hi = np.empty((BINS, 3)), np.empty((BINS, 3))
    right_cost = np.empty(BINS)
    run_lo, run_hi = np.empty(3), np.empty(3)
    for axis in range(3):
        low, high = INF, -INF
        for place in range(first, last):
            low, high = min(low, mid[order[place], axis]), max(high, mid[order[place], axis])
        if high <= low:
            continue
        scale = BINS / (high - low)
        for b in range(BINS):
            count[b] = 0
            _nothing(bin_lo[b], bin_hi[b])
        for place in range(first, last):
            item = order[place]
            b = min(BINS - 1, int((mid[item, axis] - low) * scale))
            count[b] += 1
            _around(bin_lo[b], bin_hi[b], lo[item], hi[item])
        _sweep_right(count, bin_lo, bin_hi, right_cost, run_lo, run_hi)
        _nothing(run_lo, run_hi)
        total = 0
        for b in range(BINS - 1):
            total += count[b]
            _around(run_lo, run_hi, bin_lo[b], bin_hi[b])
            if total == 0 or total == last - first:
                continue
            cost = total * _area(run_lo, run_hi) + right_cost[b + 1]
            if cost < best_cost:
                best_cost, best_axis, best_at = cost, axis, low + (b + 1) / scale
    return best_axis, best_at


@inner
def _sweep_right(count, bin_lo, bin_hi, right_cost, run_lo, run_hi):
    """Write the cost of the right side of a split before each bin into right_cost : (bins,), square metres.

    count : (bins,) int64; bin_lo, bin_hi : (bins, 3) float64, metres; run_lo, run_hi : (3,) float64, scratch
    """
    _nothing(run_lo, run_hi)
    total = 0
    for b in range(BINS - 1, 0, -1):
        total += count[b]
        _around(run_lo, run_hi, bin_lo[b], bin_hi[b])
        right_cost[b] = total * _area(run_lo, run_hi)


@njit(cache=True, nogil=True, error_model="numpy")
def build_binary(lo, hi):
    """Binary tree over the boxes lo, hi : (n, 3). Returns order and the nodes: boxes, left, right, first, count.

    Corners are (n, 3) float64, metres.
    """
    n = lo.shape[0]
    mid, order = np.empty((n, 3)), np.empty(n, np.int64)
    for item in range(n):
        order[item] = item
        for k in range(3):
            mid[item, k] = (lo[item, k] + hi[item, k]) * 0.5
    size = max(1, 2 * n)
    node_lo, node_hi = np.empty((size, 3)), np.empty((size, 3))
    left, right = np.empty(size, np.int64), np.empty(size, np.int64)
    first, count, stack = np.empty(size, np.int64), np.empty(size, np.int64), np.empty(size, np.int64)
    first[0], count[0], stack[0], left[0], right[0] = 0, n, 0, -1, -1
    waiting, used = 1, 1
    while waiting > 0:
        waiting -= 1
        node = stack[waiting]
        begin, end = first[node], first[node] + count[node]
        _bounds(lo, hi, order, begin, end, node_lo[node], node_hi[node])
        if count[node] <= LEAF_SIZE:
            continue
        axis, at = _best_split(lo, hi, mid, order, begin, end)
        cut = begin
        if axis >= 0:
            for place in range(begin, end):
                if mid[order[place], axis] < at:
                    order[place], order[cut] = order[cut], order[place]
                    cut += 1
        if cut in (begin, end):
            cut = (begin + end) // 2
        left[node], right[node] = used, used + 1
        left[used], right[used], left[used + 1], right[used + 1] = -1, -1, -1, -1
        first[used], count[used] = begin, cut - begin
        first[used + 1], count[used + 1] = cut, end - cut
        stack[waiting], stack[waiting + 1] = used, used + 1
        waiting, used = waiting + 2, used + 2
    return order, node_lo[:used], node_hi[:used], left[:used], right[:used], first[:used], count[:used]


@njit(cache=True, nogil=True, error_model="numpy")
def widen(node_lo, node_hi, left, right, first, count, slack):
    """Flatten the binary tree: boxes (m, 2, 3, 8) float32 widened by `slack` metres, children (m, 2, 8) int32.

    children[:, 0] is a node index (inner) or the first triangle (leaf), children[:, 1] the number of triangles: 0 for
    an inner node, -1 for an empty place.
    """
    size = max(1, node_lo.shape[0])
    boxes = np.empty((size, 2, 3, WIDTH), np.float32)
    children = np.zeros((size, 2, WIDTH), np.int32)
    members = np.empty(WIDTH, np.int64)
    source = np.zeros(size, np.int64)
    used, done = 1, 0
    while done < used:
        held = 1
        members[0] = source[done]
        while held < WIDTH:
            widest, place = -1.0, -1
            for k in range(held):
                if left[members[k]] >= 0:
                    area = _area(node_lo[members[k]], node_hi[members[k]])
                    if area > widest:
                        widest, place = area, k
            if place < 0:
                break
            parent = members[place]
            members[place] = left[parent]
            members[held] = right[parent]
            held += 1
        for k in range(WIDTH):
            if k >= held:
                for axis in range(3):
                    boxes[done, 0, axis, k], boxes[done, 1, axis, k] = np.float32(INF), np.float32(-INF)
                children[done, 1, k] = -1
                continue
            member = members[k]
            for axis in range(3):
                boxes[done, 0, axis, k] = np.float32(node_lo[member, axis] - slack)
                boxes[done, 1, axis, k] = np.float32(node_hi[member, axis] + slack)
            if left[member] < 0:
                children[done, 0, k], children[done, 1, k] = first[member], count[member]
            else:
                children[done, 0, k] = used
                source[used] = member
                used += 1
        done += 1
    return boxes[:used].copy(), children[:used].copy()


@inner
def _inverse(d):
    """1 over a component of a unit direction, for a box test in float32; no unit."""
    if abs(d) < _FLAT:
        return np.float32(1.0 / _FLAT) if d >= 0.0 else np.float32(-1.0 / _FLAT)
    return np.float32(1.0 / d)


@inner
def _meet_children(box, ox, oy, oz, ix, iy, iz, radius, limit, enter, met):
    """Find the boxes of a node that a ball meets: places into `met`, distances into `enter`. Returns their number.

    box : pointer to the node's lower x, y, z and upper x, y, z, eight each
    """
    lx, ly, lz, hx, hy, hz = ox + radius, oy + radius, oz + radius, ox - radius, oy - radius, oz - radius
    for k in range(WIDTH):
        ax, bx = (box[k] - lx) * ix, (box[24 + k] - hx) * ix
        ay, by = (box[8 + k] - ly) * iy, (box[32 + k] - hy) * iy
        az, bz = (box[16 + k] - lz) * iz, (box[40 + k] - hz) * iz
        near = max(max(min(ax, bx), min(ay, by)), max(min(az, bz), np.float32(0.0)))
        far = min(min(max(ax, bx), max(ay, by)), min(max(az, bz), limit))
        enter[k] = near if near <= far else np.float32(np.inf)
    count = 0
    for k in range(WIDTH):  # no branch: which boxes are met can't be predicted
        met[count] = k
        count += enter[k] < np.float32(np.inf)
    return count


@inner
def first_triangle(ray, radius, limit, header, scratch):
    """The first triangle within `limit` metres that a ray meets from in front or behind; with a radius, a ball.

    ray : (ox, oy, oz, dx, dy, dz), from the level's middle, metres, and unit
    Returns (row, distance, facing); row -1 when there is none.

    Of triangles at exactly the same distance the one with the lower face number wins. Scratch, the caller's: (nodes,
    nears, enter, met), (STACK,) int32, (STACK,) float32, (WIDTH,) float32 and (WIDTH + 1,) int32.
    """
    ox, oy, oz, dx, dy, dz = ray
    nodes, nears, enter, met = scratch
    best, best_row, best_facing = limit, -1, 0.0
    face = int64_at(header[FACES_AT])
    fx, fy, fz = np.float32(ox), np.float32(oy), np.float32(oz)
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    kx, ky, kz, sx, sy, sz = shear_of(dx, dy, dz)
    # a ray that starts far outside the level is rounded by more than the boxes were widened
    fr = np.float32(radius + _RELATIVE * (abs(ox) + abs(oy) + abs(oz)))
    top = 1
    nodes[0], nears[0] = 0, np.float32(0.0)
    while top > 0:
        top -= 1
        if nears[top] > best:
            continue
        node = nodes[top]
        # float32 distances are short by up to one part in ten million: the limit is widened by more than that
        widened = np.float32(best * (1.0 + _RELATIVE) + _ABSOLUTE_M)
        box, child = float32_at(header[BOXES_AT] + BOX_BYTES * node), int32_at(header[CHILDREN_AT] + CHILD_BYTES * node)
        count = _meet_children(box, fx, fy, fz, ix, iy, iz, fr, widened, enter, met)
        begin = top
        for i in range(count):
            k = met[i]
            near, held = enter[k], child[WIDTH + k]
            if held == 0:
                at = top
                while at > begin and nears[at - 1] < near:
                    nears[at], nodes[at] = nears[at - 1], nodes[at - 1]
                    at -= 1
                nears[at], nodes[at] = near, child[k]
                top += 1
            elif near <= best:
                for row in range(child[k], child[k] + held):
                    t = float64_at(header[TRIANGLES_AT] + TRIANGLE_BYTES * row)
                    if radius > 0.0:
                        distance, facing = _ball_triangle(ray, t, radius)
                    else:
                        distance, facing = ray_triangle(kx, ky, kz, sx, sy, sz, ox, oy, oz, t)
                    if distance < best or (
                        distance == best and distance < INF and (best_row < 0 or face[row] < face[best_row])
                    ):
                        best, best_row, best_facing = distance, row, facing
    return best_row, best, best_facing


@inner
def edges_of(t):
    """The edges from a triangle's first corner to the others, metres: (ex, ey, ez, fx, fy, fz). t : its pointer"""
    return t[3] - t[0], t[4] - t[1], t[5] - t[2], t[6] - t[0], t[7] - t[1], t[8] - t[2]


@inner
def _ball_triangle(ray, t, radius):
    """`ray_triangle` for a ball of a radius, metres. t : pointer to the triangle: (distance, facing)"""
    ox, oy, oz, dx, dy, dz = ray
    ex, ey, ez, fx, fy, fz = edges_of(t)
    corner = (t[0] - ox, t[1] - oy, t[2] - oz)
    enter, leave = line_round_triangle((dx, dy, dz), corner, (ex, ey, ez), (fx, fy, fz), radius)
    distance, _ = clamp(enter, leave)
    nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
    return distance, dx * nx + dy * ny + dz * nz


@inner
def scratch_for_tree():
    """(nodes, nears, enter, met), see `first_triangle`; nothing in them has a value, or a unit, yet."""
    return (
        np.empty(STACK, np.int32),
        np.empty(STACK, np.float32),
        np.empty(WIDTH, np.float32),
        np.empty(WIDTH + 1, np.int32),
    )


@njit(cache=True, error_model="numpy")
def first_triangle_alone(ray, radius, limit, header):
    """`first_triangle` for a caller without scratch arrays; metres."""
    return first_triangle(ray, radius, limit, header, scratch_for_tree())


@njit(cache=True, nogil=True, error_model="numpy")
def first_triangles(origins, directions, limits, header, middle, faces, distances):
    """`first_triangle` for many rays, whose directions needn't be of unit length: face -1 and inf for a miss.

    origins, directions : (n, 3) float64, metres, and of any length; limits, distances : (n,) float64, metres
    faces : (n,) int64; middle : (x, y, z) of the level, metres. Returns -1, or the first row that can't be cast.
    """
    scratch = scratch_for_tree()
    cx, cy, cz = middle
    face = int64_at(header[FACES_AT])
    for i in range(origins.shape[0]):
        ox, oy, oz = origins[i, 0] - cx, origins[i, 1] - cy, origins[i, 2] - cz
        dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
        largest = max(abs(dx), max(abs(dy), abs(dz)))
        if not (largest > _SHORT and abs(dx) + abs(dy) + abs(dz) < _LONG and abs(ox) + abs(oy) + abs(oz) < _LONG):
            return i
        shrink = 1.0 / largest
        dx, dy, dz = dx * shrink, dy * shrink, dz * shrink
        shrink = 1.0 / math.sqrt(dx * dx + dy * dy + dz * dz)
        ray = (ox, oy, oz, dx * shrink, dy * shrink, dz * shrink)
        row, distance, _ = first_triangle(ray, 0.0, limits[i], header, scratch)
        faces[i], distances[i] = (face[row], distance) if row >= 0 else (-1, INF)
    return -1


@njit(cache=True, error_model="numpy")
def every_triangle(ray, limit, header, rows, distances, facings):
    """All triangles within `limit` metres, unordered, into the result arrays. Returns how many there are.

    rows : (n,) int64; distances : (n,) float64, metres; facings : (n,) float64
    The count may exceed the arrays' length; then only as many as fit are written, and the caller calls again with
    longer arrays.
    """
    ox, oy, oz, dx, dy, dz = ray
    found = 0
    nodes, _, enter, met = scratch_for_tree()
    fx, fy, fz = np.float32(ox), np.float32(oy), np.float32(oz)
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    kx, ky, kz, sx, sy, sz = shear_of(dx, dy, dz)
    fr = np.float32(_RELATIVE * (abs(ox) + abs(oy) + abs(oz)))
    widened = np.float32(limit * (1.0 + _RELATIVE) + _ABSOLUTE_M)
    top = 1
    nodes[0] = 0
    while top > 0:
        top -= 1
        node = nodes[top]
        box, child = float32_at(header[BOXES_AT] + BOX_BYTES * node), int32_at(header[CHILDREN_AT] + CHILD_BYTES * node)
        count = _meet_children(box, fx, fy, fz, ix, iy, iz, fr, widened, enter, met)
        for i in range(count):
            held, first = child[WIDTH + met[i]], child[met[i]]
            if held == 0:
                nodes[top] = first
                top += 1
            for row in range(first, first + held):
                t = float64_at(header[TRIANGLES_AT] + TRIANGLE_BYTES * row)
                distance, facing = ray_triangle(kx, ky, kz, sx, sy, sz, ox, oy, oz, t)
                if distance <= limit and distance < INF:
                    if found < rows.shape[0]:
                        rows[found], distances[found], facings[found] = row, distance, facing
                    found += 1
    return found
