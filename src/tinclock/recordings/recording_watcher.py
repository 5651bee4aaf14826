"""Weighing a match while it is being recorded: what was flushed is read, and nothing of the match is touched."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from tinclock.core.errors import RecordingError
from tinclock.core.evidence.evidence_timeline import MatchEvaluator
from tinclock.recordings.observed import STRETCH_S, Reading
from tinclock.recordings.recording import Recording

if TYPE_CHECKING:
    from collections.abc import Collection

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
    from tinclock.core.evidence.live import EvidenceChange
    from tinclock.core.geometry.level import Level
    from tinclock.recordings.layout import Flush


class RecordingWatcher:
    """One recording that may still be written, in this process or another one.

    path : the recording's folder; calibration : the calibrated table; level : the recorded level, where the recording
    doesn't hold it; mute : kinds that say nothing in this game

    Ask it every second or two: `look` reads what is new. It costs the match nothing, since nothing of the match is
    touched. Findings, exact tests and detectors come out as they do from the finished recording, up to five seconds
    later than they happened.
    """

    def __init__(
        self, path: str | Path, calibration: Calibration, level: Level | None = None, mute: Collection[str] = ()
    ) -> None:
        self.path = Path(path)
        self.closed = False
        """True if the recording was ended: then `tinclock weigh` takes it in whole."""
        self._weights, self._level, self._mute = calibration, level, mute
        self._reading: Reading | None = None
        self._weighing: MatchEvaluator | None = None
        self._taken = 0
        self._waiting: list[Flush] = []

    @property
    def timeline(self) -> EvidenceTimeline | None:
        """The evidence so far, without what most accounts show; None before anything was read."""
        return None if self._weighing is None else self._weighing.finished()

    def look(self) -> list[EvidenceChange]:
        """Take in what was flushed since the last look; returns what moved.

        A recording of which nothing is there yet is looked at again later. Raises `RecordingError` as `Recording` does.
        """
        try:
            recording = Recording(self.path)
        except RecordingError:
            if self._taken or not (self.path / "flushes.jsonl").exists():
                return []
            raise
        self.closed = recording.closed
        if self.closed:  # it may just be put together into fewer files
            return []
        if self._reading is None:
            self._reading = Reading(recording, self._level)
            self._weighing = MatchEvaluator(self._weights, recording.require_header().rules, self._mute)
        assert self._weighing is not None
        gains: list[EvidenceChange] = []
        for flush in recording.flushes[self._taken :]:
            self._taken += 1
            self._waiting.append(flush)
            ticks = [one for one in self._waiting if one.from_s is not None and one.to_s is not None]
            if not ticks or (ticks[-1].to_s or 0.0) - (ticks[0].from_s or 0.0) < STRETCH_S:
                continue
            try:
                seen = self._reading.take(self._waiting)
            except RecordingError:  # it was ended a moment ago, and is being put together
                if not Recording(self.path).closed:
                    raise
                self.closed = True
                return gains
            self._waiting = []
            if seen is not None:
                gains += self._weighing.add(seen)
        return gains
