"""Labelled recordings: what accounts did there, with the truth about them, to calibrate by and to judge detection."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from tinclock.core.errors import EvidenceError
from tinclock.core.evidence.calibration import Collector, MatchStats
from tinclock.core.evidence.evidence_timeline import MatchEvaluator
from tinclock.core.evidence.quality import Labelled, matrix
from tinclock.core.plain import Fields
from tinclock.intake.old_names import LABELS
from tinclock.recordings.observed import observed_in
from tinclock.recordings.recording import Recording

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping

    from tinclock.core.evidence.calibration_table import Calibration


class AccountLabel(msgspec.Struct, frozen=True):
    """Truth about an account. cheats : strength of each cheat, up to 1; none for an honest account"""

    account: str
    cheats: dict[str, float] = {}
    quality: str = "unknown"
    skill: float = -1.0


class Labels(NamedTuple):
    """The labels of one recording, by account, and where they were read."""

    path: Path
    of: dict[str, AccountLabel]


def labels_beside(recording: str | Path) -> Labels:
    """The labels that lie beside a recording, in RECORDING-truth/labels.json: a list of objects, an account each.

    Raises `EvidenceError` naming the file that isn't there or can't be used.
    """
    folder = Path(recording)
    path = folder.with_name(folder.name + "-truth") / "labels.json"
    try:
        told = msgspec.json.decode(path.read_bytes(), type=list[Fields])
        rows = msgspec.convert([_now(row) for row in told], list[AccountLabel])
    except OSError as error:
        expected = 'a list of {"account": ..., "cheats": {kind: 0..1}}, no cheats for honest accounts'
        raise EvidenceError(path, f"can't be read ({error.strerror}); it says who was honest: {expected}") from None
    except msgspec.DecodeError as error:
        raise EvidenceError(path, f"is no list of labels: {error}") from None
    return Labels(path, {row.account: row for row in rows})


def _now(row: Fields) -> Fields:
    """Return a label under today's names; `tinclock simulate` of version 0.2 wrote others."""
    named = {LABELS.get(key, key): held for key, held in row.items()}
    cheats = named.get("cheats")
    return (
        {**named, "cheats": {LABELS.get(key, key): held for key, held in cheats.items()}}
        if isinstance(cheats, dict)
        else named
    )


def plays_of(
    recording: str | Path, fair: Mapping[str, bool] | None, on_progress: Callable[[float], None] | None = None
) -> tuple[list[MatchStats], list[MatchStats]]:
    """(fair, unfair) play of a recording's accounts, as `calibrate` takes it; accounts without a label are left out.

    fair : who was, by account; None where nobody knows: then all of it is in the first
    """
    source = Recording(recording)
    rules = source.require_header().rules
    collector = Collector(frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic))
    for seen in observed_in(source, on_progress=on_progress):
        collector.take(
            seen.shots, seen.gazes, [finding for _, finding in seen.findings], seen.quality_of(), seen.accounts(),
            seen.claims, seen.until_s - seen.from_s,
        )  # fmt: skip
    both: tuple[list[MatchStats], list[MatchStats]] = ([], [])
    for account, play in sorted(collector.plays.items()):
        if fair is None:
            both[0].append(play)
        elif account in fair:
            both[0 if fair[account] else 1].append(play)
    return both


def labelled_in(
    recording: str | Path, labels: Mapping[str, AccountLabel], calibration: Calibration,
    on_progress: Callable[[float], None] | None = None,
) -> list[Labelled]:  # fmt: skip
    """The evidence on each labelled account of a recording, stage by stage."""
    source, kinds = Recording(recording), list(calibration.kinds())
    weighing = MatchEvaluator(calibration, source.require_header().rules)
    for seen in observed_in(source, on_progress=on_progress):
        weighing.add(seen)
    out = []
    for account, stages in sorted(weighing.timeline.stages.items()):
        label = labels.get(account)
        if label is not None:
            begins = source.begins_at_s
            times = np.array([(at - begins) / 60.0 for at, _ in stages])
            out.append(
                Labelled(
                    account,
                    Path(recording).name,
                    label.cheats,
                    label.quality,
                    label.skill,
                    times,
                    matrix(stages, kinds),
                )
            )
    return out


def shares_of(calibration: Calibration) -> np.ndarray:
    """(kinds,) float64: each kind's share of the bet, in the order of `labelled_in`'s columns."""
    return np.array(list(calibration.kinds().values()))


def with_fair(labels: Iterable[AccountLabel]) -> dict[str, bool]:
    """Truth by account."""
    return {label.account: not label.cheats for label in labels}
