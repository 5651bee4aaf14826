"""Whether a weapon can have fired again: a token bucket that forgives bursts of late packets, not a faster trigger."""

from __future__ import annotations

from typing import TYPE_CHECKING

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

    __slots__ = ("_burst", "_fired", "_pause_s", "fired_at", "interval_s", "ready_at")

    def __init__(self, weapon: WeaponRules) -> None:
        self._burst = 1 if weapon.burst is None else weapon.burst.shots
        self.interval_s = weapon.interval_s if weapon.burst is None else weapon.burst.interval_s
        self._pause_s = weapon.interval_s
        self._fired = 0
        self.fired_at = float("-inf")
        """When the last shot counts as fired: not before the weapon was ready."""
        self.ready_at = float("-inf")
        """When the weapon is ready without any allowance."""

    def fire(self, now: float) -> None:
        """Spend the time of one shot."""
        at = now if now > self.ready_at else self.ready_at
        before, self.fired_at = self.fired_at, at
        if self._burst == 1:
            self.ready_at = at + self.interval_s
            return
        self._fired = 1 if at - before >= self._pause_s else self._fired % self._burst + 1
        self.ready_at = at + (self._pause_s if self._fired == self._burst else self.interval_s)
