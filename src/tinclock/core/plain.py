"""Plain data: what JSON and TOML hold, and rows of tables, by the names of their fields."""

from __future__ import annotations

from typing import Any

import numpy as np

Fields = dict[str, Any]
"""Values by name."""


def plain_number(value: Any) -> Any:
    """Return one of NumPy's numbers as Python's, and everything else as it is."""
    return value.item() if isinstance(value, np.generic) else value
