"""State of one player: its seat, body, hand, equipment, messages, and perhaps its cheats."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from tinclock.core.plain import Fields
from tinclock.garden.barrow import relative, seen_vehicle
from tinclock.garden.cheats import Lies
from tinclock.garden.hand import Hand
from tinclock.garden.mail import Mail

if TYPE_CHECKING:
    import numpy as np

    from tinclock.core.vectors import Triple
    from tinclock.garden.arms import Arms
    from tinclock.garden.screen import Shown
    from tinclock.garden.seat import Seat
    from tinclock.garden.walking import Walker


class Player:
    """One player. enemies : its possible targets, by entity; handling : the claim by which it last took a weapon."""

    def __init__(self, seat: Seat, entity: int, walker: Walker, arms: Arms, rng: np.random.Generator) -> None:
        self.seat, self.entity, self.walker, self.arms = seat, entity, walker, arms
        self.enemies: Mapping[int, str] = {}
        self.mates: tuple[int, ...] = ()
        self.lies = Lies(seat.cheats, rng)
        self.hand = Hand(seat.skill, rng)
        self.mail = Mail(self.lies.held_back_s)
        self.handling = 0
        self.riding = 0
        """Entity that it rides on its screen, 0 for none."""
        self._sequence = 0

    def on_vehicle(self, view: Shown, place: Triple) -> Fields:
        """Return the fields of a claim that say a place, metres, relative to the vehicle on its screen."""
        at, yaw = seen_vehicle(view, self.riding)
        return {"origin": relative(place, at, yaw), "relative_to": self.riding}

    def number(self) -> int:
        """The next sequence number."""
        self._sequence += 1
        return self._sequence
