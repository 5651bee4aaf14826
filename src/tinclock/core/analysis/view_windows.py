"""Gain of shooters by choosing their views: at each shot the best of those without a finding."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.combat.weapons import Weapon
from tinclock.core.ruling.claims import ShotClaim

if TYPE_CHECKING:
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling

STEP_S = 0.005
"""Distance between the views of a choice that are tried."""


class ViewShoppingGain(NamedTuple):
    """One connection's shots, or several's.

    hits, best_hits : at the views they were ruled at, and at the best of those each shot could have named
    damage, best_damage : of these, before armour, in points
    choice_s : how wide the choice was, summed
    reported_s, explained_s, estimated_s : lags at these shots, summed, of those of which all three were known; see
    `lagged`
    """

    shots: int = 0
    hits: int = 0
    best_hits: int = 0
    damage: float = 0.0
    best_damage: float = 0.0
    choice_s: float = 0.0
    lagged: int = 0
    reported_s: float = 0.0
    explained_s: float = 0.0
    estimated_s: float = 0.0

    def plus(self, other: ViewShoppingGain) -> ViewShoppingGain:
        """Both together."""
        sums: Any = (a + b for a, b in zip(self, other, strict=True))
        return ViewShoppingGain(*sums)

    @property
    def more_hits(self) -> float | None:
        """The share of hits that choosing adds; None where there were none."""
        return self.best_hits / self.hits - 1.0 if self.hits else None


class Choices:
    """Looks at every shot of clients that was ruled; `take` is what `replay` and a live server call after each ruling.

    Only the first ray of a shot counts, as it was aimed, and only enemies that it would have met.
    """

    def __init__(self) -> None:
        self._weapons: dict[str, Weapon] = {}
        self.gained: dict[str, ViewShoppingGain] = {}

    def take(self, referee: Referee, ruling: Ruling, claim: object) -> None:
        """One ruling, while the poses that it looked at are still held."""
        history, view_time = referee.history, ruling.view_time
        if not isinstance(claim, ShotClaim) or view_time is None or ruling.origin is None or ruling.direction is None:
            return
        oldest, newest = referee.view_window(ruling.connection, ruling.sequence, ruling.received_at)
        oldest, newest = max(oldest, history.first_snapshot_time), min(newest, history.newest_time)
        worth = self._worth(referee, ruling, view_time)
        steps = np.arange(oldest, newest, STEP_S).tolist() if newest > oldest else []
        best = max([worth, *(self._worth(referee, ruling, at) for at in steps)])
        lags = referee.display_delays(ruling.connection, ruling.received_at)
        known = (1, *lags) if sum(lags) < math.inf else (0, 0.0, 0.0, 0.0)
        one = ViewShoppingGain(1, int(worth > 0.0), int(best > 0.0), worth, best, max(newest - oldest, 0.0), *known)
        self.gained[ruling.connection] = self.gained.get(ruling.connection, ViewShoppingGain()).plus(one)

    def _worth(self, referee: Referee, ruling: Ruling, view_time: float) -> float:
        """The damage at a view, 0 for a miss."""
        assert ruling.origin is not None
        assert ruling.direction is not None
        weapon = self._weapons.get(ruling.weapon)
        if weapon is None:
            weapon = self._weapons[ruling.weapon] = Weapon(ruling.weapon, referee.rules.weapons[ruling.weapon])
        history, limit_m = referee.history, weapon.range_m
        if referee.level is not None:
            stop = referee.level.first(ruling.origin, ruling.direction, limit_m)
            limit_m = limit_m if stop is None else stop.distance_m
        hit = history.nearest(
            ruling.origin, ruling.direction, history.view_at(view_time), limit_m=limit_m, ignore=ruling.entity
        )
        if hit is None or history.rig_of(hit.entity).blocks_only or referee.ledger.friends(ruling.entity, hit.entity):
            return 0.0
        return weapon.damage_at(hit.distance_m, hit.part.zone)
