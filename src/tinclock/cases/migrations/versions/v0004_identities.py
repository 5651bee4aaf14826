"""Matches know their identity and how far they were weighed; cases keep the table that they were weighed with."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the columns and the tables of weights."""
    op.create_table(
        "weights",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("body", sa.Text, nullable=False),
    )
    big = sa.BigInteger().with_variant(sa.Integer, "sqlite")
    op.add_column("matches", sa.Column("identity", sa.String(64)))
    op.add_column("matches", sa.Column("rulings", big, nullable=False, server_default="0"))
    op.add_column("matches", sa.Column("weights", sa.String(64)))
    op.create_index("ix_matches_identity", "matches", ["identity"], unique=True)
    op.add_column("cases", sa.Column("weights", sa.String(64)))


def downgrade() -> None:
    """Drop them."""
    op.drop_column("cases", "weights")
    op.drop_index("ix_matches_identity", "matches")
    for name in ("weights", "rulings", "identity"):
        op.drop_column("matches", name)
    op.drop_table("weights")
