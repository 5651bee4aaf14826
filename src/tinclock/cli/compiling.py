"""Compiling kernels the first time, on two cores: a second process compiles one half beside this one."""

from __future__ import annotations

import subprocess
import sys
from typing import TYPE_CHECKING

from tinclock.core.warming import is_compiled, warm_up

if TYPE_CHECKING:
    from collections.abc import Callable

AHEAD = "import tinclock; tinclock.warm_up(ahead=True)"
LAST_S = 120.0
"""Time that this process waits for the other one before it compiles by itself."""


def warm_up_beside(on_progress: Callable[[str, int, int], None] | None = None) -> None:
    """`warm_up`, with the help of another process where nothing was compiled before."""
    other = None
    if not is_compiled():
        silent = subprocess.DEVNULL
        other = subprocess.Popen([sys.executable, "-c", AHEAD], stdin=silent, stdout=silent, stderr=silent)

    def wait() -> None:
        if other is None:
            return
        try:
            other.wait(LAST_S)
        except subprocess.TimeoutExpired:
            other.kill()
            other.wait()

    try:
        warm_up(on_progress, wait=wait)
    finally:
        wait()
