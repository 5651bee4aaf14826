"""Whether a weapon can have fired again: a token bucket that forgives bursts of late packets, not a faster trigger."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.weapon_rules import WeaponRules


class Cadence:
    """One shooter's readiness with one weapon.

    This is the virtual scheduling form of the generic cell rate algorithm (ITU-T I.371): the weapon is ready at
    `ready_at`; a shot may arrive up to the allowance before that, and moves it on by a full interval. Packets that
    were held up and arrive together pass, because the time that they waited has been saved up; over any time
    T no more than (T + allowance) / interval + 1 shots pass, however they are spread.

    A weapon with bursts runs two of them, as I.371 does for a peak and a sustained rate: one at the interval inside a
    burst, one at the average interval, which a burst of n may be ahead of by what its first n - 1 shots save up.
    """

    __slots__ = ("_ahead_s", "_mean_at", "_mean_s", "_next_at", "interval_s")

    def __init__(self, weapon: WeaponRules) -> None:
        burst = weapon.burst
        self.interval_s = weapon.interval_s if burst is None else burst.interval_s
        self._mean_s = self._ahead_s = 0.0
        if burst is not None:
            self._mean_s = ((burst.shots - 1) * burst.interval_s + weapon.interval_s) / burst.shots
            self._ahead_s = (burst.shots - 1) * (self._mean_s - burst.interval_s)
        self._next_at = self._mean_at = float("-inf")

    @property
    def ready_at(self) -> float:
        """When the weapon is ready without any allowance."""
        if self._mean_s == 0.0:
            return self._next_at
        return max(self._next_at, self._mean_at - self._ahead_s)

    def fire(self, now: float) -> None:
        """Spend the time of one shot."""
        self._next_at = (now if now > self._next_at else self._next_at) + self.interval_s
        if self._mean_s > 0.0:
            self._mean_at = max(self._mean_at, now) + self._mean_s

    def delay_until(self, at: float) -> None:
        """Not ready before a time."""
        self._next_at = max(self._next_at, at)
