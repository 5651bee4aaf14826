"""Notices that wait until they are handed on: written with the case itself, so that none is ever lost."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Create the table."""
    op.create_table(
        "untold",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer, "sqlite"), primary_key=True),
        sa.Column("event", sa.String(20), nullable=False),
        sa.Column("case", sa.Text, nullable=False),
    )


def downgrade() -> None:
    """Drop it."""
    op.drop_table("untold")
