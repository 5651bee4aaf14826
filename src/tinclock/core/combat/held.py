"""One weapon in one entity's hands: magazine, reload, draw, charge, fire_rate, spread."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.combat.fire_rate import Cadence
from tinclock.core.combat.spread_stream import SpreadStream
from tinclock.core.kernels.dtypes import HELD
from tinclock.core.kernels.spending import (
    can_reload_of,
    reload_of,
    rounds_of,
    settle_of,
    spend_of,
    standing_of,
)
from tinclock.core.packed import Endless, Integer, Number, Row

if TYPE_CHECKING:
    from tinclock.core.combat.weapons import Weapon

NEVER = math.inf


class Held(Row):
    """State of one weapon. Times are server times; `shots` counts every shot of the match, whatever the life."""

    __slots__ = ("_client_time", "_paced_at", "fire_rate", "scatter", "weapon")

    magazine = Endless(HELD.magazine)
    reserve = Endless(HELD.reserve)
    reload_ends = Number(HELD.reload_ends)
    reloaded_at = Number(HELD.reloaded_at)
    drawn_at = Number(HELD.drawn_at)
    charging_from = Number(HELD.charging_from)
    shots = Integer(HELD.shots)
    strange_shots = Integer(HELD.strange_shots)

    def __init__(self, weapon: Weapon, key: bytes) -> None:
        super().__init__(len(HELD))
        self.weapon = weapon
        self.scatter = SpreadStream(key, weapon.name, weapon.rules)
        self.shots = self.strange_shots = 0
        self.refill()

    def refill(self) -> None:
        """As at the start of a life."""
        rules = self.weapon.rules
        self.fire_rate = Cadence(rules, self)
        self.magazine, self.reserve = rules.magazine, rules.reserve
        self.reload_ends = NEVER
        self.reloaded_at = self.drawn_at = -math.inf
        self.charging_from = NEVER
        self._client_time, self._paced_at = math.nan, -math.inf
        self.scatter.rest()

    def take(self, weapon: Weapon) -> None:
        """Be a weapon of other rules from now on: what is under way goes on, and no more is kept than it holds."""
        rules, fire_rate = weapon.rules, self.fire_rate
        fired, ready, in_burst = fire_rate.fired_at, fire_rate.ready_at, self.numbers[HELD.fired]
        self.weapon, self.fire_rate = weapon, Cadence(rules, self)
        self.fire_rate.fired_at, self.fire_rate.ready_at, self.numbers[HELD.fired] = fired, ready, in_burst
        for name, most in (("magazine", rules.magazine), ("reserve", rules.reserve)):
            held = getattr(self, name)
            setattr(self, name, most if held is None or most is None else min(held, most))
        before, self.scatter = self.scatter, SpreadStream(self.scatter.key, weapon.name, rules)
        self.scatter.continue_from(before)

    # -- reload -----------------------------------------------------------------------------------------------

    def rounds_at(self, at: float) -> tuple[int | None, int | None]:
        """Magazine and reserve as they are at a time, a reload that is over by then included; None: endless."""
        magazine, reserve = rounds_of(self.at, self.weapon.at, at)
        return None if magazine < 0.0 else int(magazine), None if reserve < 0.0 else int(reserve)

    def settle(self, now: float) -> None:
        """Finish a reload that is over."""
        settle_of(self.at, self.weapon.at, now)

    def can_reload(self, at: float = -math.inf) -> bool:
        """True if there is room in the magazine and something to fill it with, and no reload under way.

        at : the server time that is meant, for a reload that nobody has finished yet
        """
        return bool(can_reload_of(self.at, self.weapon.at, at))

    def reload(self, now: float) -> None:
        """Begin a reload, not before the last shot had its time: what came early is not gained twice."""
        reload_of(self.at, self.weapon.at, now)

    def put_away(self) -> None:
        """Break off what was under way: reload and charge."""
        self.reload_ends = self.charging_from = NEVER

    # -- firing -----------------------------------------------------------------------------------------------

    def ready_at(self) -> float:
        """The server time from which the weapon fires, as things stand; inf while it is empty."""
        _, _, wait = standing_of(self.at, self.weapon.at, 0.0)
        return float(wait)

    def standing(self, now: float) -> tuple[int | None, int | None, float]:
        """Magazine, reserve (None: endless) and how long until it fires, inf for never."""
        magazine, reserve, wait = standing_of(self.at, self.weapon.at, now)
        return None if magazine < 0.0 else int(magazine), None if reserve < 0.0 else int(reserve), wait

    def charge(self, now: float) -> None:
        """Begin to charge."""
        self.charging_from = max(now, self.fire_rate.fired_at)

    def spend(self, now: float, charge: float = 1.0) -> None:
        """One shot: its ammunition, its time, its charge.

        A shot that came early, within the allowance, counts from when the weapon was due: draw, reload, charge and
        fire_rate share one allowance over time.
        """
        spend_of(self.at, self.weapon.at, now, charge)

    def pace(self, now: float, client_time: float | None) -> float:
        """The instant of a shot for recovery between shots, in server seconds but with the client's own spacing.

        Packets arrive bunched; the client's clock says how far apart its shots were. It is believed as long as it
        doesn't outrun the server's: a client that claims longer pauses than there were gains nothing.
        """
        if client_time is None or math.isnan(self._client_time):
            at = now
        else:
            at = self._paced_at + max(0.0, client_time - self._client_time)
            if at > now or now - at > 1.0:
                at = now
        self._client_time = math.nan if client_time is None else client_time
        self._paced_at = at
        return at

    def is_next(self, claimed: int | None) -> bool:
        """True if a claimed number is that of the next shot; a claim without one means the next."""
        return claimed is None or claimed == self.shots + 1

    def number(self, claimed: int | None, max_skipped: int) -> tuple[int, bool]:
        """The number of the shot that is being spent, and whether it is the next of the entity's own stream.

        One that isn't draws from a stream that no client can compute: nobody skips to a lucky number. The count follows
        a claimed leap of at most `max_skipped`, so that a client that lost packets is in step again.
        """
        if self.is_next(claimed):
            self.shots += 1
            return self.shots, True
        self.strange_shots += 1
        if claimed is not None and 0 < claimed - self.shots <= max_skipped:
            self.shots = claimed
        return self.strange_shots, False
