"""Labelled recordings: what accounts did there, with the truth about them, to calibrate by and to judge detection."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from tinclock.core.errors import EvidenceError
from tinclock.core.evidence.calibration import Collector, Play
from tinclock.core.evidence.course import Weighing
from tinclock.core.evidence.quality import Labelled, matrix
from tinclock.recordings.observed import observed_in
from tinclock.recordings.recording import Recording

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping

    from tinclock.core.evidence.weights import Weights


class AccountLabel(msgspec.Struct, frozen=True):
    """Truth about an account. dials : strength of its cheats by kind, up to 1; none: it was fair."""

    account: str
    dials: dict[str, float] = {}
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
        rows = msgspec.json.decode(path.read_bytes(), type=list[AccountLabel])
    except OSError as error:
        expected = 'a list of {"account": ..., "dials": {kind: 0..1}}, dials empty for fair accounts'
        raise EvidenceError(path, f"can't be read ({error.strerror}); it says who was fair: {expected}") from None
    except msgspec.DecodeError as error:
        raise EvidenceError(path, f"is no list of labels: {error}") from None
    return Labels(path, {row.account: row for row in rows})


def plays_of(
    recording: str | Path, fair: Mapping[str, bool] | None, on_progress: Callable[[float], None] | None = None
) -> tuple[list[Play], list[Play]]:
    """(fair, unfair) play of a recording's accounts, as `calibrate` takes it; accounts without a label are left out.

    fair : who was, by account; None where nobody knows: then all of it is in the first
    """
    source = Recording(recording)
    rules = source.require_header().rules
    collector = Collector(frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic))
    for seen in observed_in(source, on_progress=on_progress):
        collector.take(
            seen.shots, seen.gazes, [finding for _, finding in seen.findings], seen.line_of(), seen.accounts(),
            seen.claims, seen.until_s - seen.from_s,
        )  # fmt: skip
    both: tuple[list[Play], list[Play]] = ([], [])
    for account, play in sorted(collector.plays.items()):
        if fair is None:
            both[0].append(play)
        elif account in fair:
            both[0 if fair[account] else 1].append(play)
    return both


def labelled_in(
    recording: str | Path, labels: Mapping[str, AccountLabel], weights: Weights,
    on_progress: Callable[[float], None] | None = None,
) -> list[Labelled]:  # fmt: skip
    """The evidence on each labelled account of a recording, stage by stage."""
    source, kinds = Recording(recording), list(weights.kinds())
    weighing = Weighing(weights, source.require_header().rules)
    for seen in observed_in(source, on_progress=on_progress):
        weighing.take(seen)
    out = []
    for account, stages in sorted(weighing.course.stages.items()):
        label = labels.get(account)
        if label is not None:
            begins = source.begins_at_s
            times = np.array([(at - begins) / 60.0 for at, _ in stages])
            out.append(
                Labelled(
                    account, Path(recording).name, label.dials, label.quality, label.skill, times, matrix(stages, kinds)
                )
            )
    return out


def shares_of(weights: Weights) -> np.ndarray:
    """(kinds,) float64: each kind's share of the bet, in the order of `labelled_in`'s columns."""
    return np.array(list(weights.kinds().values()))


def with_fair(labels: Iterable[AccountLabel]) -> dict[str, bool]:
    """Truth by account."""
    return {label.account: not label.dials for label in labels}
