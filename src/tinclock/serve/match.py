"""One match of the service: its referee, what records it, what guards it, and who asks."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.referee import Referee
from tinclock.intake.level_file import parse_level
from tinclock.intake.rules_file import parse_rules
from tinclock.intake.toml_tables import parse_toml
from tinclock.recordings.recorder import Recorder
from tinclock.serve.borders import Borders
from tinclock.serve.guarding import Guards
from tinclock.serve.requests import OpenMatch, Ruled

if TYPE_CHECKING:
    from pathlib import Path

    from tinclock.serve.requests import Open, Tick

MOST_OF_A_NAME = 10_000


class Match:
    """A match: its referee, with a recorder in front where matches are recorded."""

    def __init__(self, asked: Open, folder: Path | None) -> None:
        rules = parse_rules(parse_toml(asked.rules, "rules"), "rules")
        level = None if asked.level is None else parse_level(parse_toml(asked.level, "level"), "level")
        self.referee = Referee(rules, level=level, seed=asked.seed)
        self.recording = None if folder is None else fresh_folder(folder, asked.match)
        self.server: Referee | Recorder = self.referee
        if self.recording is not None:
            self.server = Recorder(self.recording, self.referee, when_full="go on")
        self.guards = Guards(self.referee)
        self.borders = Borders(self.referee, self.server)
        self.failed = ""
        self.askers: set[object] = set()
        self._opened = self._asked_at = time.monotonic()

    def asked(self, asker: object) -> None:
        """Somebody asks something of it."""
        self._asked_at = time.monotonic()
        if asker is not None:
            self.askers.add(asker)

    @property
    def idle_s(self) -> float:
        """For how long nobody has asked anything."""
        return time.monotonic() - self._asked_at

    def told(self, name: str) -> OpenMatch:
        """What is said of it in a list."""
        now, problem = time.monotonic(), self.server.problem if isinstance(self.server, Recorder) else ""
        return OpenMatch(
            name, round(now - self._opened, 3), round(self.idle_s, 3), len(self.askers),
            sum(one.rig != "" for one in self.referee.state().entities), self.guards.dropped + self.borders.dropped,
            "" if self.recording is None else str(self.recording), self.failed or problem,
        )  # fmt: skip

    def close(self, put_together: bool = True) -> None:
        """Put down what was recorded."""
        if isinstance(self.server, Recorder):
            self.server.close(put_together=put_together)

    def put_together(self) -> None:
        """Rewrite the small files of a closed recording into few."""
        if isinstance(self.server, Recorder):
            self.server.put_together()


def fresh_folder(folder: Path, name: str) -> Path:
    """Where a match is recorded: under its name, or with a number behind it where that was used before."""
    for number in range(1, MOST_OF_A_NAME):
        path = folder / (name if number == 1 else f"{name}-{number}")
        if not path.exists():
            return path
    return folder / name  # the recorder says that it is there


def told_of(ruling: Any) -> Ruled:
    """What an asker is told of a ruling."""
    return Ruled(ruling.number, ruling.connection, ruling.outcome, ruling.receipt(), ruling.findings)


def poses_of(asked: Tick, referee: Referee) -> tuple[Any, Any, Any]:
    """The entities of a tick, their bones end to end, and where each one's begin."""
    if len(asked.entities) % 8 or len(asked.bones) % 28:
        raise msgspec.ValidationError("entities come in 8 bytes each, bones in 28")
    ids = np.frombuffer(asked.entities, "<i8")
    bones = np.frombuffer(asked.bones, "<f4").reshape(-1, 7).astype(np.float64)
    counts = [len(referee.history.rig_of(entity).bones) for entity in ids.tolist()]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    if starts[-1] != len(bones):
        raise msgspec.ValidationError(f"these entities have {starts[-1]} bones together, got {len(bones)}")
    return ids, bones, starts
