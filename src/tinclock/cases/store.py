"""The case store: accounts, their evidence over all matches, cases, decisions. SQLite by default, PostgreSQL for many.

Several servers may write at once. A match is taken in one transaction, in which the rows of its accounts are locked in
the order of their names, so that the running evidence of an account is never computed twice from the same past.
"""

from __future__ import annotations

import time
from contextlib import contextmanager
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.cases.records import Case
from tinclock.core.errors import AlreadyImportedError, EvidenceError, MissingExtraError
from tinclock.core.evidence.eprocess import KindEvidence, limit_decibans
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from contextlib import AbstractContextManager

    from sqlalchemy import Connection, Engine

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
    from tinclock.core.findings import Finding

ALPHA = 0.001
"""Of honest accounts, at most so many ever get a case."""
BUSY_S, STATEMENT_S = 60.0, 120.0
"""Timeouts: of a writer that waits for another one, and of one statement."""
ANSWER_S = 5
"""Timeout of a database connection, seconds."""
SCHEMA = "0006"
"""The newest of `migrations/versions`."""


def require_store() -> None:
    """Raise `MissingExtraError` where the packages of the extra `cases` aren't installed."""
    try:
        import sqlalchemy  # noqa: F401

        is_there = find_spec("alembic") is not None  # it is imported where a schema isn't this version's
    except ImportError:
        is_there = False
    if not is_there:
        raise MissingExtraError("CaseStore", "SQLAlchemy and Alembic", "cases")


class CaseStore:
    """A case store at an address.

    address : a file for SQLite, or a URL such as postgresql+psycopg://user@host/name
    alpha : the share of honest accounts that may ever get a case
    on_case : called with each case that opened or whose evidence or state changed
    keep_notices : keep what is to be told though nobody is told yet, for a later run that has an `on_case`

    Raises `EvidenceError` for an address that can't be used or a schema of a newer version.
    """

    def __init__(
        self, address: str | Path, *, alpha: float = ALPHA, on_case: Callable[[str, Case], None] | None = None,
        keep_notices: bool = False,
    ) -> None:  # fmt: skip
        require_store()
        self.address = str(address)
        self.limit = limit_decibans(alpha)
        self.on_case, self._keep_notices = on_case, keep_notices
        self.engine = _engine(self.address)
        try:
            if not self._is_current():
                self._migrate()
        except EvidenceError:
            self.engine.dispose()
            raise

    def close(self) -> None:
        """Let go of its connections."""
        self.engine.dispose()

    def _is_current(self) -> bool:
        """True if the schema is this version's already: most stores are, and Alembic takes half a second to import."""
        from sqlalchemy import text
        from sqlalchemy.exc import SQLAlchemyError

        newest = text("SELECT version_num FROM alembic_version")
        try:
            with self.engine.connect().execution_options(reading=True) as connection:
                try:
                    return connection.execute(newest).scalars().all() == [SCHEMA]
                except SQLAlchemyError:
                    return False  # a new database, or one that says what is wrong as it is brought up to date
        except SQLAlchemyError as error:
            raise EvidenceError(self._shown(), f"can't be opened: {_first_line(error)}") from None

    def _migrate(self) -> None:
        """Bring the schema to this version's."""
        from alembic import command
        from alembic.config import Config
        from alembic.util import CommandError
        from sqlalchemy.exc import SQLAlchemyError

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).with_name("migrations")))
        try:
            with self.engine.begin() as connection:
                if self.engine.dialect.name == "postgresql":  # two that start at once must not both create tables
                    connection.exec_driver_sql("SELECT pg_advisory_xact_lock(7436812)")
                config.attributes["connection"] = connection
                command.upgrade(config, "head")
        except CommandError as error:
            problem = f"its schema is of a newer version than this one knows, or damaged: {error}"
            raise EvidenceError(self._shown(), problem) from None
        except SQLAlchemyError as error:
            raise EvidenceError(self._shown(), f"can't be opened: {_first_line(error)}") from None

    def _shown(self) -> str:
        return self.engine.url.render_as_string(hide_password=True)

    def write(self) -> AbstractContextManager[Connection]:
        """A transaction that writes. What the database refuses raises `EvidenceError`."""
        return self._transaction(reading=False)

    def read(self) -> AbstractContextManager[Connection]:
        """A transaction that only reads: it waits for no writer."""
        return self._transaction(reading=True)

    @contextmanager
    def _transaction(self, reading: bool) -> Iterator[Connection]:
        from sqlalchemy.exc import SQLAlchemyError

        try:
            with self.engine.connect().execution_options(reading=reading) as connection, connection.begin():
                yield connection
        except SQLAlchemyError as error:
            raise EvidenceError(self._shown(), _first_line(error)) from None

    # -- taking matches ---------------------------------------------------------------------------------------

    def has_match(self, match: str, identity: str = "", rulings: int = 0) -> bool:
        """True if a match was taken already, at least as far.

        identity : of the match, whatever it is called now; rulings : how many it has, by default as many as are known
        """
        with self.read() as connection:
            row = _known(connection, match, identity)
        return row is not None and (row.identity is None or row.rulings >= rulings)

    def name_of(self, match: str, identity: str) -> str:
        """Return what a match is called in this store; the name given where it was never taken."""
        with self.read() as connection:
            row = _known(connection, match, identity)
        return match if row is None else str(row.match)

    def earlier(self, account: str) -> dict[str, KindEvidence]:
        """Return an account's state after its earlier matches, by kind."""
        from tinclock.cases.importing import evidence_by_kind

        with self.read() as connection:
            return evidence_by_kind(connection, [account])[account]

    def import_match(
        self, match: str, course: EvidenceTimeline, weights: Calibration, findings: Iterable[tuple[int,
        Finding]] = (), *,
        recording: str = "", server: str = "", at: float | None = None, identity: str = "", rulings: int = 0,
    ) -> list[Case]:  # fmt: skip
        """Take in the evidence of a match; returns the cases that it opened. A match counts once.

        match : its name, unlike any other's; findings : with their rulings' numbers; at : unix time, by default now
        identity, rulings : what stays the same when it is called otherwise, and how far it had come. A match that was
            taken before it was over is taken again, and what was taken before no longer counts

        Raises `AlreadyImportedError` for a match that was taken before, at least as far; nothing is changed then.
        """
        from tinclock.cases.importing import Taking

        now = time.time() if at is None else at
        with self.write() as connection:
            match = self._begin_taking(connection, match, identity, rulings, now, server, recording)
            taking = Taking(connection, match, course, weights, now, self.limit)
            told = taking.take(findings)
            self._note_weights(connection, match, taking.weights)
            self.remember(connection, told)
        self.send_pending()
        return [case for event, case in told if event == "opened"]

    def _begin_taking(
        self, connection: Connection, match: str, identity: str, rulings: int, now: float, server: str, recording: str
    ) -> str:
        """Enter a match, or hold the row of one that was taken before it was over; returns what it is called."""
        from sqlalchemy import update

        from tinclock.cases.importing import unless_there
        from tinclock.cases.tables import MATCHES

        values = {"match": match, "taken_at": now, "server": server, "recording": recording, "rulings": rulings}
        insert = unless_there(connection, "MATCHES").values(**values, identity=identity or None)
        if connection.execute(insert.returning(MATCHES.c.match)).first() is not None:
            return match
        row = _known(connection, match, identity, hold=True)
        if row is None or row.identity is None or row.rulings >= rulings:
            raise AlreadyImportedError(self._shown(), f"match {match!r} was taken before; each counts once")
        change = {"taken_at": now, "recording": recording, "rulings": rulings}
        connection.execute(update(MATCHES).where(MATCHES.c.match == row.match).values(**change))
        return str(row.match)

    @staticmethod
    def _note_weights(connection: Connection, match: str, digest: str) -> None:
        from sqlalchemy import update

        from tinclock.cases.tables import MATCHES

        connection.execute(update(MATCHES).where(MATCHES.c.match == match).values(weights=digest))

    def open_during(
        self, match: str, account: str, course: EvidenceTimeline, weights: Calibration, at: float | None = None
    ) -> Case | None:
        """Open a case while its match still goes on; None where the evidence isn't enough, or there is one already.

        match : what to call it in the case; the match itself is taken in by `import_match` once it is over
        """
        from tinclock.cases.importing import Taking

        now = time.time() if at is None else at
        with self.write() as connection:
            told = Taking(connection, match, course, weights, now, self.limit).open_during(account)
            self.remember(connection, told)
        self.send_pending()
        return told[0][1] if told else None

    # -- telling others ---------------------------------------------------------------------------------------

    def remember(self, connection: Connection, told: Iterable[tuple[str, Case]]) -> None:
        """Keep what is to be told, in the transaction that it is about: a receiver may fail, a notice isn't lost."""
        from tinclock.cases.tables import UNTOLD

        rows = [{"event": event, "case": msgspec.json.encode(case).decode()} for event, case in told]
        if rows and (self._keep_notices or self.on_case is not None):
            connection.execute(UNTOLD.insert(), rows)

    def send_pending(self) -> int:
        """Hand on what is still to be told, the oldest first; returns how many. If `on_case` raises, the rest waits."""
        from sqlalchemy import delete, select

        from tinclock.cases.tables import UNTOLD

        if self.on_case is None:
            return 0
        with self.read() as connection:
            rows = connection.execute(select(UNTOLD).order_by(UNTOLD.c.id)).all()
        for row in rows:
            self.on_case(row.event, msgspec.json.decode(row.case, type=Case))
            with self.write() as connection:
                connection.execute(delete(UNTOLD).where(UNTOLD.c.id == row.id))
        return len(rows)


def _known(connection: Connection, match: str, identity: str, *, hold: bool = False) -> Any:
    """Return the row of a match by its identity, else by its name; None for one that was never taken."""
    from sqlalchemy import or_, select

    from tinclock.cases.tables import MATCHES

    same = or_(MATCHES.c.match == match, MATCHES.c.identity == identity) if identity else MATCHES.c.match == match
    query = select(MATCHES).where(same)
    return connection.execute(query.with_for_update() if hold else query).first()


def _engine(address: str) -> Engine:
    from sqlalchemy import create_engine, event
    from sqlalchemy.exc import ArgumentError, NoSuchModuleError

    url = address
    if "://" not in address:
        try:
            Path(address).parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise EvidenceError(address, f"can't be written: {error.strerror}") from None
        url = f"sqlite:///{address}"
    try:
        engine = create_engine(url, **_patience(url))
    except (ArgumentError, NoSuchModuleError) as error:
        expected = "a file, or a URL such as postgresql+psycopg://user@host/name"
        raise EvidenceError(address, f"is no address of a database ({error}); expected {expected}") from None
    except ImportError as error:
        raise MissingExtraError("CaseStore", str(error.name), "postgresql") from None
    if engine.dialect.name not in ("sqlite", "postgresql"):
        raise EvidenceError(address, f"{engine.dialect.name} isn't supported; SQLite and PostgreSQL are")
    if engine.dialect.name == "sqlite":
        event.listen(engine, "connect", _sqlite_connected)
        event.listen(engine, "begin", _sqlite_begins)
    return engine


def _patience(url: str) -> Fields:
    """Timeouts of a server: a silent one is an error after seconds, and not a process that hangs."""
    from sqlalchemy import make_url

    found = make_url(url)
    if not found.drivername.startswith("postgresql"):
        return {}
    asked = found.query.get("options", ())
    options = [asked] if isinstance(asked, str) else list(asked)
    limits = f"-c statement_timeout={round(1000 * STATEMENT_S)} -c lock_timeout={round(1000 * BUSY_S)}"
    return {
        "pool_timeout": ANSWER_S, "pool_pre_ping": True,
        "connect_args": {
            "connect_timeout": ANSWER_S, "tcp_user_timeout": 1000 * ANSWER_S, "keepalives_idle": ANSWER_S,
            "options": " ".join([*options, limits]),
        },
    }  # fmt: skip


def _sqlite_connected(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions begin where `_sqlite_begins` says
    for pragma in ("journal_mode=WAL", "foreign_keys=ON", f"busy_timeout={int(1000 * BUSY_S)}", "synchronous=FULL"):
        connection.execute(f"PRAGMA {pragma}")


def _sqlite_begins(connection: Connection) -> None:
    reading = connection.get_execution_options().get("reading", False)
    connection.exec_driver_sql("BEGIN" if reading else "BEGIN IMMEDIATE")  # a reader that turns writer would be refused


def _first_line(error: Exception) -> str:
    return str(getattr(error, "orig", None) or error).splitlines()[0]
