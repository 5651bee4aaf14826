"""Compiling kernels the first time, on two cores: a second process compiles one half beside this one."""

from __future__ import annotations

import subprocess
import sys
from typing import TYPE_CHECKING

from tinclock.core.warming import is_compiled, warm_up

if TYPE_CHECKING:
    from collections.abc import Callable

AHEAD = "import tinclock; tinclock.warm_up(ahead=True)"
LAST_S = 60.0
"""So long the other process may still compile what this one has already."""


def warm_up_beside(on_progress: Callable[[str, int, int], None] | None = None) -> None:
    """`warm_up`, with the help of another process where nothing was compiled before."""
    other = None
    if not is_compiled():
        silent = subprocess.DEVNULL
        other = subprocess.Popen([sys.executable, "-c", AHEAD], stdin=silent, stdout=silent, stderr=silent)
    try:
        warm_up(on_progress)
    finally:
        if other is not None:
            try:
                other.wait(LAST_S)
            except subprocess.TimeoutExpired:
                other.kill()
                other.wait()
