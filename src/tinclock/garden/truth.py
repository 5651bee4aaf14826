"""The truth about a garden match, in a folder of its own: who was cheats, and what every screen showed.

`labels.json` says who did what; `screens.json` how far each screen was from the server; `screens.parquet` what each
shot's crosshair was on. Nothing that judges a recording reads any of them.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec

from tinclock.core.errors import RecordingError
from tinclock.garden.fairness import Screen, Viewer

if TYPE_CHECKING:
    from tinclock.garden.played import Played

LABELS, VIEWERS, SCREENS = "labels.json", "screens.json", "screens.parquet"


class Label(msgspec.Struct, frozen=True):
    """Truth about an account.

    strengths : what it did that was cheats, by kind, up to 1; skill : of its hand, 0 to 1; -1 where it isn't known
    """

    account: str
    connection: str
    team: str
    quality: str
    cheats: dict[str, float]
    skill: float = -1.0


class Truth(NamedTuple):
    """Truth of a match, see `read_truth`. viewers : by connection; screens : by connection and sequence."""

    labels: tuple[Label, ...]
    viewers: dict[str, Viewer]
    screens: dict[tuple[str, int], Screen]


def write_truth(played: Played, folder: str | Path) -> Path:
    """Write what a match's recording must not hold. Raises `RecordingError` when the folder can't be written."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    path = Path(folder)
    labels = [
        Label(seat.account, seat.connection, seat.team, seat.line.name, dict(seat.cheats), round(seat.skill, 3))
        for seat in played.seats
    ]
    rows = [
        (connection, sequence, shot.fired_at, shot.claim.weapon, k, seen.victim, seen.part, seen.distance_m, seen.kept)
        for (connection, sequence), shot in sorted(played.shots.items())
        for k, seen in enumerate(shot.rays)
    ]
    names = ("connection", "sequence", "fired_at", "weapon", "ray", "victim", "part", "distance_m", "kept")
    columns: list[Any] = list(zip(*rows, strict=True)) if rows else [[] for _ in names]
    try:
        path.mkdir(parents=True, exist_ok=True)
        (path / LABELS).write_bytes(msgspec.json.format(msgspec.json.encode(labels), indent=1) + b"\n")
        viewers = msgspec.json.encode(_viewers(played))
        (path / VIEWERS).write_bytes(msgspec.json.format(viewers, indent=1) + b"\n")
        table = pa.table({name: pa.array(column) for name, column in zip(names, columns, strict=True)})
        parquet.write_table(table, path / SCREENS, compression="zstd", store_schema=False)
    except OSError as error:
        raise RecordingError(path, f"can't be written: {error.strerror}") from None
    return path


def _viewers(played: Played) -> dict[str, Viewer]:
    rules = played.garden.rules
    snapshot_s = rules.match.snapshot_every / rules.match.tick_rate_hz
    entity_of = {account: entity for entity, account in played.entities.items()}
    return {
        seat.connection: Viewer(
            entity_of[seat.account], seat.line.name, not seat.cheats, trail / rules.match.tick_rate_hz,
            seat.line.down_s + seat.delay_s + snapshot_s / 2.0, seat.line.down_s,
        )
        for seat, trail in zip(played.seats, played.trails, strict=True)
    }  # fmt: skip


def read_truth(folder: str | Path) -> Truth:
    """Read what `write_truth` wrote. Raises `RecordingError` naming the file that can't be read."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    path = Path(folder)
    for name in (LABELS, VIEWERS, SCREENS):
        if not (path / name).is_file():
            raise RecordingError(path / name, "is not there; `tinclock simulate` writes it beside the recording")
    name = LABELS
    try:
        labels = msgspec.json.decode((path / LABELS).read_bytes(), type=tuple[Label, ...])
        name = VIEWERS
        viewers = msgspec.json.decode((path / VIEWERS).read_bytes(), type=dict[str, Viewer])
        name = SCREENS
        table = parquet.read_table(path / SCREENS)
        chosen = ("connection", "sequence", "ray", "victim", "part")
        rows = zip(*(table[column].to_pylist() for column in chosen), strict=True)
        screens = {(line, number): Screen(victim, part) for line, number, ray, victim, part in rows if ray == 0}
    except (OSError, KeyError, msgspec.DecodeError, pa.ArrowException) as error:
        raise RecordingError(path / name, f"can't be read: {str(error).splitlines()[0]}") from None
    return Truth(labels, viewers, screens)
