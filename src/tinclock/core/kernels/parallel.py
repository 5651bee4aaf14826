"""Splitting one big batch over the machine's cores. Kernels release the lock, so plain threads do."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

SMALLEST_CHUNK = 2048


def in_chunks(count: int, work: Callable[[slice], object], threads: int | None = None) -> None:
    """Call `work` on slices that together cover range(count), in threads when that is worth it.

    The results must not depend on the split; `threads` defaults to the number of cores this process may use.
    """
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    pieces = min(threads or cores, max(1, count // SMALLEST_CHUNK))
    if pieces == 1:
        work(slice(0, count))
        return
    edges = [count * k // pieces for k in range(pieces + 1)]
    with ThreadPoolExecutor(pieces) as pool:
        for done in [pool.submit(work, slice(a, b)) for a, b in pairwise(edges)]:
            done.result()
