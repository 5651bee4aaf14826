"""The compiled checks by their names, and who is asked where one of them has to ask: for `procedures`."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final, NamedTuple

import numpy as np

from tinclock.core.findings import Finding
from tinclock.core.kernels.checking import CHECK
from tinclock.core.ruling.checks.form import find_malformed
from tinclock.core.ruling.checks.muzzle import check_muzzle
from tinclock.core.ruling.checks.sender import check_tenure

Check = Callable[[Any, Any], Finding | None]


class Compiled(NamedTuple):
    """A check of `kernels.checks`. ask : what decides in its place where it can't"""

    number: int
    ask: Check | None = None


SEQUENCE: Final = Compiled(CHECK.sequence)
FIELDS: Final = Compiled(CHECK.fields, find_malformed)
FORM: Final = Compiled(CHECK.form, find_malformed)
SENDER: Final = Compiled(CHECK.sender)
TENURE: Final = Compiled(CHECK.tenure, check_tenure)
ALIVE: Final = Compiled(CHECK.alive)
ACTOR: Final = Compiled(CHECK.actor)
TRADE: Final = Compiled(CHECK.trade)
WEAPON: Final = Compiled(CHECK.weapon)
SHOOTS: Final = Compiled(CHECK.shoots)
LAUNCHES: Final = Compiled(CHECK.launches)
FIRES: Final = Compiled(CHECK.fires)
REACHES: Final = Compiled(CHECK.reaches)
LOADED: Final = Compiled(CHECK.loaded)
CADENCE: Final = Compiled(CHECK.cadence)
CHARGE: Final = Compiled(CHECK.charge)
NUMBER: Final = Compiled(CHECK.number)
VIEW: Final = Compiled(CHECK.shown_view)
VIEW_ORDER: Final = Compiled(CHECK.view_order)
LAG: Final = Compiled(CHECK.lag)
TOLD: Final = Compiled(CHECK.told)
FACES: Final = Compiled(CHECK.faces)
MUZZLE: Final = Compiled(CHECK.muzzle, check_muzzle)
CAST: Final = Compiled(CHECK.cast)
"""No check: looks along the ray of a shot that goes exactly where it is aimed."""


REPORTED: Final = Compiled(CHECK.reported)
PUSH: Final = Compiled(CHECK.push)
CLOCK: Final = Compiled(CHECK.clock)
LEAP: Final = Compiled(CHECK.leap)
SPEED: Final = Compiled(CHECK.speed)
TURN: Final = Compiled(CHECK.turn)
FALL: Final = Compiled(CHECK.fall)
WALLS: Final = Compiled(CHECK.walls)
MOVING: Final = Compiled(CHECK.moving)
"""No check: commits the move."""
COMMIT: Final = Compiled(CHECK.commit)
"""No check either: commits the shot, if it is one of the kind that comes all the time; others are Python's."""


class Order:
    """Checks in their order, as a kernel takes them: `numbers` at an address, and what Python does at each place."""

    __slots__ = ("_numbers", "asked", "at", "count")

    def __init__(self, checks: tuple[Compiled | Check, ...]) -> None:
        self._numbers = np.array([one.number if isinstance(one, Compiled) else -1 for one in checks], np.int64)
        self.at, self.count = int(self._numbers.ctypes.data), len(checks)
        self.asked = tuple(one.ask if isinstance(one, Compiled) else one for one in checks)
