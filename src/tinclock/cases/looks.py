"""Access log of the review desk: who looked at which account or match, who decided what, and when."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import msgspec

if TYPE_CHECKING:
    from tinclock.cases.store import CaseStore


class Access(msgspec.Struct, frozen=True):
    """One entry. at : Unix time in seconds; page : what was opened, or "decided"

    account, match : what it was about, "" for neither; verdict, note : of a decision
    """

    at: float
    reviewer: str
    page: str
    account: str = ""
    match: str = ""
    verdict: str = ""
    note: str = ""


def note_look(store: CaseStore, reviewer: str, page: str, *, account: str = "", match: str = "") -> None:
    """Save that a reviewer opened a page. Raises `EvidenceError` where the store can't be written."""
    from tinclock.cases.tables import LOOKS

    about = {"account": account or None, "match": match or None}
    with store.write() as connection:
        connection.execute(LOOKS.insert().values(at=time.time(), reviewer=reviewer[:200], page=page, **about))


def accesses(store: CaseStore, *, account: str = "", reviewer: str = "", most: int = 1000) -> list[Access]:
    """Return the newest entries, the newest first, decisions included.

    account, reviewer : only entries of these; most : maximum number of entries
    """
    from sqlalchemy import select

    from tinclock.cases.tables import CASES, DECISIONS, LOOKS

    looks = select(LOOKS).order_by(LOOKS.c.at.desc(), LOOKS.c.id.desc()).limit(most)
    decided = select(DECISIONS, CASES.c.account).join(CASES, CASES.c.id == DECISIONS.c.case)
    decided = decided.order_by(DECISIONS.c.at.desc(), DECISIONS.c.id.desc()).limit(most)
    if account:
        looks, decided = looks.where(LOOKS.c.account == account), decided.where(CASES.c.account == account)
    if reviewer:
        looks, decided = looks.where(LOOKS.c.reviewer == reviewer), decided.where(DECISIONS.c.reviewer == reviewer)
    with store.read() as connection:
        found = [
            Access(row.at, row.reviewer, row.page, row.account or "", row.match or "")
            for row in connection.execute(looks)
        ]
        found += [
            Access(row.at, row.reviewer, "decided", row.account, "", row.verdict, row.note)
            for row in connection.execute(decided)
        ]
    return sorted(found, key=lambda one: -one.at)[:most]
