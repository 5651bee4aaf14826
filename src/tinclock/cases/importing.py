"""Taking the evidence of one match into the case store: all its accounts together, in few statements.

The rows of its accounts are locked in the order of their names before anything is computed from them, so that servers
that write about the same accounts at once wait for each other, never deadlock, and never start from the same past.
"""

from __future__ import annotations

import hashlib
import math
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.cases.kinds import why_again, why_line
from tinclock.cases.records import Case, PlayCourse
from tinclock.core.evidence.eprocess import DECIBAN, KindEvidence, add_logs, combined
from tinclock.core.evidence.evidence_timeline import peak, threshold_reached
from tinclock.core.evidence.live import after_match, with_match
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from sqlalchemy import Connection, Row

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
    from tinclock.core.findings import Finding

KEPT_KINDS = 8
SMALLEST_GAIN = 0.5
"""Gains of fewer decibans either way are added up and not listed one by one."""
REOPENS_DB = 10.0
"""A case that waits opens again when its peak has risen by so much."""


class Taking:
    """One match being taken in, within a transaction."""

    def __init__(
        self,
        connection: Connection,
        match: str,
        course: EvidenceTimeline,
        weights: Calibration,
        now: float,
        limit: float,
    ) -> None:
        self._to, self._match, self._course = connection, match, course
        self.weights = keep_weights(connection, weights)
        self._shares, self._now, self._limit = weights.kinds(), now, limit
        self._accounts = sorted(course.stages)

    def take(self, findings: Iterable[tuple[int, Finding]]) -> list[tuple[str, Case]]:
        """Write it all; returns what became of cases: ("opened" or "changed", the case)."""
        if not self._accounts:
            return []
        from sqlalchemy import delete

        from tinclock.cases.tables import GAINS, KINDS, PLAYS

        held, by_kind = self._locked(), evidence_by_kind(self._to, self._accounts)
        again = self._taken_back(held, by_kind)
        ended = {account: self._course.now(account) for account in self._accounts}
        points = {a: self._course.points(a, self._shares, by_kind[a]) for a in self._accounts}
        values = {a: combined(with_match(by_kind[a], ended[a]), self._shares) for a in self._accounts}
        self._update_accounts(held, values, points, again)
        self._to.execute(delete(KINDS).where(KINDS.c.account.in_(self._accounts)))
        after = {account: after_match(by_kind[account], ended[account]) for account in self._accounts}
        self._insert(KINDS, [
            {"account": account, "kind": kind, "past": one.past, "matches": one.matches}
            for account, kinds in after.items() for kind, one in sorted(kinds.items())
        ])  # fmt: skip
        self._insert(PLAYS, [
            self._play(a, held[a].matches + (a not in again), values[a], points[a]) for a in self._accounts
        ])  # fmt: skip
        self._insert(GAINS, self._gains())
        self._insert_findings(findings)
        whole = {account: with_match(by_kind[account], ended[account]) for account in self._accounts}
        return self._keep_cases(whole, values, points)

    def _taken_back(
        self, held: Mapping[str, Row[Any]], by_kind: dict[str, dict[str, KindEvidence]]
    ) -> dict[str, Row[Any]]:
        """Delete what an earlier weighing of this match left, and leave in `by_kind` what the other matches did.

        Returns the plays that are deleted, by account: it may have been weighed before it was over.
        """
        from sqlalchemy import delete, select, update

        from tinclock.cases.tables import FINDINGS, GAINS, PLAYS

        query = select(PLAYS).where(PLAYS.c.match == self._match)
        before = {row.account: row for row in self._to.execute(query)}
        if not before:
            return {}
        for table in (PLAYS, GAINS, FINDINGS):
            self._to.execute(delete(table).where(table.c.match == self._match))
        others = select(PLAYS).where(PLAYS.c.account.in_(list(before))).order_by(PLAYS.c.account, PLAYS.c.number)
        for account in before.keys() & held.keys():
            by_kind[account] = {}
            later = (PLAYS.c.account == account) & (PLAYS.c.number > before[account].number)
            self._to.execute(update(PLAYS).where(later).values(number=PLAYS.c.number - 1))
        for row in self._to.execute(others):
            kinds = msgspec.json.decode(row.course, type=PlayCourse).kinds
            ended = {kind: decibans * DECIBAN for kind, decibans in kinds.items()}
            by_kind[row.account] = after_match(by_kind[row.account], ended)
        return before

    def open_during(self, account: str) -> list[tuple[str, Case]]:
        """Open an account's case by a match that isn't over yet, and write nothing else of that match."""
        from sqlalchemy import select

        from tinclock.cases.tables import CASES

        self._accounts = [account]
        by_kind = evidence_by_kind(self._to, self._accounts)[account]
        points = self._course.points(account, self._shares, by_kind)
        if peak(points) < self._limit:
            return []
        self._locked()
        if self._to.execute(select(CASES.c.id).where(CASES.c.account == account)).first() is not None:
            return []
        whole = {account: with_match(by_kind, self._course.now(account))}
        return self._keep_cases(whole, {account: points[-1][1]}, {account: points})

    def _insert(self, table: Any, rows: Sequence[Fields]) -> None:
        if rows:
            self._to.execute(table.insert(), rows)

    def _locked(self) -> dict[str, Row[Any]]:
        """The accounts' rows, made where there are none, and held until the transaction ends."""
        from sqlalchemy import select

        from tinclock.cases.tables import ACCOUNTS

        fresh = {"first_seen": self._now, "last_seen": self._now, "matches": 0}
        fresh |= {"minutes": 0.0, "decibans": 0.0, "peak": 0.0}
        insert = unless_there(self._to, "ACCOUNTS")
        self._to.execute(insert, [{"account": account, **fresh} for account in self._accounts])
        query = select(ACCOUNTS).where(ACCOUNTS.c.account.in_(self._accounts)).order_by(ACCOUNTS.c.account)
        return {row.account: row for row in self._to.execute(query.with_for_update())}

    def _update_accounts(
        self, held: Mapping[str, Row[Any]], values: Mapping[str, float],
        points: Mapping[str, list[tuple[float, float]]], again: Mapping[str, Row[Any]],
    ) -> None:  # fmt: skip
        """Again : what an earlier weighing of this match left, which no longer counts"""
        from sqlalchemy import bindparam, update

        from tinclock.cases.tables import ACCOUNTS

        names = ("last_seen", "matches", "decibans", "peak", "minutes")
        change = update(ACCOUNTS).where(ACCOUNTS.c.account == bindparam("who"))
        self._to.execute(change.values({name: bindparam(f"new_{name}") for name in names}), [
            {
                "who": account, "new_last_seen": max(self._now, row.last_seen),
                "new_matches": row.matches + (account not in again),
                "new_decibans": values[account], "new_peak": max(row.peak, peak(points[account])),
                "new_minutes": row.minutes + self._course.minutes.get(account, 0.0)
                - (again[account].minutes if account in again else 0.0),
            }
            for account, row in held.items()
        ])  # fmt: skip

    def _play(self, account: str, number: int, value: float, points: list[tuple[float, float]]) -> Fields:
        course = self._course
        kinds = {k: log_e / DECIBAN for k, log_e in sorted(course.now(account).items(), key=lambda one: -one[1])}
        told = PlayCourse(
            [(at, round(v, 3)) for at, v in points], kinds,
            [(at, line.round_trip_s, line.jitter_s) for at, line in course.connections.get(account, [])],
            _aim(course, account), _by_kind(course, account, list(kinds)), tuple(one.kind for one in course.common),
            course.muted,
        )  # fmt: skip
        return {
            "account": account, "match": self._match, "number": number,
            "minutes": course.minutes.get(account, 0.0), "decibans": value,
            "course": msgspec.json.encode(told).decode(),
        }  # fmt: skip

    def _gains(self) -> list[Fields]:
        known = set(self._accounts)
        return [
            {
                "account": gain.account, "match": self._match, "server_time": gain.server_time, "kind": gain.kind,
                "decibans": gain.decibans, "body": msgspec.json.encode(gain).decode(),
            }
            for gain in self._course.gains
            if gain.account in known and abs(gain.decibans) >= SMALLEST_GAIN
        ]  # fmt: skip

    def _insert_findings(self, found: Iterable[tuple[int, Finding]]) -> None:
        from tinclock.cases.tables import FINDINGS

        known = set(self._accounts)
        self._insert(FINDINGS, [
            {
                "account": f.account, "match": self._match, "ruling": number, "server_time": f.server_time,
                "code": f.code, "observed": f.observed, "limit": f.limit, "margin": f.margin, "unit": f.unit,
                "detail": f.detail[:500],
            }
            for number, f in found if f.account in known
        ])  # fmt: skip

    # -- cases ------------------------------------------------------------------------------------------------

    def _keep_cases(
        self, by_kind: Mapping[str, Mapping[str, KindEvidence]], values: Mapping[str, float],
        points: Mapping[str, list[tuple[float, float]]],
    ) -> list[tuple[str, Case]]:  # fmt: skip
        """Open cases where the evidence says so, and bring those up to date that there are."""
        from sqlalchemy import select

        from tinclock.cases.tables import CASES

        query = select(CASES).where(CASES.c.account.in_(self._accounts))
        held = {row.account: row for row in self._to.execute(query)}
        became: dict[str, str] = {}
        for account in self._accounts:
            strongest = sorted(((s.decibans, kind) for kind, s in by_kind[account].items()), reverse=True)[:KEPT_KINDS]
            kinds = {kind: round(decibans, 2) for decibans, kind in strongest}
            if account in held:
                self._change(held[account], by_kind[account], kinds, values[account], peak(points[account]))
                became[account] = "changed"
            elif peak(points[account]) >= self._limit:
                self._open(account, kinds, values[account], points[account])
                became[account] = "opened"
        if not became:
            return []
        rows = {row.account: row for row in self._to.execute(select(CASES).where(CASES.c.account.in_(list(became))))}
        return [(what, case_of(rows[account])) for account, what in became.items()]

    def _open(self, account: str, kinds: dict[str, float], value: float, points: list[tuple[float, float]]) -> None:
        from tinclock.cases.tables import CASES

        values = {
            "account": account, "state": "open", "opened_at": self._now, "opened_in": self._match,
            "changed_at": self._now, "decibans": value, "peak": peak(points), "limit": self._limit,
            "kinds": msgspec.json.encode(kinds).decode(),
            "why": why_line(kinds, self._match, threshold_reached(points, self._limit)), "weights": self.weights,
        }  # fmt: skip
        self._to.execute(CASES.insert().values(**values))

    def _since_decision(self, case: int, by_kind: Mapping[str, KindEvidence]) -> float:
        """Decibans of what came after a case was last decided, kind by kind; 0 for one that never was."""
        from sqlalchemy import select

        from tinclock.cases.tables import DECISIONS

        query = select(DECISIONS.c.kinds).where(DECISIONS.c.case == case).order_by(DECISIONS.c.id.desc()).limit(1)
        row = self._to.execute(query).first()
        if row is None:
            return 0.0
        then = msgspec.json.decode(row.kinds, type=dict[str, float])
        unlisted = min(then.values(), default=0.0) if len(then) >= KEPT_KINDS else 0.0
        fresh = {kind: one.decibans - then.get(kind, unlisted) for kind, one in by_kind.items()}
        logs = (math.log(share) + fresh.get(kind, 0.0) * DECIBAN for kind, share in self._shares.items())
        return add_logs(logs) / DECIBAN

    def _change(
        self, held: Row[Any], by_kind: Mapping[str, KindEvidence], kinds: dict[str, float], value: float, most: float
    ) -> None:
        from sqlalchemy import update

        from tinclock.cases.tables import CASES

        values = {
            "decibans": value, "peak": max(held.peak, most), "kinds": msgspec.json.encode(kinds).decode(),
            "changed_at": self._now, "weights": self.weights, "why": why_again(kinds, held.why),
        }  # fmt: skip
        if held.state == "waiting" and most > held.peak + REOPENS_DB:
            values["state"] = "open"
        if held.state in ("cleared", "confirmed") and self._since_decision(held.id, by_kind) >= self._limit:
            values["state"] = "open"  # a decision is about what was known then, and no licence
        self._to.execute(update(CASES).where(CASES.c.id == held.id).values(**values))


def keep_weights(connection: Connection, weights: Calibration) -> str:
    """Keep a calibration, once; returns its digest."""
    body = msgspec.json.encode(weights)
    digest = hashlib.sha256(body).hexdigest()
    connection.execute(unless_there(connection, "WEIGHTS").values(digest=digest, body=body.decode()))
    return digest


def kept_weights(connection: Connection, digest: str | None) -> Calibration | None:
    """Return the calibration with a digest; None where none was kept."""
    from sqlalchemy import select

    from tinclock.cases.tables import WEIGHTS
    from tinclock.core.evidence.calibration_table import Calibration

    row = connection.execute(select(WEIGHTS.c.body).where(WEIGHTS.c.digest == (digest or ""))).first()
    return None if row is None else msgspec.json.decode(row.body, type=Calibration)


def case_of(row: Row[Any]) -> Case:
    """A row of the cases as a record."""
    kinds = msgspec.json.decode(row.kinds, type=dict[str, float])
    return Case(
        row.id, row.account, row.state, row.opened_at, row.opened_in, row.changed_at, row.decibans, row.peak,
        row.limit, kinds, row.why,
    )  # fmt: skip


def evidence_by_kind(connection: Connection, accounts: Sequence[str]) -> dict[str, dict[str, KindEvidence]]:
    """State after the accounts' earlier matches, by account and kind."""
    from sqlalchemy import select

    from tinclock.cases.tables import KINDS

    out: dict[str, dict[str, KindEvidence]] = {account: {} for account in accounts}
    for row in connection.execute(select(KINDS).where(KINDS.c.account.in_(accounts))):
        out[row.account][row.kind] = KindEvidence(row.past, row.matches)
    return out


def unless_there(connection: Connection, table: str) -> Any:
    """An insert into a table that passes over rows whose key is there."""
    from sqlalchemy.dialects import postgresql, sqlite

    from tinclock.cases import tables as case_tables

    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    return dialect.insert(getattr(case_tables, table)).on_conflict_do_nothing()


def _aim(course: EvidenceTimeline, account: str) -> dict[str, tuple[float, float]]:
    out: dict[str, tuple[float, float]] = {}
    for gain in course.gains:
        if gain.account == account and gain.trials:
            k, n = out.get(gain.kind, (0.0, 0.0))
            out[gain.kind] = (k + gain.successes, n + gain.trials)
    return out


def _by_kind(course: EvidenceTimeline, account: str, strongest: list[str]) -> dict[str, list[float]]:
    """Decibans after each stretch of the kinds that moved most."""
    return {
        kind: [round(now.get(kind, 0.0) / DECIBAN, 2) for _, now in course.stages[account]]
        for kind in strongest[:KEPT_KINDS]
    }
