"""A recording's rulings beside what the game's own server made of the same claims."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import msgspec

from tinclock.core.analysis.own_results import agreement
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.core.analysis.own_results import Agreement
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.recording import Recording


class ResultComparison(NamedTuple):
    """A ruling and what the server told of the same claim. hits : (victim, points of damage)"""

    ruling: Ruling
    hits: tuple[tuple[int, float], ...]
    agreement: Agreement


def compare_results(recording: Recording) -> list[ResultComparison]:
    """Every claim of which the server told its own result (`report_server_result`), in the order of the rulings."""
    told: dict[tuple[str, int], tuple[tuple[int, float], ...]] = {}
    for flush in recording.flushes:
        table = recording.piece("calls", flush)
        for call, text in zip(table["call"].to_pylist(), table["arguments"].to_pylist(), strict=True):
            if call == "report_server_result":
                said = msgspec.json.decode(text, type=Fields)
                hits = tuple((int(victim), float(damage)) for victim, damage in said.get("hits", ()))
                told[said["connection"], said["sequence"]] = hits
    out = []
    for ruling in recording.rulings():
        found = told.get((ruling.connection, ruling.sequence))
        if found is not None and ruling.first is None:
            out.append(ResultComparison(ruling, found, agreement(ruling, found)))
    return out
