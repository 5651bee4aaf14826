"""Client's prediction of its weapons, corrected by receipts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.spread_stream import SpreadStream
from tinclock.core.combat.weapons import Weapon

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.combat.receipts import ActorState
    from tinclock.core.rules.weapons import WeaponRules
    from tinclock.core.vectors import Triple

NEVER = float("inf")
SAFE_S = 0.02
"""A client fires so much later than it could: its clock and the server's don't run evenly."""


class Arm:
    """One weapon."""

    def __init__(self, weapon: Weapon, key: bytes) -> None:
        self.weapon, self.rules = weapon, weapon.rules
        self.scatter = SpreadStream(key, weapon.name, weapon.rules)
        self.shots = 0
        self.fired: list[int] = []
        """Sequence numbers of shots that no receipt covers yet."""
        self.refill()

    def refill(self) -> None:
        """As at the start of a life."""
        self.magazine, self.reserve = self.rules.magazine, self.rules.reserve
        self.ready_at, self.reloaded_at = -NEVER, NEVER
        self.scatter.rest()
        self.fired.clear()

    def settle(self, now: float) -> None:
        """Finish a reload that is over."""
        if self.reloaded_at <= now:
            full = self.rules.magazine or 0
            moved = full - (self.magazine or 0)
            moved = moved if self.reserve is None else min(moved, self.reserve)
            self.magazine = (self.magazine or 0) + moved
            if self.reserve is not None:
                self.reserve -= moved
            self.reloaded_at = NEVER

    @property
    def dry(self) -> bool:
        """True if nothing is left at all."""
        return self.magazine == 0 and self.reserve == 0


class Arms:
    """All weapons of one client. Times are of its own clock."""

    def __init__(self, weapons: Mapping[str, WeaponRules], key: bytes, first: str) -> None:
        self.all = {name: Arm(Weapon(name, rules), key) for name, rules in weapons.items()}
        self.name = first

    @property
    def held(self) -> Arm:
        """The one in hand."""
        return self.all[self.name]

    def refill(self) -> None:
        """A new life."""
        for arm in self.all.values():
            arm.refill()

    def draw(self, name: str, now: float) -> None:
        """Take another one in hand."""
        self.held.reloaded_at = NEVER
        self.name = name
        self.held.ready_at = max(self.held.ready_at, now + self.held.rules.draw_s + SAFE_S)

    def reload(self, now: float) -> None:
        """Begin to reload."""
        self.held.reloaded_at = now + self.held.rules.reload_s + 2.0 * SAFE_S

    def handled(self, at: float) -> None:
        """The server has drawn or reloaded at the earliest so: a packet that was late makes the hand late too."""
        arm = self.held
        if arm.reloaded_at != NEVER:
            arm.reloaded_at = max(arm.reloaded_at, at + arm.rules.reload_s + SAFE_S)
        else:
            arm.ready_at = max(arm.ready_at, at + arm.rules.draw_s + SAFE_S)

    def ready(self, now: float) -> bool:
        """True if the one in hand fires now."""
        arm = self.held
        arm.settle(now)
        return now >= arm.ready_at and arm.reloaded_at == NEVER and arm.magazine != 0

    def fire(self, aim: Triple, now: float, sequence: int, speed_m_s: float) -> list[Triple]:
        """Fire; returns where the rays go."""
        arm = self.held
        arm.ready_at = now + arm.rules.interval_s
        arm.shots += 1
        arm.fired.append(sequence)
        if arm.magazine is not None:
            arm.magazine = max(0, arm.magazine - 1)
            if arm.magazine == 0 and arm.rules.reload_when_empty and arm.reserve != 0:
                self.reload(now)
        return arm.scatter.rays(aim, now, arm.shots, speed_m_s)

    def told(self, told: ActorState, settled: bool) -> None:
        """Put right what the server knows better, but for shots that it hasn't seen yet.

        settled : nothing that was done with the hands is still to be answered
        """
        arm = self.all.get(told.weapon)
        if arm is None:
            return
        if settled and told.weapon != self.name:  # what it took in hand never got there
            self.name = told.weapon
        arm.fired = [sequence for sequence in arm.fired if sequence > told.last_sequence]
        arm.shots = max(arm.shots, told.shots) if arm.fired else told.shots
        if told.magazine is not None and arm.reloaded_at == NEVER:
            arm.magazine = max(0, told.magazine - len(arm.fired))
        arm.reserve = told.reserve
