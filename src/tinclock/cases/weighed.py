"""A recording as a match that was weighed: its identity, its name, and what it says of each account."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING

import msgspec

from tinclock.cases.kinds import SHOWN_DECIBANS, evidence_text, exact_first
from tinclock.core.evidence.calibration_table import line_class
from tinclock.core.evidence.eprocess import DECIBAN
from tinclock.core.evidence.evidence_timeline import peak
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
    from tinclock.recordings.recording import Recording


def match_name(recording: Recording) -> str:
    """Return the name of a recording's match: its folder's name and the beginning of its identity.

    It stays the same when the recording's files are put together, so that no match is taken twice.
    """
    name, match = recording.path.name, _identity_in(recording)
    if match:
        return f"{name}.{match[:8]}"
    return f"{name}.{recording.flushes[-1].rulings_sha256[:8]}" if recording.flushes else name


def match_identity(recording: Recording) -> str:
    """Return what stays the same however long a match goes on, and however its recording is copied and named.

    Recordings of 0.2 have no identity of their own: theirs is a digest of all rulings.
    """
    if match := _identity_in(recording):
        return match
    rulings = recording.flushes[-1].rulings_sha256 if recording.flushes else ""
    return hashlib.sha256(msgspec.json.encode((recording.header, rulings))).hexdigest()


def rulings_in(recording: Recording) -> int:
    """Return how many rulings a recording holds: how far a match had come."""
    return recording.flushes[-1].rulings if recording.flushes else 0


def _identity_in(recording: Recording) -> str:
    return "" if recording.header is None else recording.header.match


def account_row(course: EvidenceTimeline, account: str, weights: Calibration) -> Fields:
    """Evidence of a match about an account, in decibans and words; `kinds` are the three strongest, reason first."""
    points = course.points(account, weights.kinds())
    strongest = exact_first({k: v for k, v in course.now(account).items() if v >= SHOWN_DECIBANS * DECIBAN})[:3]
    lines = course.connections.get(account, [])
    return {
        "decibans": round(points[-1][1], 2), "peak": round(peak(points), 2),
        "minutes": round(course.minutes.get(account, 0.0), 2),
        "connection_quality": line_class(lines[-1][1]) if lines else "unknown",
        "kinds": [
            {"kind": kind, "decibans": round(log_e / DECIBAN, 2), "means": evidence_text(kind).title}
            for kind, log_e in strongest
        ],
    }  # fmt: skip
