"""Decisions into the evidence log. The store has them first; what was stopped between the two is entered later."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.cases.evidence_log import EvidenceLog, LogTip, read_log
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Collection

    from tinclock.cases.records import Decision
    from tinclock.cases.store import CaseStore


def enter_one(store: CaseStore, log: EvidenceLog, decided: Decision, **more: Any) -> Decision:
    """Chain a decision that the store holds, and keep there which record it is. more : for the record only"""
    body = {
        "decision": decided.id, "case": decided.case, "account": decided.account, "reviewer": decided.reviewer,
        "verdict": decided.verdict, "note": decided.note, "decibans": decided.decibans, **more,
    }  # fmt: skip
    log.append("decision", [body], decided.at)
    log.flush()
    return _entered(store, decided, log.head)


def enter_late(store: CaseStore, log: EvidenceLog, waiting: Collection[Decision]) -> None:
    """Chain decisions that the store holds and whose record it doesn't know; "late" is true in those records.

    Where the record was written and only its number wasn't kept, it isn't written again.
    """
    if not waiting:
        return
    there = _records(log)
    for decided in waiting:
        head = there.get((decided.id, decided.at))
        if head is None:
            enter_one(store, log, decided, late=True)
        else:
            _entered(store, decided, head)


def _records(log: EvidenceLog) -> dict[tuple[int, float], LogTip]:
    """The log's records of decisions, by number in the store and time."""
    found: dict[tuple[int, float], LogTip] = {}
    last: tuple[int, float, int] | None = None
    for entry in read_log(log.folder):
        if last is not None:  # a record's digest stands in the next one
            found[last[:2]] = LogTip(last[2], entry.previous)
        body = msgspec.json.decode(entry.body, type=Fields) if entry.kind == "decision" else {}
        last = (int(body["decision"]), entry.at, entry.number) if "decision" in body else None
    if last is not None:
        found[last[:2]] = LogTip(last[2], log.head.digest)
    return found


def _entered(store: CaseStore, decided: Decision, head: LogTip) -> Decision:
    from sqlalchemy import update

    from tinclock.cases.tables import DECISIONS

    with store.write() as connection:
        connection.execute(
            update(DECISIONS).where(DECISIONS.c.id == decided.id)
            .values(log_number=head.number, log_digest=head.digest)
        )  # fmt: skip
    return msgspec.structs.replace(decided, log_number=head.number, log_digest=head.digest)
