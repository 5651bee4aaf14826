"""Compiled checks: a decorator registers each, and all together get the numbers by which a kernel runs them."""

from __future__ import annotations

from typing import Any, Final

from tinclock.core.kernels.compiling import Inner, inner

_registered: Final[list[Inner]] = []


def check(function: Any) -> Inner:
    """Register a check: a function of `Facts` that returns the number of a finding, `NOTHING`, or `ASK`."""
    part = inner(function)
    _registered.append(part)
    return part


def runner() -> Inner:
    """Number all registered checks, and return a part of kernels that runs one of them by its number.

    Numbers go by names: a kernel in the cache must find the same ones in a process that imports in another order.
    """
    checks = sorted(_registered, key=lambda part: (part.function.__module__, part.function.__qualname__))
    for number, part in enumerate(checks):
        part.number = number
    return _runner_of(checks, 0)


def _runner_of(checks: list[Inner], first: int) -> Inner:
    half = len(checks) // 2
    middle = first + half
    if len(checks) <= 2:
        return _pair(checks[0], checks[-1], middle)
    return _branch(_runner_of(checks[:half], first), _runner_of(checks[half:], middle), middle)


def _pair(low: Inner, high: Inner, middle: int) -> Inner:
    @inner
    def run(f, which):
        """Run one of two checks; returns what it does. No unit."""
        if which < middle:
            return low(f)
        return high(f)

    return run


def _branch(low: Inner, high: Inner, middle: int) -> Inner:
    @inner
    def run(f, which):
        """Run a check of one of two groups; returns what it does. No unit."""
        if which < middle:
            return low(f, which)
        return high(f, which)

    return run
