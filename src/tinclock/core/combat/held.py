"""One weapon in one entity's hands: magazine, reload, draw, charge, cadence, spread."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.combat.cadence import Cadence
from tinclock.core.combat.scatter import Scatter

if TYPE_CHECKING:
    from tinclock.core.combat.weapons import Weapon

NEVER = math.inf


class Held:
    """State of one weapon. Times are server times; `shots` counts every shot of the match, whatever the life."""

    __slots__ = (
        "_client_time",
        "_paced_at",
        "cadence",
        "charging_from",
        "drawn_at",
        "magazine",
        "reload_ends",
        "reloaded_at",
        "reserve",
        "scatter",
        "shots",
        "strange_shots",
        "weapon",
    )

    def __init__(self, weapon: Weapon, key: bytes) -> None:
        self.weapon = weapon
        self.scatter = Scatter(key, weapon.name, weapon.rules)
        self.shots = self.strange_shots = 0
        self.refill()

    def refill(self) -> None:
        """As at the start of a life."""
        rules = self.weapon.rules
        self.cadence = Cadence(rules)
        self.magazine, self.reserve = rules.magazine, rules.reserve
        self.reload_ends = NEVER
        self.reloaded_at = self.drawn_at = -math.inf
        self.charging_from = NEVER
        self._client_time, self._paced_at = math.nan, -math.inf
        self.scatter.rest()

    # -- reload -----------------------------------------------------------------------------------------------

    def rounds_at(self, at: float) -> tuple[int | None, int | None]:
        """Magazine and reserve as they are at a time, a reload that is over by then included; None: endless."""
        if self.reload_ends > at:
            return self.magazine, self.reserve
        loaded = self.magazine or 0
        missing = (self.weapon.rules.magazine or 0) - loaded
        moved = missing if self.reserve is None else min(missing, self.reserve)
        return loaded + moved, None if self.reserve is None else self.reserve - moved

    def settle(self, now: float) -> None:
        """Finish a reload that is over."""
        if self.reload_ends <= now:
            self.magazine, self.reserve = self.rounds_at(now)
            self.reloaded_at, self.reload_ends = self.reload_ends, NEVER

    def can_reload(self, at: float = -math.inf) -> bool:
        """Whether there is room in the magazine and something to fill it with, and no reload under way.

        at : the server time that is meant, for a reload that nobody has finished yet
        """
        full, (magazine, reserve) = self.weapon.rules.magazine, self.rounds_at(at)
        under_way = at < self.reload_ends < NEVER
        return full is not None and (magazine or 0) < full and reserve != 0 and not under_way

    def reload(self, now: float) -> None:
        """Begin a reload, not before the last shot had its time: what came early is not gained twice."""
        self.reload_ends = max(now, self.cadence.fired_at) + self.weapon.rules.reload_s
        self.settle(now)

    def put_away(self) -> None:
        """Break off what was under way: reload and charge."""
        self.reload_ends = self.charging_from = NEVER

    # -- firing -----------------------------------------------------------------------------------------------

    def ready_at(self) -> float:
        """The server time from which the weapon fires, as things stand; inf while it is empty."""
        ready = self.cadence.ready_at
        if self.drawn_at > ready:
            ready = self.drawn_at
        if self.magazine is None or (self.magazine and self.reload_ends == NEVER):
            return ready
        if self.magazine == 0 or not self.weapon.rules.reload_interruptible:
            return max(ready, self.reload_ends)  # never, while it is empty and nobody reloads
        return ready

    def charge_at(self, now: float) -> float:
        """The share of a full charge that there is now."""
        full = self.weapon.rules.charge_s
        if full == 0.0:
            return 1.0
        return min(1.0, max(0.0, (now - self.charging_from) / full)) if self.charging_from != NEVER else 0.0

    def charge(self, now: float) -> None:
        """Begin to charge."""
        self.charging_from = max(now, self.cadence.fired_at)

    def spend(self, now: float, charge: float = 1.0) -> None:
        """One shot: its ammunition, its time, its charge.

        A shot that came early, within the allowance, counts from when the weapon was due: draw, reload, charge and
        cadence share one allowance over time.
        """
        due = max(now, self.drawn_at, self.reloaded_at)
        if self.charging_from != NEVER:
            due = max(due, self.charging_from + charge * self.weapon.rules.charge_s)
        self.cadence.fire(due)
        self.charging_from = self.reload_ends = NEVER
        if self.magazine is not None:
            self.magazine = max(0, self.magazine - 1)
            if self.magazine == 0 and self.weapon.rules.reload_when_empty and self.can_reload():
                self.reload(now)

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
        """Whether a claimed number is that of the next shot; a claim without one means the next."""
        return claimed is None or claimed == self.shots + 1

    def number(self, claimed: int | None, most_skipped: int) -> tuple[int, bool]:
        """The number of the shot that is being spent, and whether it is the next of the entity's own stream.

        One that isn't draws from a stream that no client can compute: nobody skips to a lucky number. The count follows
        a claimed leap of at most `most_skipped`, so that a client that lost packets is in step again.
        """
        if self.is_next(claimed):
            self.shots += 1
            return self.shots, True
        self.strange_shots += 1
        if claimed is not None and 0 < claimed - self.shots <= most_skipped:
            self.shots = claimed
        return self.strange_shots, False
