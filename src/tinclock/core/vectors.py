"""A point or a direction in space, as the public calls take and give it."""

Triple = tuple[float, float, float]
"""x, y, z in the world's frame: metres for a position, 1 long for a direction, metres a second for a velocity."""
