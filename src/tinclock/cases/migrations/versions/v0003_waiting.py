"""Plain words: a case that waits is "waiting", and the table of evidence by kind is named for what it holds."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Rename, in rows too."""
    op.rename_table("strands", "kinds")
    _replace("watch", "waiting")


def downgrade() -> None:
    """Back."""
    op.rename_table("kinds", "strands")
    _replace("waiting", "watch")


def _replace(old: str, new: str) -> None:
    for table, column in (("cases", "state"), ("decisions", "verdict")):
        where = sa.table(table, sa.column(column, sa.String))
        op.execute(where.update().where(where.c[column] == old).values({column: new}))
