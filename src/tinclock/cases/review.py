"""Reviewing: the queue, one account's dossier, decisions by people, forgetting. Nothing here is done by itself."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.cases.entering import enter_late, enter_one
from tinclock.cases.importing import case_of, kept_weights
from tinclock.cases.records import (
    NOTED,
    STATES,
    VERDICTS,
    Account,
    AccountReport,
    Case,
    Decision,
    FindingRow,
    PlayCourse,
    PlayRow,
)
from tinclock.core.errors import DecisionConflictError, EvidenceError, UnknownNameError
from tinclock.core.evidence.live import EvidenceChange
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from sqlalchemy import Connection, Row

    from tinclock.cases.evidence_log import EvidenceLog
    from tinclock.cases.store import CaseStore

PER_DAY = 1.0
"""A day of waiting counts in the queue as much as so many decibans."""
DAY_S = 86400.0
STRONGEST = 60
LONGEST_NOTE = 4000


class CaseReview:
    """Acts of reviewers, on a case store.

    log : the evidence log that decisions are chained into; without one nothing can be decided
    on_decision : called with each decision and its case after both are kept: the place for a game to act on it
    """

    def __init__(
        self, store: CaseStore, log: EvidenceLog | None = None,
        on_decision: Callable[[Decision, Case], None] | None = None,
    ) -> None:  # fmt: skip
        self.store, self._log, self._on_decision = store, log, on_decision

    # -- reading ----------------------------------------------------------------------------------------------

    def queue(
        self,
        states: Sequence[str] = ("open",),
        most: int = 50,
        *,
        search: str = "",
        skip: int = 0,
        opened_in: str = "",
    ) -> list[Case]:
        """Cases of some states, the most pressing first: by peak evidence, and a deciban more for a day's waiting.

        search : only accounts whose names hold this text, in either case; skip : leave out so many at the top
        opened_in : only cases that were opened in this match
        """
        from sqlalchemy import select

        from tinclock.cases.tables import CASES

        for state in states:
            if state not in STATES:
                raise UnknownNameError("state of a case", state, STATES)
        pressing = CASES.c.peak - CASES.c.opened_at * (PER_DAY / DAY_S)
        query = select(CASES).where(CASES.c.state.in_(states)).order_by(pressing.desc(), CASES.c.id)
        if search:
            query = query.where(CASES.c.account.icontains(search, autoescape=True))
        if opened_in:
            query = query.where(CASES.c.opened_in == opened_in)
        query = query.limit(most).offset(skip)
        with self.store.read() as connection:
            return [case_of(row) for row in connection.execute(query)]

    def counts(self) -> dict[str, int]:
        """Return the number of cases in each state, and of all accounts under "accounts"."""
        from sqlalchemy import func, select

        from tinclock.cases.tables import ACCOUNTS, CASES

        with self.store.read() as connection:
            rows = connection.execute(select(CASES.c.state, func.count().label("cases")).group_by(CASES.c.state))
            found: dict[str, int] = {row.state: row.cases for row in rows}
            accounts = connection.execute(select(func.count()).select_from(ACCOUNTS)).scalar_one()
        return {**{state: found.get(state, 0) for state in STATES}, "accounts": accounts}

    def dossier(self, account: str) -> AccountReport:
        """Everything about one account. Raises `UnknownNameError` for one that nothing is known of."""
        from sqlalchemy import func, select

        from tinclock.cases.tables import CASES, FINDINGS, GAINS, MATCHES, PLAYS

        with self.store.read() as connection:
            row = _account(connection, account)
            case = connection.execute(select(CASES).where(CASES.c.account == account)).first()
            decided = [] if case is None else _decisions(connection, case.id, account)
            joined = PLAYS.join(MATCHES, MATCHES.c.match == PLAYS.c.match)
            plays = connection.execute(
                select(PLAYS, MATCHES.c.recording, MATCHES.c.server, MATCHES.c.taken_at, MATCHES.c.weights)
                .select_from(joined).where(PLAYS.c.account == account).order_by(PLAYS.c.number)
            ).all()  # fmt: skip
            counts = connection.execute(
                select(FINDINGS.c.code, func.count()).where(FINDINGS.c.account == account).group_by(FINDINGS.c.code)
            ).all()
            strongest = (
                select(GAINS).where(GAINS.c.account == account).order_by(GAINS.c.decibans.desc()).limit(STRONGEST)
            )
            gains = [(g.match, msgspec.json.decode(g.body, type=EvidenceChange)) for g in connection.execute(strongest)]
            digest = plays[-1].weights if plays else None
            weights = kept_weights(connection, digest if case is None else case.weights)
        return AccountReport(
            Account(*tuple(row)), None if case is None else case_of(case), decided, [_play(play) for play in plays],
            dict(sorted(((code, count) for code, count in counts), key=lambda item: -item[1])), gains,
            weights,
        )  # fmt: skip

    def findings(self, account: str, code: str | None = None, most: int = 1000) -> list[FindingRow]:
        """An account's findings, the newest match first."""
        from sqlalchemy import select

        from tinclock.cases.tables import FINDINGS

        query = select(FINDINGS).where(FINDINGS.c.account == account)
        query = query if code is None else query.where(FINDINGS.c.code == code)
        with self.store.read() as connection:
            _account(connection, account)
            rows = connection.execute(query.order_by(FINDINGS.c.id.desc()).limit(most)).all()
        return [
            FindingRow(
                row.match, row.ruling, row.server_time, row.code, row.observed, row.limit, row.margin, row.unit,
                row.detail,
            )
            for row in rows
        ]  # fmt: skip

    def decisions(self) -> list[Decision]:
        """Every decision, in order."""
        with self.store.read() as connection:
            return _decisions(connection, None, "")

    def forgotten(self) -> set[str]:
        """The pseudonyms of accounts that were forgotten."""
        from sqlalchemy import select

        from tinclock.cases.tables import FORGOTTEN

        with self.store.read() as connection:
            return {row.digest for row in connection.execute(select(FORGOTTEN.c.digest))}

    # -- deciding ---------------------------------------------------------------------------------------------

    def decide(
        self, account: str, verdict: str, *, reviewer: str, note: str, at: float | None = None, after: int | None = None
    ) -> Decision:
        """Close an account's case, or let it wait.

        verdict : "cleared", "waiting" or "confirmed"; reviewer : who decided; note : why, in words
        after : the `id` of the last decision or note that the reviewer saw, 0 for none; None: doesn't matter

        Raises `UnknownNameError` for another verdict or an account without a case, `DecisionConflictError` where
        somebody wrote to the case after `after`, `EvidenceError` without a reviewer, a note or a log.
        """
        if verdict not in VERDICTS:
            raise UnknownNameError("verdict", verdict, VERDICTS)
        return self._enter(account, verdict, verdict, reviewer, note, at, after)

    def reopen(
        self, account: str, *, reviewer: str, note: str, at: float | None = None, after: int | None = None
    ) -> Decision:
        """Put a case that was decided back into the queue. Raises as `decide` does."""
        return self._enter(account, "reopened", "open", reviewer, note, at, after)

    def note(
        self, account: str, *, reviewer: str, note: str, at: float | None = None, after: int | None = None
    ) -> Decision:
        """Write a note to a case. It decides nothing, and is kept and chained like a decision. Raises as that does."""
        return self._enter(account, NOTED, None, reviewer, note, at, after)

    def _enter(
        self, account: str, verdict: str, state: str | None, reviewer: str, note: str, at: float | None,
        after: int | None,
    ) -> Decision:  # fmt: skip
        """Into the store first, in one transaction with the question whether it was overtaken, then into the log."""
        from sqlalchemy import select, update

        from tinclock.cases.tables import CASES, DECISIONS

        log = self._required(reviewer, note)
        enter_late(self.store, log, [one for one in self.decisions() if one.log_number is None])
        now = time.time() if at is None else at
        with self.store.write() as connection:
            row = connection.execute(select(CASES).where(CASES.c.account == account).with_for_update()).first()
            if row is None:
                open_ = [case.account for case in self._some(connection)]
                raise UnknownNameError("account with a case", account, open_)
            self._up_to_date(connection, row.id, account, after)
            values: Fields = {
                "case": row.id, "at": now, "reviewer": reviewer, "verdict": verdict, "note": note,
                "decibans": row.decibans, "kinds": row.kinds,
            }  # fmt: skip
            connection.execute(DECISIONS.insert().values(**values))
            changed = {"changed_at": now} if state is None else {"state": state, "changed_at": now}
            connection.execute(update(CASES).where(CASES.c.id == row.id).values(changed))
            decided = _decisions(connection, row.id, account)[-1]
            case = case_of(connection.execute(select(CASES).where(CASES.c.id == row.id)).one())
            if state is not None:
                self.store.remember(connection, [("decided", case)])
        problem = ""
        try:
            decided = enter_one(self.store, log, decided, peak=row.peak)
        except EvidenceError as error:  # it stands all the same, and who is told of it hears it now
            problem = f"the decision is kept, but not in the log yet: {error.problem}; the next one enters it there"
        if self._on_decision is not None and state is not None:
            self._on_decision(decided, case)
        self.store.send_pending()
        if problem:
            raise EvidenceError(log.folder, problem)
        return decided

    def _up_to_date(self, connection: Connection, case: int, account: str, after: int | None) -> None:
        """Raise `DecisionConflictError` where somebody wrote to a case after what the reviewer saw last."""
        decided = [] if after is None else _decisions(connection, case, account)
        if after is not None and (decided[-1].id if decided else 0) != after:
            done = "somebody has reset this case"
            if decided and decided[-1].verdict in VERDICTS:
                done = f"{decided[-1].reviewer} has already set this case to {decided[-1].verdict}"
            elif decided:
                done = f"{decided[-1].reviewer} has already written to this case"
            raise DecisionConflictError(account, f"{done}. Reload to see it, then decide.")

    def _required(self, reviewer: str, note: str) -> EvidenceLog:
        if not reviewer.strip() or not note.strip():
            raise EvidenceError(self.store.address, "a decision needs the reviewer's name and a note that says why")
        if len(note) > LONGEST_NOTE:
            raise EvidenceError(
                self.store.address, f"a note may be {LONGEST_NOTE} characters long, this is {len(note)}"
            )
        if self._log is None:
            raise EvidenceError(self.store.address, "nothing is decided without an evidence log to chain it into")
        return self._log

    @staticmethod
    def _some(connection: Connection) -> list[Case]:
        from sqlalchemy import select

        from tinclock.cases.tables import CASES

        return [case_of(row) for row in connection.execute(select(CASES).order_by(CASES.c.peak.desc()).limit(12))]

    # -- forgetting -------------------------------------------------------------------------------------------

    def forget(
        self, account: str, *, reviewer: str, reason: str, at: float | None = None, after: int | None = None
    ) -> Fields:
        """Delete everything that names an account, and the key by which the evidence log calls it.

        That it happened, when and why is kept, with that pseudonym. The log's records stay, so that its chain is whole,
        and nobody can tell whose they were.
        """
        from sqlalchemy import delete, func, select, update

        from tinclock.cases.tables import ACCOUNTS, CASES, FINDINGS, FORGOTTEN, LOOKS

        log = self._required(reviewer, reason)
        now = time.time() if at is None else at
        with self.store.write() as connection:
            row = _account(connection, account)
            case = connection.execute(select(CASES.c.id).where(CASES.c.account == account).with_for_update()).first()
            self._up_to_date(connection, case.id if case else 0, account, after)
            count = connection.execute(
                select(func.count()).select_from(FINDINGS).where(FINDINGS.c.account == account)
            ).scalar_one()
            done = {
                "at": now, "reviewer": reviewer, "reason": reason, "digest": log.pseudonyms.of(account),
                "findings": count, "matches": row.matches, "had_case": case is not None,
            }  # fmt: skip
            connection.execute(delete(ACCOUNTS).where(ACCOUNTS.c.account == account))
            connection.execute(update(LOOKS).where(LOOKS.c.account == account).values(account=None))
            connection.execute(FORGOTTEN.insert().values(**done))
            log.append("forgotten", [done], now)
            log.flush()
        log.pseudonyms.forget(account)
        return done

    def retain(self, days: float, *, reviewer: str, at: float | None = None) -> int:
        """Forget every account without an open case that hasn't played for so many days; returns how many."""
        from sqlalchemy import select

        from tinclock.cases.tables import ACCOUNTS, CASES

        now = time.time() if at is None else at
        kept = select(CASES.c.account).where(CASES.c.state.in_(("open", "waiting")))
        with self.store.write() as connection:
            old = select(ACCOUNTS.c.account).where(
                ACCOUNTS.c.last_seen < now - days * DAY_S, ACCOUNTS.c.account.not_in(kept)
            )
            names = [row.account for row in connection.execute(old)]
        for name in names:
            self.forget(name, reviewer=reviewer, reason=f"not seen for {days:g} days", at=now)
        return len(names)


def _account(connection: Connection, account: str) -> Row[Any]:
    from sqlalchemy import select

    from tinclock.cases.tables import ACCOUNTS

    row = connection.execute(select(ACCOUNTS).where(ACCOUNTS.c.account == account)).first()
    if row is None:
        known = connection.execute(select(ACCOUNTS.c.account).order_by(ACCOUNTS.c.peak.desc()).limit(12))
        raise UnknownNameError("account", account, [name for (name,) in known])
    return row


def _play(row: Row[Any]) -> PlayRow:
    course = msgspec.json.decode(row.course, type=PlayCourse)
    return PlayRow(row.match, row.recording, row.server, row.taken_at, row.number, row.minutes, row.decibans, course)


def _decisions(connection: Connection, case: int | None, account: str) -> list[Decision]:
    from sqlalchemy import select

    from tinclock.cases.tables import CASES, DECISIONS

    query = select(DECISIONS, CASES.c.account).select_from(DECISIONS.join(CASES)).order_by(DECISIONS.c.id)
    query = query if case is None else query.where(DECISIONS.c.case == case)
    return [
        Decision(
            row.id, row.case, row.account, row.at, row.reviewer, row.verdict, row.note, row.decibans,
            msgspec.json.decode(row.kinds, type=dict[str, float]), row.log_number, row.log_digest,
        )
        for row in connection.execute(query)
    ]  # fmt: skip
