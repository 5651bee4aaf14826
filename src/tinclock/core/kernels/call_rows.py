"""Rows of addresses that kernels are called with: for one call, for a match and for the actor of a claim."""

from __future__ import annotations

from typing import Final, NamedTuple

from tinclock.core.kernels.dtypes import places


class CallFields(NamedTuple):
    """Arguments of one kernel call over a claim, int64: addresses of its rows and of its order of checks."""

    world: int
    who: int
    claim: int
    found: int
    order: int
    checks: int
    """Number of checks in the order."""
    plain: int
    """1: a claim that is rejected is refused here too, as it was before Python was asked anything."""


MAX_AT_ONCE: Final = 256
"""Maximum number of claims in one kernel call: many enough to make calls cheap, few enough for a core's cache."""
CALL_BYTES: Final = 8 * 7
"""Of such a row."""


class WorldFields(NamedTuple):
    """Addresses of what all claims of a match are held against, int64."""

    rules: int
    actions: int
    """Action of each finding, by its number: float64."""
    moments: int
    """The history's `MomentFields`."""
    quantum: int
    """Of the stored poses, see `poses`: float64."""
    has_level: int
    """1: there is a level, with this header and this middle, three float64."""
    level: int
    level_middle: int
    passable_rows: int
    """Address of flags, int16, of the level's rows that penetrating shots pass through; 0 if there are none."""
    scratch: int
    """Addresses of arrays that casts write into, in the order of `cast.first_part`'s and `triangles`' scratch."""
    bodies: int
    """Addresses of the rows of `BODY`, int64, by column of the history."""


class MomentFields(NamedTuple):
    """Addresses and lengths of what a history holds, int64: its rows are those of `moments`, oldest first."""

    snapshots: int
    snapshot_count: int
    ticks: int
    tick_count: int
    header: int
    """Of the stored poses, see `layout`."""
    cuts: int
    """Number of cuts of each column, plus one."""


class WhoFields(NamedTuple):
    """Addresses of the rows that one claim is held against, and its actor's column in the history, int64."""

    line: int
    body: int
    held: int
    """0 where it holds none; its weapon's row likewise."""
    weapon: int
    moved: int
    """0 for one whose moves clients don't report."""
    said: int
    """The ring of what its line said of its lag, see `hearing`."""
    column: int


CALL: Final = CallFields(*places(CallFields))
WORLD: Final = WorldFields(*places(WorldFields))
MOMENT: Final = MomentFields(*places(MomentFields))
WHO: Final = WhoFields(*places(WhoFields))
