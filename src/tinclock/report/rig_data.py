"""A rig as the drawing code of pages takes it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.core.geometry.rig import Rig


def rig_fields(rig: Rig, blocks_only: bool) -> Fields:
    """A rig as the drawing code takes it: its parts with their frames, and where its eye is."""
    from scipy.spatial.transform import Rotation

    parts: list[Fields] = []
    turns = Rotation.from_matrix(rig.table[:, 4:13].reshape(-1, 3, 3)).as_quat()
    for row, part, turn in zip(rig.table, rig.parts, turns, strict=True):
        parts.append(
            {
                "name": part.name, "zone": part.zone, "side": part.side,
                "bone": int(rig.bone_of[len(parts)]),
                "shape": [int(row[0]), *(round(float(v), 5) for v in row[13:16])],
                "at": [round(float(v), 5) for v in row[1:4]], "turn": [round(float(v), 6) for v in turn],
            }
        )  # fmt: skip
    eye = {"bone": rig.eye_bone, "at": list(rig.eye_at)} if rig.has_eye else None
    return {"parts": parts, "bones": len(rig.bones), "eye": eye, "cover": blocks_only}
