"""Reading and writing the table of weights; the built-in one was calibrated on garden matches."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import msgspec

from tinclock.core.errors import EvidenceError
from tinclock.core.evidence.weights import SCHEMA, Weights


def load_weights(path: str | Path | None = None) -> Weights:
    """The table in a file, or the built-in one. Raises `EvidenceError` naming what can't be used."""
    source = files("tinclock.intake") / "data" / "weights.json" if path is None else Path(path)
    try:
        weights = msgspec.json.decode(source.read_bytes(), type=Weights)
    except OSError as error:
        raise EvidenceError(path, f"can't be read: {error.strerror}") from None
    except (msgspec.DecodeError, RecursionError) as error:
        raise EvidenceError(path, f"is no table of weights: {error}") from None
    if weights.schema != SCHEMA:
        raise EvidenceError(path, f"is of schema {weights.schema}; this version reads {SCHEMA}: calibrate it again")
    return weights


def save_weights(weights: Weights, path: str | Path) -> Path:
    """Write a table. Raises `EvidenceError` when it can't be written."""
    target = Path(path)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(msgspec.json.format(msgspec.json.encode(weights), indent=1) + b"\n")
    except OSError as error:
        raise EvidenceError(path, f"can't be written: {error.strerror}") from None
    return target
