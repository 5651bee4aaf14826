"""Reading and writing the calibration; the built-in one was calibrated on garden matches."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import msgspec

from tinclock.core.errors import EvidenceError
from tinclock.core.evidence.calibration_table import SCHEMA, Calibration


def load_calibration(path: str | Path | None = None) -> Calibration:
    """The table in a file, or the built-in one. Raises `EvidenceError` naming what can't be used."""
    source = files("tinclock.intake") / "data" / "calibration.json" if path is None else Path(path)
    try:
        calibration = msgspec.json.decode(source.read_bytes(), type=Calibration)
    except OSError as error:
        raise EvidenceError(path, f"can't be read: {error.strerror}") from None
    except (msgspec.DecodeError, RecursionError) as error:
        raise EvidenceError(path, f"is no calibration: {error}") from None
    if calibration.schema != SCHEMA:
        raise EvidenceError(path, f"is of schema {calibration.schema}; this version reads {SCHEMA}: calibrate it again")
    return calibration


def save_calibration(calibration: Calibration, path: str | Path) -> Path:
    """Write a table. Raises `EvidenceError` when it can't be written."""
    target = Path(path)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(msgspec.json.format(msgspec.json.encode(calibration), indent=1) + b"\n")
    except OSError as error:
        raise EvidenceError(path, f"can't be written: {error.strerror}") from None
    return target
