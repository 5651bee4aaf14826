"""Truth about screens, estimated for a recording of which nobody wrote it down: from claims and connections."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.evidence.calibration_table import line_class
from tinclock.core.ruling.claims import ShotClaim
from tinclock.core.timeline.views import Interpolation
from tinclock.garden.fairness import Screen, Viewer
from tinclock.garden.truth import Truth
from tinclock.recordings.lines import Lines
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from tinclock.core.evidence.measured import MeasuredLine
    from tinclock.recordings.recording import Recording


def estimated_truth(recording: Recording) -> Truth:
    """Return claimed hits, and how far each screen was from the server by its round trip and drawing.

    Half of the median round trip is taken for each way. Every account counts as honest, since nobody says who was not.
    Raises `RecordingError` for what can't be read.
    """
    lines = Lines()
    trips: dict[str, list[MeasuredLine]] = {}
    screens: dict[tuple[str, int], Screen] = {}
    for flush in recording.flushes:
        lines.take(recording.piece("pings", flush))
        for connection, quality in lines.now.items():
            trips.setdefault(connection, []).append(quality)
        claims = recording.piece("claims", flush)
        for connection, received in zip(claims["connection"].to_pylist(), claims["received"].to_pylist(), strict=True):
            claim = decode_claim(received)
            if isinstance(claim, ShotClaim) and claim.victim:
                screens.setdefault((connection, claim.sequence), Screen(claim.victim, claim.part or ""))
    match = recording.require_header().rules.match
    spacing_s = match.snapshot_every / match.tick_rate_hz
    viewers = {
        connection: _viewer(entity, interpolation, trips.get(connection, []), spacing_s)
        for connection, (entity, interpolation) in _admitted(recording).items()
    }
    return Truth((), viewers, screens)


def _viewer(entity: int, interpolation: Interpolation, line: list[MeasuredLine], spacing_s: float) -> Viewer:
    trip_s = float(np.median([one.round_trip_s for one in line])) if line else 0.0
    shown_s = trip_s / 2.0 + interpolation.interpolation_delay_s + spacing_s / 2.0
    quality = line_class(line[len(line) // 2] if line else None)
    return Viewer(entity, quality, True, trip_s / 2.0, shown_s, trip_s / 2.0)


def _admitted(recording: Recording) -> dict[str, tuple[int, Interpolation]]:
    """Each connection's entity, and how its client drew last."""
    out: dict[str, tuple[int, Interpolation]] = {}
    for flush in recording.flushes:
        table = recording.piece("calls", flush)
        columns = (table[name].to_pylist() for name in ("call", "arguments", "answer"))
        for call, text, answer in zip(*columns, strict=True):
            if call not in ("admit", "set_interpolation"):
                continue
            given: Any = msgspec.json.decode(text)
            drawing = (
                msgspec.convert(given["interpolation"], Interpolation)
                if given.get("interpolation")
                else Interpolation()
            )
            if call == "admit" and answer is not None:
                out[given["connection"]] = int(answer), drawing
            elif call == "set_interpolation" and given["connection"] in out:
                out[given["connection"]] = out[given["connection"]][0], drawing
    return out
