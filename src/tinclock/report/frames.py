"""Tables of what the core returns, as pandas frames."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.errors import MissingExtraError
from tinclock.core.geometry.rig import Shape

if TYPE_CHECKING:
    import pandas

    from tinclock.core.timeline.hitboxes import Hitboxes


def hitboxes_frame(boxes: Hitboxes) -> pandas.DataFrame:
    """One entity's hitboxes as a pandas frame, one row a part. Needs the extra `frames`.

    Columns: entity, server_time, part, zone, side, shape; x_m, y_m, z_m, the centre; axis_x, axis_y, axis_z, the
    direction of a capsule; radius_m, half_length_m, half_x_m, half_y_m, half_z_m, nan where the shape has no such size.
    """
    try:
        import pandas
    except ImportError:
        raise MissingExtraError("hitboxes_frame", "pandas", "frames") from None
    sphere, capsule, box = (boxes.shapes == shape for shape in Shape)
    size = boxes.sizes
    return pandas.DataFrame(
        {
            "entity": boxes.entity,
            "server_time": boxes.server_time,
            "part": boxes.parts,
            "zone": boxes.zones,
            "side": boxes.sides,
            "shape": [Shape(int(shape)).name.lower() for shape in boxes.shapes],
            **{f"{axis}_m": boxes.centres[:, k] for k, axis in enumerate("xyz")},
            **{f"axis_{axis}": boxes.axes[:, k, 2] for k, axis in enumerate("xyz")},
            "radius_m": np.where(sphere, size[:, 0], np.where(capsule, size[:, 1], np.nan)),
            "half_length_m": np.where(capsule, size[:, 0], np.nan),
            **{f"half_{axis}_m": np.where(box, size[:, k], np.nan) for k, axis in enumerate("xyz")},
        }
    )
