"""The store notes who looked at what at the review desk."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Add the table."""
    big = sa.BigInteger().with_variant(sa.Integer, "sqlite")
    op.create_table(
        "looks",
        sa.Column("id", big, primary_key=True),
        sa.Column("at", sa.Float, nullable=False),
        sa.Column("reviewer", sa.String(200), nullable=False),
        sa.Column("page", sa.String(20), nullable=False),
        sa.Column("account", sa.String(200)),
        sa.Column("match", sa.String(200)),
    )
    op.create_index("ix_looks_account", "looks", ["account"])


def downgrade() -> None:
    """Drop it."""
    op.drop_table("looks")
