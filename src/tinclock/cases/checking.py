"""Comparison of case store and evidence log: every decision, both ways."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from tinclock.cases.evidence_log import LogTip, read_log, verify_log
from tinclock.cases.pseudonyms import Pseudonyms
from tinclock.cases.records import NOTED, VERDICTS
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping
    from pathlib import Path

    from tinclock.cases.records import Decision
    from tinclock.cases.review import CaseReview

COMPARED = ("reviewer", "verdict", "note", "decibans")
SAME_TIME_S = 0.001


def problems_of(review: CaseReview, log: str | Path, noted: LogTip | None = None) -> list[str]:
    """Return disagreements in sentences; none when every record is as it was written and every decision is in both.

    noted : a head of the log that was kept elsewhere. Raises `EvidenceError` for a log that isn't there.
    """
    decisions = review.decisions()
    heads = [LogTip(d.log_number, d.log_digest) for d in decisions if d.log_number and d.log_digest]
    broken = verify_log(log, [*heads, *([] if noted is None else [noted])])
    if broken is not None:
        return [broken]
    logged = {
        entry.number: (entry.at, msgspec.json.decode(entry.body, type=Fields))
        for entry in read_log(log)
        if entry.kind == "decision"
    }
    names = Pseudonyms(log)
    return [*_edited(decisions, logged, names), *_missing(review, decisions, logged), *_states(review, decisions)]


def _edited(decisions: list[Decision], logged: Mapping[int, tuple[float, Fields]], names: Pseudonyms) -> Iterator[str]:
    """Decisions of the store that aren't what the log says they were."""
    for one in decisions:
        if one.log_number is None:
            yield (
                f"decision {one.id} on {one.account} isn't in the log yet: its writer was stopped, or it was made up; "
                "the next decision enters it, as a late one"
            )
            continue
        at, body = logged.get(one.log_number, (0.0, {}))
        if not body:
            yield f"decision {one.id} on {one.account} has no record in the log: it was made up, or its number edited"
            continue
        wrong = [name for name in COMPARED if body.get(name) != getattr(one, name)]
        if body.get("account") != names.known(one.account):
            wrong.append("account")
        if abs(at - one.at) > SAME_TIME_S:
            wrong.append("at")
        for name in wrong:
            was = at if name == "at" else body.get(name)
            yield (
                f"decision {one.id} on {one.account} was edited in the store: its {name} is {getattr(one, name)!r}, "
                f"and record {one.log_number} of the log says {was!r}"
            )


def _missing(
    review: CaseReview, decisions: list[Decision], logged: Mapping[int, tuple[float, Fields]]
) -> Iterator[str]:
    """Decisions of the log that the store has lost. Those on accounts that were forgotten went with them."""
    there, forgotten = {one.log_number for one in decisions}, review.forgotten()
    for number, (_, body) in logged.items():
        account = str(body.get("account", ""))
        if number not in there and account not in forgotten:
            yield (
                f"record {number} of the log says that {body.get('reviewer')} decided {body.get('verdict')!r} on the "
                f"account called {account}, and the store has no such decision: it was deleted"
            )


def _states(review: CaseReview, decisions: list[Decision]) -> Iterator[str]:
    """Cases that say they were decided, and weren't, or otherwise."""
    last = {one.account: one for one in decisions if one.verdict != NOTED}
    for case in review.queue(VERDICTS, most=10**9):
        one = last.get(case.account)
        if one is None or one.verdict != case.state:
            said = "was never decided" if one is None else f"was last decided {one.verdict!r} by {one.reviewer}"
            yield f"the case of {case.account} is {case.state!r} in the store, and {said}: its state was edited"
