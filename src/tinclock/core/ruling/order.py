"""Checks in their order, as a kernel takes them, and what Python does where a kernel asks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from tinclock.core.findings import Finding
from tinclock.core.kernels.compiling import Inner

PythonCheck = Callable[[Any, Any], Finding | None]


class Asks(NamedTuple):
    """A compiled check, and Python's that decides in its place where it returns `ASK`."""

    compiled: Inner
    ask: PythonCheck


Check = Inner | Asks | PythonCheck


class Order:
    """Checks in their order. at, count : where their numbers lie for kernels (below 0: Python's), and how many they are

    asked : what Python does at each place, None for what never asks
    """

    __slots__ = ("_numbers", "asked", "at", "count")

    def __init__(self, checks: tuple[Check, ...]) -> None:
        self._numbers = np.array([_number_of(one) for one in checks], np.int64)
        self.at, self.count = int(self._numbers.ctypes.data), len(checks)
        self.asked: tuple[PythonCheck | None, ...] = tuple(_asked(one) for one in checks)


def _number_of(check: Check) -> int:
    compiled = check.compiled if isinstance(check, Asks) else check
    if not isinstance(compiled, Inner):
        return -1
    if compiled.number < 0:
        raise ImportError(
            f"{compiled.function.__name__} is listed as a check and not registered; decorate it by @check"
        )
    return compiled.number


def _asked(check: Check) -> PythonCheck | None:
    if isinstance(check, Asks):
        return check.ask
    return None if isinstance(check, Inner) else check
