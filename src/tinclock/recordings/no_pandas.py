"""Arrow without pandas, in processes of our own."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence
    from importlib.machinery import ModuleSpec
    from types import ModuleType


class _NoPandas:
    """Says that there is no pandas."""

    def find_spec(
        self, name: str, path: Sequence[str] | None = None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        """Finder that imports ask first."""
        if name == "pandas":
            raise ModuleNotFoundError("no command of Tin Clock needs pandas", name=name)
        return None


def without_pandas() -> None:
    """Keep Arrow from importing pandas in this process, which no command has a use for.

    It does so at its first array, wherever pandas is installed, only to see whether the array is one of its own: half
    a second. For processes that run nothing but ours; a recording's tables go to pandas in everybody else's.
    """
    if not any(isinstance(finder, _NoPandas) for finder in sys.meta_path):
        sys.meta_path.insert(0, _NoPandas())
