"""What a client's screen shows: snapshots that came, and the others drawn between two of them, 100 ms late."""

from __future__ import annotations

import tinclock

RATE_HZ, DELAY_TICKS = 64, 6.4


class Screen:
    """Snapshots, by their tick."""

    def __init__(self) -> None:
        self.held: dict[int, dict[int, list[float]]] = {}
        self.snapshots, self.newest, self.newest_at = 0, 0, 0.0

    def take(self, snapshot: dict, now: float) -> dict[int, list[float]]:
        """A snapshot came; where it says that everybody is."""
        self.snapshots += 1
        bodies = {int(entity): place for entity, place in snapshot["bodies"].items()}
        self.held[snapshot["tick"]] = bodies
        if snapshot["tick"] > self.newest:
            self.newest, self.newest_at = snapshot["tick"], now
        return bodies

    def view(self, now: float) -> tinclock.View | None:
        """Between which two snapshots it draws: exactly what a claim says."""
        drawn = self.newest + (now - self.newest_at) * RATE_HZ - DELAY_TICKS
        before = max((tick for tick in self.held if tick <= drawn), default=0)
        after = min((tick for tick in self.held if tick > drawn), default=0)
        return tinclock.View(before, after, (drawn - before) / (after - before)) if before and after else None

    def drawn(self, view: tinclock.View, own: int) -> dict[int, list[float]]:
        """Where it draws the others."""
        before, after, share = self.held[view.from_tick], self.held[view.to_tick], view.fraction
        both = {entity: (place, after[entity]) for entity, place in before.items() if entity in after and entity != own}
        return {e: [u + share * (v - u) for u, v in zip(*way, strict=True)] for e, way in both.items()}
