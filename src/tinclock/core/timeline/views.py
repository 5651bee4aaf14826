"""Views: what a shooter's screen showed, as two snapshots and a fraction between them."""

from __future__ import annotations

from msgspec import Struct


class View(Struct, frozen=True, array_like=True, gc=False):
    """What a screen showed: `fraction` 0 is the snapshot `from_tick`, 1 is `to_tick`; more than 1 extrapolates."""

    from_tick: int
    to_tick: int
    fraction: float
