"""The files of one match's logs, each read once, with what all parts of the reading share."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.geometry.rig import Rig
from tinclock.intake.logs.columns import LogFile, Problems
from tinclock.intake.logs.frame import LogFrame

if TYPE_CHECKING:
    from pathlib import Path

    from tinclock.core.rules.ruleset import Rules
    from tinclock.intake.logs.mapping import LogMap


class Sources:
    """State that all parts of the reading share."""

    def __init__(self, mapping: LogMap, folder: Path, rules: Rules) -> None:
        self.mapping, self.folder, self.rules = mapping, folder, rules
        self.problems, self.frame = Problems(), LogFrame(mapping)
        self.rigs = {name: Rig(name, table) for name, table in rules.rigs.items()}
        self.rows: dict[str, int] = {}
        self._files: dict[str, LogFile] = {}
        self.zero = 0.0

    def file(self, name: str) -> LogFile:
        """A file, read once."""
        if name not in self._files:
            self._files[name] = LogFile(self.folder / name, self.problems, self.mapping.delimiter)
            self.rows[name] = self._files[name].rows
        return self._files[name]

    def drop(self, name: str) -> None:
        """Let go of a file's columns: poses are many."""
        self._files.pop(name, None)

    def server_times(self, file: LogFile, said: Any) -> Any:
        """Server times of a column, each there: (rows,) float64, seconds."""
        found = file.times(said, self.frame.seconds)
        file.require(found, said)
        return found - self.zero
