"""The tables of the case store. What changes here needs a new version in `migrations/versions`."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

METADATA = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "pk": "pk_%(table_name)s",
    }
)
_BIG = BigInteger().with_variant(Integer, "sqlite")  # SQLite numbers rows by themselves only in an INTEGER

ACCOUNTS = Table(
    "accounts", METADATA,
    Column("account", String(200), primary_key=True),
    Column("first_seen", Float, nullable=False),
    Column("last_seen", Float, nullable=False),
    Column("matches", Integer, nullable=False),
    Column("minutes", Float, nullable=False),
    Column("decibans", Float, nullable=False),
    Column("peak", Float, nullable=False),
)  # fmt: skip

MATCHES = Table(
    "matches", METADATA,
    Column("match", String(200), primary_key=True),
    Column("taken_at", Float, nullable=False),
    Column("server", String(200), nullable=False),
    Column("recording", Text, nullable=False),
    Column("identity", String(64)),
    Column("rulings", _BIG, nullable=False, server_default="0"),
    Column("weights", String(64)),
    Index(None, "identity", unique=True),
)  # fmt: skip

WEIGHTS = Table(
    "weights", METADATA,
    Column("digest", String(64), primary_key=True),
    Column("body", Text, nullable=False),
)  # fmt: skip

KINDS = Table(
    "kinds", METADATA,
    Column("account", String(200), ForeignKey("accounts.account", ondelete="CASCADE"), primary_key=True),
    Column("kind", String(60), primary_key=True),
    Column("past", Float, nullable=False),
    Column("matches", Integer, nullable=False),
)  # fmt: skip

PLAYS = Table(
    "plays", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("account", String(200), ForeignKey("accounts.account", ondelete="CASCADE"), nullable=False),
    Column("match", String(200), nullable=False),
    Column("number", Integer, nullable=False),
    Column("minutes", Float, nullable=False),
    Column("decibans", Float, nullable=False),
    Column("course", Text, nullable=False),
    UniqueConstraint("account", "match"),
)  # fmt: skip

FINDINGS = Table(
    "findings", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("account", String(200), ForeignKey("accounts.account", ondelete="CASCADE"), nullable=False),
    Column("match", String(200), nullable=False),
    Column("ruling", _BIG, nullable=False),
    Column("server_time", Float, nullable=False),
    Column("code", String(60), nullable=False),
    Column("observed", Float),
    Column("limit", Float),
    Column("margin", Float),
    Column("unit", String(20), nullable=False),
    Column("detail", Text, nullable=False),
    Index(None, "account", "code"),
)  # fmt: skip

GAINS = Table(
    "gains", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("account", String(200), ForeignKey("accounts.account", ondelete="CASCADE"), nullable=False),
    Column("match", String(200), nullable=False),
    Column("server_time", Float, nullable=False),
    Column("kind", String(60), nullable=False),
    Column("decibans", Float, nullable=False),
    Column("body", Text, nullable=False),
    Index(None, "account", "decibans"),
)  # fmt: skip

CASES = Table(
    "cases", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("account", String(200), ForeignKey("accounts.account", ondelete="CASCADE"), nullable=False, unique=True),
    Column("state", String(20), nullable=False),
    Column("opened_at", Float, nullable=False),
    Column("opened_in", String(200), nullable=False),
    Column("changed_at", Float, nullable=False),
    Column("decibans", Float, nullable=False),
    Column("peak", Float, nullable=False),
    Column("limit", Float, nullable=False),
    Column("kinds", Text, nullable=False),
    Column("why", Text, nullable=False),
    Column("weights", String(64)),
    Index(None, "state", "peak"),
)  # fmt: skip

DECISIONS = Table(
    "decisions", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("case", _BIG, ForeignKey("cases.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("at", Float, nullable=False),
    Column("reviewer", String(200), nullable=False),
    Column("verdict", String(20), nullable=False),
    Column("note", Text, nullable=False),
    Column("decibans", Float, nullable=False),
    Column("kinds", Text, nullable=False),
    Column("log_number", _BIG),
    Column("log_digest", String(64)),
)  # fmt: skip

LOOKS = Table(
    "looks", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("at", Float, nullable=False),
    Column("reviewer", String(200), nullable=False),
    Column("page", String(20), nullable=False),
    Column("account", String(200), index=True),
    Column("match", String(200)),
)  # fmt: skip

UNTOLD = Table(
    "untold", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("event", String(20), nullable=False),
    Column("case", Text, nullable=False),
)  # fmt: skip

FORGOTTEN = Table(
    "forgotten", METADATA,
    Column("id", _BIG, primary_key=True),
    Column("at", Float, nullable=False),
    Column("reviewer", String(200), nullable=False),
    Column("reason", Text, nullable=False),
    Column("digest", String(64), nullable=False),
    Column("findings", Integer, nullable=False),
    Column("matches", Integer, nullable=False),
    Column("had_case", Boolean, nullable=False),
)  # fmt: skip
