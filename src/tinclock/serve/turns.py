"""Return the next request: of all callers that have one, that of the caller with the least processing time so far.

An asker that needs less than its share never waits for one that would take everything. This is start-time fair queueing
(Goyal, Vin and Cheng, 1996), with the time that was really used: a new caller is counted from what the one in
turn has had, so that nobody saves up a claim to the process by being silent.
"""

from __future__ import annotations

import asyncio
import time
from typing import Final

AHEAD_S: Final = 0.0005
"""Maximum lead over the caller with the least share before a caller has to wait."""
LOOK_S: Final = 0.001
"""Interval at which a worker looks for other callers."""


class Turn:
    """Processing time that one caller has had, in seconds, on the scale that all share."""

    __slots__ = ("had_s",)

    def __init__(self) -> None:
        self.had_s = 0.0


class Turns:
    """Gives turns to the askers of one event loop."""

    def __init__(self) -> None:
        self._asking: set[Turn] = set()
        self._began = self._looked = self._reached_s = 0.0

    def ask(self, turn: Turn) -> None:
        """An asker has something to do from now on."""
        turn.had_s = max(turn.had_s, self._reached_s)
        self._asking.add(turn)

    def rest(self, turn: Turn) -> None:
        """It has nothing to do now, or waits for something else."""
        self._asking.discard(turn)

    async def begin(self, turn: Turn) -> None:
        """Wait until it may go on, and begin to count."""
        if time.perf_counter() - self._looked > LOOK_S:
            await self._look()
        while len(self._asking) > 1 and turn.had_s > min(one.had_s for one in self._asking) + AHEAD_S:
            await self._look()
        self._reached_s = max(self._reached_s, min(one.had_s for one in self._asking))
        self._began = time.perf_counter()

    def end(self, turn: Turn) -> None:
        """Count what it had since it began."""
        turn.had_s += time.perf_counter() - self._began

    async def _look(self) -> None:
        await asyncio.sleep(0)
        self._looked = time.perf_counter()
