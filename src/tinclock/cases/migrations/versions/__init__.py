"""The case store's schema, version by version (Alembic)."""
