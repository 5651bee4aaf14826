"""Who takes part: entities with ids that the server issues once, and the connections that own them."""

from __future__ import annotations

from collections import OrderedDict
from typing import TYPE_CHECKING

from tinclock.core.combat.cadence import Cadence
from tinclock.core.timeline.clock import ClockEstimate

if TYPE_CHECKING:
    from tinclock.core.records import Ruling
    from tinclock.core.timeline.views import Drawing

REMEMBERED_RULINGS = 256


class Participant:
    """An entity that takes part: its owner, its team, what it holds."""

    __slots__ = ("account", "cadence", "connection", "entity", "life_epoch", "rig", "team", "wielded")

    def __init__(self, entity: int, connection: str, account: str, team: str, rig: str, wielded: str) -> None:
        self.entity, self.connection, self.account = entity, connection, account
        self.team, self.rig, self.wielded = team, rig, wielded
        self.cadence: dict[str, Cadence] = {}
        self.life_epoch = 1


class Line:
    """A connection: its clock, how it draws, what it sent."""

    __slots__ = ("clock", "drawing", "entity", "highest_sequence", "name", "newest_view_time", "rulings", "view_limits")

    def __init__(self, name: str, entity: int, drawing: Drawing, key: bytes) -> None:
        self.name, self.entity, self.drawing = name, entity, drawing
        self.clock = ClockEstimate(key)
        self.highest_sequence = 0
        self.newest_view_time = float("-inf")
        self.view_limits: tuple[int, Drawing | None, float, float, float] = (-1, None, 0.0, 0.0, 0.0)
        """Clock version and drawing that the limits hold for; shortest trip, latest age, allowance for running back."""
        self.rulings: OrderedDict[int, Ruling] = OrderedDict()

    def remember(self, ruling: Ruling) -> None:
        """Keep a ruling for repeats of its sequence number."""
        self.rulings[ruling.sequence] = ruling
        self.highest_sequence = max(self.highest_sequence, ruling.sequence)
        if len(self.rulings) > REMEMBERED_RULINGS:
            self.rulings.popitem(last=False)
