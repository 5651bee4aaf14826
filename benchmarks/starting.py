"""From starting Python to a first ruling, with kernels in the cache; and compiling all of them, in an empty one."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

EXAMPLE = Path(__file__).resolve().parent.parent / "examples" / "first_ruling.py"
COMPILE = "from tinclock.cli.compiling import warm_up_beside; warm_up_beside()"
ENVIRONMENT = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def seconds(*command: str, **environment: str) -> float:
    """How long a command takes in a process of its own."""
    start = time.perf_counter()
    subprocess.run(
        [sys.executable, *command], env={**ENVIRONMENT, **environment}, check=True, stdout=subprocess.DEVNULL
    )
    return time.perf_counter() - start


def main() -> None:
    """Time both, and print."""
    seconds("-c", COMPILE)  # whatever is missing
    first = sorted(seconds(str(EXAMPLE)) for _ in range(9))
    numba = sorted(seconds("-c", "import numba, numpy") for _ in range(9))
    print(f"a process with its first ruling   {first[4]:6.2f} s, best {first[0]:.2f} (goal at most 0.5)")
    print(f"of it: starting, importing Numba  {numba[4]:6.2f} s, best {numba[0]:.2f}")
    with tempfile.TemporaryDirectory() as cache:
        everything = seconds("-c", COMPILE, NUMBA_CACHE_DIR=cache)
    print(f"compiling every kernel            {everything:6.1f} s (goal at most 30)")


if __name__ == "__main__":
    main()
