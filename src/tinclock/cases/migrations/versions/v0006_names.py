"""The store calls findings and evidence by the names of version 0.3."""

from __future__ import annotations

import json
from typing import Any, Final

import sqlalchemy as sa
from alembic import op

from tinclock.intake.old_names import FINDINGS

revision = "0006"
down_revision = "0005"

NAMES: Final = {
    **FINDINGS, "hit_share": "hit_fraction", "head_share": "head_fraction", "lucky_numbers": "spread_number_picking",
    "two_faces": "inconsistent_stamps", "far_blows": "far_melee",
    "fair_accounts": "honest_accounts", "fair_minutes": "honest_minutes", "unfair_accounts": "cheating_accounts",
    "unfair_minutes": "cheating_minutes", "fair_per_min": "honest_per_min", "unfair_per_min": "cheating_per_min",
    "footing": "calibrated_rules",
}  # fmt: skip
WORDS: Final = {"kinds": ("kind",), "findings": ("code",), "gains": ("kind",)}
TEXTS: Final = {"plays": "course", "gains": "body", "cases": "kinds", "decisions": "kinds", "weights": "body"}
"""Columns of words, and of JSON, by table."""


def upgrade() -> None:
    """Rename them."""
    _rename(NAMES)


def downgrade() -> None:
    """Name them as they were."""
    _rename({new: old for old, new in NAMES.items()})


def _rename(names: dict[str, str]) -> None:
    connection = op.get_bind()
    for table, columns in WORDS.items():
        for column in columns:
            held = sa.table(table, sa.column(column))
            for old, new in names.items():
                connection.execute(held.update().where(held.c[column] == old).values({column: new}))
    for table, column in TEXTS.items():
        key = "digest" if table == "weights" else "id"
        held = sa.table(table, sa.column(key), sa.column(column))
        for row, text in connection.execute(sa.select(held.c[key], held.c[column])).all():
            told = json.loads(text)
            renamed = _renamed(told, names)
            if renamed != told:
                connection.execute(held.update().where(held.c[key] == row).values({column: json.dumps(renamed)}))


def _renamed(value: Any, names: dict[str, str]) -> Any:
    """Return plain data with other names: of keys, and of whole texts."""
    if isinstance(value, dict):
        return {names.get(key, key): _renamed(one, names) for key, one in value.items()}
    if isinstance(value, list):
        return [_renamed(one, names) for one in value]
    return names.get(value, value) if isinstance(value, str) else value
