"""Migrations for Alembic, over the connection that the case store hands over."""

from __future__ import annotations

from alembic import context

from tinclock.cases.tables import METADATA

context.configure(connection=context.config.attributes["connection"], target_metadata=METADATA)
with context.begin_transaction():
    context.run_migrations()
