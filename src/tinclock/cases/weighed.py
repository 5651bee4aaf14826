"""A recording as a match that was weighed: its name, and what it says of each account."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.cases.kinds import words_of
from tinclock.core.evidence.course import peak
from tinclock.core.evidence.eprocess import DECIBAN
from tinclock.core.evidence.weights import line_class
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.core.evidence.course import Course
    from tinclock.core.evidence.weights import Weights
    from tinclock.recordings.recording import Recording


def match_name(recording: Recording) -> str:
    """What a recording's match is called: its folder's name and a digest of all its rulings.

    It stays the same when the recording's files are put together, so that no match is taken twice.
    """
    name = recording.path.name
    return f"{name}.{recording.flushes[-1].rulings_sha256[:8]}" if recording.flushes else name


def account_row(course: Course, account: str, weights: Weights) -> Fields:
    """What a match said of an account, in decibans and words; `kinds` are the three that speak most against it."""
    points = course.points(account, weights.kinds())
    strongest = sorted(course.now(account).items(), key=lambda item: -item[1])[:3]
    lines = course.lines.get(account, [])
    return {
        "decibans": round(points[-1][1], 2), "peak": round(peak(points), 2),
        "minutes": round(course.minutes.get(account, 0.0), 2),
        "line": line_class(lines[-1][1]) if lines else "unknown",
        "kinds": [
            {"kind": kind, "decibans": round(log_e / DECIBAN, 2), "means": words_of(kind).title}
            for kind, log_e in strongest
            if log_e > 0.0
        ],
    }  # fmt: skip
