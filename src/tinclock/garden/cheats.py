"""Cheats of clients, each with a strength from 0 (nothing) over subtle to 1 (blatant)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Mapping

KINDS: Final = {
    "inflate_damage": "claims more damage than its weapon does",
    "forge_actor": "claims in another player's name",
    "fast_trigger": "fires faster than its weapon",
    "endless_ammunition": "fires on when the magazine is empty",
    "hold_back": "keeps its packets back, to shoot at the past",
    "look_ahead": "claims views of snapshots that it hasn't got yet",
    "snap_aim": "its aim is on target the moment it fires",
    "aim_through_walls": "aims at what it can't see",
    "no_reaction": "fires without the time a human needs",
    "no_spread": "takes spread and recoil out of its aim",
    "shifted_muzzle": "fires from round the corner",
    "long_reach": "strikes from further away than its arm goes",
    "speed": "runs faster than it can",
    "teleport": "leaps",
    "frozen_health": "says that it was never hurt",
    "invent_impacts": "claims hits of what flew by",
    "repeat": "sends its claims again and again",
    "flood": "sends far more claims than a player can make",
    "machine_trigger": "pulls the trigger of single-shot weapons by the clock",
    "spread_number_picking": "picks shot numbers by their spread",
    "shop_views": "claims whichever view its shot hits at",
    "dither_pongs": "blurs its clock where it answers pings",
    "delay_pongs": "answers pings late, now and then",
}
"""The kinds, and what each does."""

MAX_HELD_S, MAX_AHEAD, MAX_SHIFT_M, MAX_REACH_M = 0.35, 4, 1.4, 3.0
OLDEST_SHOPPED_S, SHOPPED_STEP_S, MAX_DITHER_S, MAX_DELAY_S = 0.25, 0.01, 0.02, 0.12


class Lies:
    """One client's cheating. strengths : by kind, 0 to 1."""

    def __init__(self, cheats: Mapping[str, float], rng: np.random.Generator) -> None:
        self.cheats = dict(cheats)
        self._rng = rng

    def strength(self, kind: str) -> float:
        """Return its strength in one kind of cheating, 0 for none."""
        return self.cheats.get(kind, 0.0)

    def now_and_then(self, kind: str) -> bool:
        """True if it does this now: the strength is how often."""
        strength = self.cheats.get(kind, 0.0)
        return strength > 0.0 and bool(self._rng.random() < strength)

    def pause_s(self, pause_s: float) -> float:
        """Return the time between two shots."""
        return pause_s * (1.0 - 0.6 * self.strength("fast_trigger"))

    def finger_s(self, finger_s: float) -> float:
        """Return the time of its finger between two shots of a weapon that fires once per pull."""
        return finger_s * (1.0 - self.strength("machine_trigger"))

    def reaction_s(self, reaction_s: float) -> float:
        """Reaction time."""
        return reaction_s * (1.0 - self.strength("no_reaction"))

    @property
    def held_back_s(self) -> float:
        """Return the delay of its packets before they are sent."""
        return MAX_HELD_S * self.strength("hold_back")

    def shopped_s(self) -> list[float]:
        """By how much older than its screen the views are that it would claim, the nearest first."""
        oldest = OLDEST_SHOPPED_S * self.strength("shop_views")
        return [SHOPPED_STEP_S * k for k in range(1, 1 + round(oldest / SHOPPED_STEP_S))]

    def pong(self, arrives_at: float, client_time: float) -> tuple[float, float]:
        """Return the time of its answer to a ping, and its clock in it."""
        dither, delay = MAX_DITHER_S * self.strength("dither_pongs"), MAX_DELAY_S * self.strength("delay_pongs")
        if dither > 0.0:
            client_time += float(self._rng.uniform(-dither, dither))
        if delay > 0.0:
            arrives_at += float(self._rng.uniform(0.0, delay))
        return arrives_at, client_time

    def damage(self, damage: float | None) -> float | None:
        """Return the claim of its act."""
        return None if damage is None else damage * (1.0 + 3.0 * self.strength("inflate_damage"))

    def actor(self, own: int, others: list[int]) -> int:
        """In whose name it claims."""
        if others and self.now_and_then("forge_actor"):
            return int(self._rng.choice(others))
        return own

    def ahead(self, every: int) -> int:
        """Return the number of ticks by which its view is newer than the truth."""
        strength = self.strength("look_ahead")
        return every * round(MAX_AHEAD * strength) if strength > 0.0 else 0

    def reach_m(self, reach_m: float) -> float:
        """From how far away it strikes."""
        return reach_m + MAX_REACH_M * self.strength("long_reach")

    def copies(self) -> int:
        """Return the number of times that it repeats a claim."""
        return int(self._rng.poisson(4.0 * self.strength("repeat"))) if self.strength("repeat") > 0.0 else 0

    def spam(self, seconds: float) -> int:
        """Return the number of senseless claims that it makes in a time."""
        strength = self.strength("flood")
        return int(self._rng.poisson(400.0 * strength * seconds)) if strength > 0.0 else 0
