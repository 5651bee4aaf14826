"""Whether a weapon can have fired again: a token bucket that forgives bursts of late packets, not a faster trigger."""

from __future__ import annotations


class Cadence:
    """One shooter's readiness with one weapon.

    This is the virtual scheduling form of the generic cell rate algorithm (ITU-T I.371): the weapon is ready at
    `ready_at`; a shot may arrive up to `allowance_s` before that, and moves it on by a full interval. Packets that
    were held up and arrive together pass, because the time that they waited has been saved up; over any time
    T no more than (T + allowance) / interval + 1 shots pass, however they are spread.
    """

    __slots__ = ("ready_at",)

    def __init__(self) -> None:
        self.ready_at = float("-inf")

    def fire(self, now: float, interval_s: float) -> None:
        """Spend the time of one shot."""
        self.ready_at = max(self.ready_at, now) + interval_s
