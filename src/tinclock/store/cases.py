"""The case store: accounts, their evidence over all matches, cases, decisions. SQLite by default, PostgreSQL for many.

Several servers may write at once. A match is taken in one transaction, in which the rows of its accounts are locked in
the order of their names, so that the running evidence of an account is never computed twice from the same past.
"""

from __future__ import annotations

import time
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.core.errors import EvidenceError, MissingExtraError
from tinclock.core.evidence.course import crossed, peak
from tinclock.core.evidence.eprocess import DECIBAN, Strand, combined, limit_decibans
from tinclock.core.evidence.watch import after_match, with_match
from tinclock.store.case_records import Case, PlayCourse
from tinclock.store.explained import why_line

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping
    from contextlib import AbstractContextManager

    from sqlalchemy import Connection, Engine, Row

    from tinclock.core.evidence.course import Course
    from tinclock.core.evidence.weights import Weights
    from tinclock.core.records import Finding

ALPHA = 0.001
"""Of fair accounts, at most so many ever get a case."""
KEPT_KINDS = 8
BUSY_S = 60.0
SMALLEST_GAIN = 0.5
"""Gains of fewer decibans either way are added up and not listed one by one."""


def require_store() -> None:
    """Raise `MissingExtraError` where the packages of the extra `cases` aren't installed."""
    try:
        import alembic  # noqa: F401
        import sqlalchemy  # noqa: F401
    except ImportError:
        raise MissingExtraError("CaseStore", "SQLAlchemy and Alembic", "cases") from None


class CaseStore:
    """A case store at an address.

    address : a file for SQLite, or a URL such as postgresql+psycopg://user@host/name
    alpha : the share of fair accounts that may ever get a case
    on_case : called with each case that opened or whose evidence or state changed

    Raises `EvidenceError` for an address that can't be used or a schema of a newer version.
    """

    def __init__(
        self, address: str | Path, *, alpha: float = ALPHA, on_case: Callable[[str, Case], None] | None = None
    ) -> None:
        require_store()
        self.address = str(address)
        self.limit = limit_decibans(alpha)
        self.on_case = on_case
        self.engine = _engine(self.address)
        try:
            self._migrate()
        except EvidenceError:
            self.engine.dispose()
            raise

    def close(self) -> None:
        """Let go of its connections."""
        self.engine.dispose()

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

    def has_match(self, match: str) -> bool:
        """Whether a match was taken already."""
        from sqlalchemy import select

        from tinclock.store.case_tables import MATCHES

        with self.read() as connection:
            return connection.execute(select(MATCHES.c.match).where(MATCHES.c.match == match)).first() is not None

    def earlier(self, account: str) -> dict[str, Strand]:
        """What an account's earlier matches left, by kind: `Course.points` adds the match under way to it."""
        with self.read() as connection:
            return _strands(connection, account)

    def take_match(
        self, match: str, course: Course, weights: Weights, findings: Iterable[tuple[int, Finding]] = (), *,
        recording: str = "", server: str = "", at: float | None = None,
    ) -> list[Case]:  # fmt: skip
        """Take in the evidence of a whole match; returns the cases that it opened. A match is taken once.

        match : its name, unlike any other's; findings : with their rulings' numbers; at : unix time, by default now

        Raises `EvidenceError` for a match that was taken before; nothing is changed then.
        """
        now = time.time() if at is None else at
        by_account: dict[str, list[tuple[int, Finding]]] = {}
        for number, finding in findings:
            by_account.setdefault(finding.account, []).append((number, finding))
        told: list[tuple[str, Case]] = []
        with self.write() as connection:
            if not _insert_new(
                connection, "MATCHES", {"match": match, "taken_at": now, "server": server, "recording": recording}
            ):
                raise EvidenceError(self._shown(), f"match {match!r} was taken before; each counts once")
            for account in sorted(course.stages):
                what = self._take_account(connection, account, match, course, weights, now)
                _insert_findings(connection, account, match, by_account.get(account, []))
                if what is not None:
                    told.append(what)
        if self.on_case is not None:
            for event, case in told:
                self.on_case(event, case)
        return [case for event, case in told if event == "opened"]

    def _take_account(
        self, connection: Connection, account: str, match: str, course: Course, weights: Weights, now: float
    ) -> tuple[str, Case] | None:
        from sqlalchemy import select, update

        from tinclock.store.case_tables import ACCOUNTS, GAINS, PLAYS

        fresh = {
            "account": account, "first_seen": now, "last_seen": now, "matches": 0, "minutes": 0.0, "decibans": 0.0,
            "peak": 0.0,
        }  # fmt: skip
        _insert_new(connection, "ACCOUNTS", fresh)
        row = connection.execute(select(ACCOUNTS).where(ACCOUNTS.c.account == account).with_for_update()).one()
        strands = _strands(connection, account)
        shares, ended = weights.kinds(), course.now(account)
        points = course.points(account, shares, strands)
        after = after_match(strands, ended)
        value, most = combined(with_match(strands, ended), shares), max(row.peak, peak(points))
        connection.execute(
            update(ACCOUNTS).where(ACCOUNTS.c.account == account).values(
                last_seen=max(now, row.last_seen), matches=row.matches + 1, decibans=value, peak=most,
                minutes=row.minutes + course.minutes.get(account, 0.0),
            )
        )  # fmt: skip
        _save_strands(connection, account, after)
        kinds = {kind: log_e / DECIBAN for kind, log_e in sorted(ended.items(), key=lambda item: -item[1])}
        told = PlayCourse(
            [(at, round(v, 3)) for at, v in points], {k: round(v, 2) for k, v in list(kinds.items())},
            [(at, *line) for at, line in course.lines.get(account, [])], _aim(course, account),
            _by_kind(course, account, list(kinds)),
        )  # fmt: skip
        connection.execute(
            PLAYS.insert().values(
                account=account, match=match, number=row.matches + 1, minutes=course.minutes.get(account, 0.0),
                decibans=value, course=msgspec.json.encode(told).decode(),
            )
        )  # fmt: skip
        rows = [
            {
                "account": account, "match": match, "server_time": gain.server_time, "kind": gain.kind,
                "decibans": gain.decibans, "body": msgspec.json.encode(gain).decode(),
            }
            for gain in course.gains
            if gain.account == account and abs(gain.decibans) >= SMALLEST_GAIN
        ]  # fmt: skip
        if rows:
            connection.execute(GAINS.insert(), rows)
        return self._keep_case(connection, account, match, with_match(strands, ended), value, points, now)

    def _keep_case(
        self, connection: Connection, account: str, match: str, strands: Mapping[str, Strand], value: float,
        points: list[tuple[float, float]], now: float,
    ) -> tuple[str, Case] | None:  # fmt: skip
        """Open the account's case where the evidence says so, or bring an open one up to date."""
        from sqlalchemy import select, update

        from tinclock.store.case_tables import CASES

        most = peak(points)
        held = connection.execute(select(CASES).where(CASES.c.account == account)).first()
        strongest = sorted(((s.decibans, kind) for kind, s in strands.items()), reverse=True)[:KEPT_KINDS]
        kinds = {kind: round(decibans, 2) for decibans, kind in strongest}
        text = msgspec.json.encode(kinds).decode()
        if held is None:
            if most < self.limit:
                return None
            values = {
                "account": account, "state": "open", "opened_at": now, "opened_in": match, "changed_at": now,
                "decibans": value, "peak": most, "limit": self.limit, "kinds": text,
                "why": why_line(kinds, match, crossed(points, self.limit)),
            }  # fmt: skip
            connection.execute(CASES.insert().values(**values))
            what = "opened"
        else:
            worse = most > held.peak + 10.0
            values = {"decibans": value, "peak": max(held.peak, most), "kinds": text, "changed_at": now}
            if held.state == "watch" and worse:
                values["state"] = "open"
            connection.execute(update(CASES).where(CASES.c.id == held.id).values(**values))
            what = "changed"
        return what, case_of(connection.execute(select(CASES).where(CASES.c.account == account)).one())


def case_of(row: Row[Any]) -> Case:
    """A row of the cases as a record."""
    kinds = msgspec.json.decode(row.kinds, type=dict[str, float])
    return Case(
        row.id, row.account, row.state, row.opened_at, row.opened_in, row.changed_at, row.decibans, row.peak,
        row.limit, kinds, row.why,
    )  # fmt: skip


def _aim(course: Course, account: str) -> dict[str, tuple[float, float]]:
    out: dict[str, tuple[float, float]] = {}
    for gain in course.gains:
        if gain.account == account and gain.trials:
            k, n = out.get(gain.kind, (0.0, 0.0))
            out[gain.kind] = (k + gain.successes, n + gain.trials)
    return out


def _by_kind(course: Course, account: str, strongest: list[str]) -> dict[str, list[float]]:
    """Decibans after each stretch of the kinds that moved most."""
    return {
        kind: [round(now.get(kind, 0.0) / DECIBAN, 2) for _, now in course.stages[account]]
        for kind in strongest[:KEPT_KINDS]
    }


def _strands(connection: Connection, account: str) -> dict[str, Strand]:
    from sqlalchemy import select

    from tinclock.store.case_tables import STRANDS

    rows = connection.execute(select(STRANDS).where(STRANDS.c.account == account))
    return {row.kind: Strand(row.past, row.matches) for row in rows}


def _save_strands(connection: Connection, account: str, after: Mapping[str, Strand]) -> None:
    from sqlalchemy import delete

    from tinclock.store.case_tables import STRANDS

    connection.execute(delete(STRANDS).where(STRANDS.c.account == account))
    rows = [
        {"account": account, "kind": kind, "past": s.past, "matches": s.matches} for kind, s in sorted(after.items())
    ]
    if rows:
        connection.execute(STRANDS.insert(), rows)


def _insert_findings(connection: Connection, account: str, match: str, found: list[tuple[int, Finding]]) -> None:
    from tinclock.store.case_tables import FINDINGS

    rows = [
        {
            "account": account, "match": match, "ruling": number, "server_time": f.server_time, "code": f.code,
            "observed": f.observed, "limit": f.limit, "margin": f.margin, "unit": f.unit, "detail": f.detail[:500],
        }
        for number, f in found
    ]  # fmt: skip
    if rows:
        connection.execute(FINDINGS.insert(), rows)


def _insert_new(connection: Connection, table: str, values: dict[str, Any]) -> bool:
    """Insert a row unless its key is there; whether it was inserted."""
    from sqlalchemy.dialects import postgresql, sqlite

    from tinclock.store import case_tables

    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    into = getattr(case_tables, table)
    insert = dialect.insert(into).values(**values).on_conflict_do_nothing().returning(*into.primary_key)
    return connection.execute(insert).first() is not None


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
        engine = create_engine(url)
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


def _sqlite_connected(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions begin where `_sqlite_begins` says
    for pragma in ("journal_mode=WAL", "foreign_keys=ON", f"busy_timeout={int(1000 * BUSY_S)}", "synchronous=FULL"):
        connection.execute(f"PRAGMA {pragma}")


def _sqlite_begins(connection: Connection) -> None:
    reading = connection.get_execution_options().get("reading", False)
    connection.exec_driver_sql("BEGIN" if reading else "BEGIN IMMEDIATE")  # a reader that turns writer would be refused


def _first_line(error: Exception) -> str:
    return str(getattr(error, "orig", None) or error).splitlines()[0]
