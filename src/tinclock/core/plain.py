"""Plain data: what JSON and TOML hold, and rows of tables, by the names of their fields."""

from __future__ import annotations

from typing import Any

Fields = dict[str, Any]
"""Values by name."""
