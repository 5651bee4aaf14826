"""Results of the case store."""

from __future__ import annotations

from typing import Any, Final, Literal, NamedTuple

import msgspec

from tinclock.core.evidence.calibration_table import Calibration
from tinclock.core.evidence.live import EvidenceChange

State = Literal["open", "waiting", "cleared", "confirmed"]
Verdict = Literal["cleared", "waiting", "confirmed", "reopened", "noted"]
STATES: Final = ("open", "waiting", "cleared", "confirmed")
VERDICTS: Final = ("cleared", "waiting", "confirmed")
NOTED: Final = "noted"
"""Kind of decision that a note is kept as: it decides nothing."""


class Case(msgspec.Struct, frozen=True):
    """One account's case.

    opened_at, changed_at : unix times; opened_in : the match; peak, decibans : the most there ever was, and now
    limit : what it took to open; kinds : decibans by kind, the strongest first; why : in one line
    """

    id: int
    account: str
    state: str
    opened_at: float
    opened_in: str
    changed_at: float
    decibans: float
    peak: float
    limit: float
    kinds: dict[str, float]
    why: str


class Decision(msgspec.Struct, frozen=True):
    """Decision of a reviewer, with its evidence; log_number, log_digest : its record in the evidence log."""

    id: int
    case: int
    account: str
    at: float
    reviewer: str
    verdict: str
    note: str
    decibans: float
    kinds: dict[str, float]
    log_number: int | None = None
    log_digest: str | None = None


class PlayCourse(msgspec.Struct, frozen=True):
    """Result of one match for an account.

    points : (server time, decibans) with earlier matches; kinds : decibans of this match by kind
    connections : (server time, round trip, jitter), seconds; aim : shares of the detectors, (successes, trials) by name
    by_kind : decibans of this match after each of the points, of its strongest kinds
    common : kinds that most accounts of this match showed, left out for that; muted : what of its rules differs from
        those that the calibration is from
    """

    points: list[tuple[float, float]]
    kinds: dict[str, float]
    connections: list[tuple[float, float, float]] = msgspec.field(name="lines")  # as stores of 0.2 have it
    aim: dict[str, tuple[float, float]]
    by_kind: dict[str, list[float]] = {}
    common: tuple[str, ...] = ()
    muted: tuple[str, ...] = ()


class PlayRow(NamedTuple):
    """A match of an account. number : its place among the account's matches, from 1."""

    match: str
    recording: str
    server: str
    taken_at: float
    number: int
    minutes: float
    decibans: float
    course: PlayCourse


class Account(NamedTuple):
    """Return the data of an account."""

    account: str
    first_seen: float
    last_seen: float
    matches: int
    minutes: float
    decibans: float
    peak: float


class FindingRow(msgspec.Struct, frozen=True):
    """A finding as it is kept."""

    match: str
    ruling: int
    server_time: float
    code: str
    observed: float | None
    limit: float | None
    margin: float | None
    unit: str
    detail: str


class AccountReport(NamedTuple):
    """Everything about one account.

    counts : findings by code; gains : the strongest, with their matches
    calibration : the table that its case, or its newest match, was weighed with; None where the store has none
    """

    account: Account
    case: Case | None
    decisions: list[Decision]
    plays: list[PlayRow]
    counts: dict[str, int]
    gains: list[tuple[str, EvidenceChange]]
    calibration: Calibration | None = None


def plain(record: object) -> Any:
    """A record as plain data, for JSON."""
    if isinstance(record, tuple) and hasattr(record, "_asdict"):
        return {key: plain(value) for key, value in record._asdict().items()}
    if isinstance(record, (list, tuple)):
        return [plain(value) for value in record]
    return msgspec.to_builtins(record)
