"""Fire rate as a token bucket: it forgives bursts of late packets, not a faster trigger."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.kernels.dtypes import HELD
from tinclock.core.packed import Number, Row

if TYPE_CHECKING:
    from tinclock.core.rules.weapons import WeaponRules


class Cadence:
    """One shooter's readiness with one weapon.

    This is the virtual scheduling form of the generic cell rate algorithm (ITU-T I.371): the weapon is ready at
    `ready_at`; a shot may arrive up to the allowance before that, and moves it on by a full interval. Packets that
    were held up and arrive together pass, because the time that they waited has been saved up; over any time
    T no more than (T + allowance) / interval + 1 shots pass, however they are spread.

    In a burst the interval is the burst's own, and the weapon's comes after its last shot. A player who waits that long
    between two shots of a burst begins another one.
    """

    __slots__ = ("_row", "numbers")

    interval_s = Number(HELD.interval_s)
    fired_at = Number(HELD.fired_at)
    """Server time of the last shot, not before the weapon was ready."""
    ready_at = Number(HELD.ready_at)
    """Server time at which the weapon is ready without any allowance."""

    def __init__(self, weapon: WeaponRules, row: Row | None = None) -> None:
        self._row = Row(len(HELD)) if row is None else row
        self.numbers = self._row.numbers
        self.interval_s = weapon.interval_s if weapon.burst is None else weapon.burst.interval_s
        self.numbers[HELD.burst] = 1.0 if weapon.burst is None else weapon.burst.shots
        self.numbers[HELD.pause_s] = weapon.interval_s
        self.numbers[HELD.fired] = 0.0
        self.fired_at = self.ready_at = float("-inf")
