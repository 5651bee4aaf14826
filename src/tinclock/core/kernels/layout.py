"""Layout of the packed arrays that kernels read and write. No kernel uses a bare number as an index.

A *header* is an int64 array of addresses and lengths (see `memory`). Names that end in `_AT` are addresses in it.
"""

from __future__ import annotations

from typing import Final

# -- the pose history's header. Arrays: bounds (slots, 4, columns) float32, metres: centre and radius of a sphere around
# an entity's hitboxes; epochs (slots, columns) int32; origins (slots, 3 * bones) float32 or int16; turns (slots, bones,
# 4) float32 or int16; bodies (columns, 5) int64; parts (parts, 19) float64; reaches (parts,) float32 and bones_of
# (parts,) int32, which are columns of parts once more, close together; covers (covers,) int64, columns of bodies that
# only stand in the way; vehicles (columns,) int64, the column of what each body rides, -1 for none
BOUNDS_AT: Final = 0
EPOCHS_AT: Final = 1
ORIGINS_AT: Final = 2
TURNS_AT: Final = 3
BODIES_AT: Final = 4
PARTS_AT: Final = 5
SLOT_COUNT: Final = 6
COLUMN_COUNT: Final = 7
BONE_COUNT: Final = 8
PART_COUNT: Final = 9
MAX_BONES: Final = 10
"""Of one entity."""
REACHES_AT: Final = 11
BONES_OF_AT: Final = 12
COVERS_AT: Final = 13
COVER_COUNT: Final = 14
VEHICLES_AT: Final = 15
HISTORY_FIELDS: Final = 16

# -- rows of bounds
X, Y, Z, RADIUS_ROW = 0, 1, 2, 3
BOUND_ROWS: Final = 4

# -- a row of bodies: int64
ENTITY, FIRST_BONE, FIRST_PART, PARTS_OF, BONES_OF = 0, 1, 2, 3, 4
BODY_BYTES: Final = 8 * 5

# -- bytes of what is stored
FLOAT32_BYTES, INT16_BYTES, INT32_BYTES = 4, 2, 4
TURN_FIELDS: Final = 4

# -- a row of parts: float64, metres, in the bone's frame
SHAPE: Final = 0
CENTRE: Final = 1
AXES: Final = 4
"""A 3x3 rotation, row by row; a capsule lies along its third axis."""
SIZE: Final = 13
"""Three: of a sphere the radius; of a capsule half its length and the radius; of a box its half sizes."""
PRIORITY: Final = 16
PART_REACH: Final = 17
"""Radius of the part around its bone's origin."""
PART_BONE: Final = 18
PART_FIELDS: Final = 19
PART_BYTES: Final = 8 * PART_FIELDS
SPHERE, CAPSULE, BOX = 0.0, 1.0, 2.0

# -- the level's header. Arrays: boxes (nodes, 6, 8) float32, children (nodes, 16) int32, triangles (faces, 9) float64,
# face numbers (faces,) int64
BOXES_AT: Final = 0
CHILDREN_AT: Final = 1
TRIANGLES_AT: Final = 2
FACES_AT: Final = 3
LEVEL_FIELDS: Final = 4
BOX_BYTES: Final = 4 * 6 * 8
CHILD_BYTES: Final = 4 * 16
TRIANGLE_BYTES: Final = 8 * 9

# -- a row of flights: float64
FLIGHT_FIELDS: Final = 48
START, END = 0, 1
"""Server times of the leg."""
C0, C1, C2, C3 = 2, 5, 8, 11
"""Coefficients of the leg's cubic, three each."""
ORIGIN_TIME: Final = 14
"""Server time of the launch."""
LAST: Final = 15
"""Server time after which nothing of it is left: lifetime or fuse, whichever comes first."""
DONE: Final = 16
"""Server time up to which it was swept."""
RADIUS, NEAR = 17, 18
"""Of the ball, for the level and for bodies (with a proximity fuse), metres."""
GRAVITY, DRAG, WIND, THRUST, THRUST_END = 19, 20, 21, 24, 27
TURN_RATE: Final = 28
"""Radians a second; 0: not homing."""
RANGE, FROM = 29, 30
"""Metres, and the position of the launch (three)."""
AGE, FADE = 33, 34
"""Compensation: how old the shooter's view was, and over how long that fades; 0, 0: none."""
OWNER_FROM: Final = 35
"""Server time from which the owner may be hit; inf: never."""
AT_REST: Final = 36
"""1: it lies where it is."""
ON_LEVEL: Final = 37
"""Behaviour at the level: 0 ends there, 1 bounces, 2 stays."""
KEEPS, LOSES, SLOW = 38, 39, 40
"""Restitution, friction, the speed off a surface below which it rests."""
BOUNCES_LEFT, BOUNCED = 41, 42
OWNER_AFTER_BOUNCE: Final = 43
"""1: from its first bounce on it may hit its owner."""
