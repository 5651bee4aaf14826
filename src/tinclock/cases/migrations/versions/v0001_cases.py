"""The first schema: accounts, strands, plays, findings, gains, cases, decisions, what was forgotten."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
BIG = sa.BigInteger().with_variant(sa.Integer, "sqlite")


def _account() -> sa.Column[str]:
    key = sa.ForeignKey("accounts.account", ondelete="CASCADE")
    return sa.Column("account", sa.String(200), key, nullable=False)


def _of_match() -> list[sa.Column[Any]]:
    return [sa.Column("id", BIG, primary_key=True), _account(), sa.Column("match", sa.String(200), nullable=False)]


def upgrade() -> None:
    """Create them all."""
    whole, number, text = sa.Integer, sa.Float, sa.Text
    op.create_table(
        "accounts",
        sa.Column("account", sa.String(200), primary_key=True),
        *[sa.Column(name, number, nullable=False) for name in ("first_seen", "last_seen")],
        sa.Column("matches", whole, nullable=False),
        *[sa.Column(name, number, nullable=False) for name in ("minutes", "decibans", "peak")],
    )
    op.create_table(
        "matches",
        sa.Column("match", sa.String(200), primary_key=True),
        sa.Column("taken_at", number, nullable=False),
        sa.Column("server", sa.String(200), nullable=False),
        sa.Column("recording", text, nullable=False),
    )
    op.create_table(
        "strands",
        sa.Column("account", sa.String(200), sa.ForeignKey("accounts.account", ondelete="CASCADE"), primary_key=True),
        sa.Column("kind", sa.String(60), primary_key=True),
        sa.Column("past", number, nullable=False),
        sa.Column("matches", whole, nullable=False),
    )
    op.create_table(
        "plays",
        *_of_match(),
        sa.Column("number", whole, nullable=False),
        *[sa.Column(name, number, nullable=False) for name in ("minutes", "decibans")],
        sa.Column("course", text, nullable=False),
        sa.UniqueConstraint("account", "match", name="uq_plays_account_match"),
    )
    op.create_table(
        "findings",
        *_of_match(),
        sa.Column("ruling", BIG, nullable=False),
        sa.Column("server_time", number, nullable=False),
        sa.Column("code", sa.String(60), nullable=False),
        *[sa.Column(name, number) for name in ("observed", "limit", "margin")],
        sa.Column("unit", sa.String(20), nullable=False),
        sa.Column("detail", text, nullable=False),
    )
    op.create_index("ix_findings_account_code", "findings", ["account", "code"])
    op.create_table(
        "gains",
        *_of_match(),
        sa.Column("server_time", number, nullable=False),
        sa.Column("kind", sa.String(60), nullable=False),
        sa.Column("decibans", number, nullable=False),
        sa.Column("body", text, nullable=False),
    )
    op.create_index("ix_gains_account_decibans", "gains", ["account", "decibans"])
    _reviewing()


def _reviewing() -> None:
    number, text = sa.Float, sa.Text
    op.create_table(
        "cases",
        sa.Column("id", BIG, primary_key=True),
        _account(),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("opened_at", number, nullable=False),
        sa.Column("opened_in", sa.String(200), nullable=False),
        *[sa.Column(name, number, nullable=False) for name in ("changed_at", "decibans", "peak", "limit")],
        sa.Column("kinds", text, nullable=False),
        sa.Column("why", text, nullable=False),
        sa.UniqueConstraint("account", name="uq_cases_account"),
    )
    op.create_index("ix_cases_state_peak", "cases", ["state", "peak"])
    op.create_table(
        "decisions",
        sa.Column("id", BIG, primary_key=True),
        sa.Column("case", BIG, sa.ForeignKey("cases.id", ondelete="CASCADE"), nullable=False),
        sa.Column("at", number, nullable=False),
        sa.Column("reviewer", sa.String(200), nullable=False),
        sa.Column("verdict", sa.String(20), nullable=False),
        sa.Column("note", text, nullable=False),
        sa.Column("decibans", number, nullable=False),
        sa.Column("kinds", text, nullable=False),
        sa.Column("log_number", BIG),
        sa.Column("log_digest", sa.String(64)),
    )
    op.create_index("ix_decisions_case", "decisions", ["case"])
    op.create_table(
        "forgotten",
        sa.Column("id", BIG, primary_key=True),
        sa.Column("at", number, nullable=False),
        sa.Column("reviewer", sa.String(200), nullable=False),
        sa.Column("reason", text, nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("findings", sa.Integer, nullable=False),
        sa.Column("matches", sa.Integer, nullable=False),
        sa.Column("had_case", sa.Boolean, nullable=False),
    )


def downgrade() -> None:
    """Drop them all."""
    for table in ("forgotten", "decisions", "cases", "gains", "findings", "plays", "strands", "matches", "accounts"):
        op.drop_table(table)
