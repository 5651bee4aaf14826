"""The pose history: casts at a view through all poses of the last second or so, which `ring` keeps."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.arrays import (
    check_finite,
    require_limits,
    require_rays,
    require_shape,
    sound_ray,
    spread,
    unit_direction,
)
from tinclock.core.errors import (
    BadArrayError,
    BadNumberError,
    only_by,
)
from tinclock.core.kernels import cast, poses
from tinclock.core.kernels.layout import ENTITY
from tinclock.core.kernels.parallel import in_chunks
from tinclock.core.timeline.hitboxes import Hitboxes, pose_hitboxes
from tinclock.core.timeline.ring import PoseRing
from tinclock.core.timeline.views import View
from tinclock.core.tolerances import TOLERANCES
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    from tinclock.core.geometry.level import Level, LevelHit
    from tinclock.core.geometry.rig import Part

NO_LIMIT = float("inf")


class PartHit(NamedTuple):
    """The hitbox that a ray met: whose, which part (its row in the rig), where it enters and leaves, in metres."""

    entity: int
    part_index: int
    part: Part
    distance_m: float
    leaves_m: float


class PartHits(NamedTuple):
    """Hits of many rays, one row a ray: entity is 0 and distance_m inf where a ray meets nobody.

    entity, part_index : (m,) int64
    distance_m, leaves_m : (m,) float64, metres
    """

    entity: NDArray[np.int64]
    part_index: NDArray[np.int64]
    distance_m: NDArray[np.float64]
    leaves_m: NDArray[np.float64]


class PoseHistory(PoseRing):
    """Ring buffer of poses. `rigs` names the bodies; entities are added with one of them.

    What was recorded in the last `history_s` seconds of server time is held, however many ticks that is and however
    they are numbered. `tick_rate_hz` says how much room to begin with; the ring grows where ticks come faster.
    `storage` "full" keeps float32 poses; "half" keeps them as 16-bit steps, at half the size.
    """

    # -- looking --------------------------------------------------------------------------------------------

    def nearest(
        self,
        origin: Triple,
        direction: Triple,
        view: View,
        *,
        limit_m: float = NO_LIMIT,
        ignore: int = 0,
        radius_m: float = 0.0,
    ) -> PartHit | None:
        """The first hitbox along a ray at a view, within `limit_m`, of anybody but entity `ignore`; or None.

        With a radius, what a ball whose centre starts at `origin` touches first, after how many metres. `direction` may
        have any length but zero. A ray that starts inside a hitbox hits it at distance 0. Raises `OutOfHistoryError`
        when the view's ticks are not held, `BadNumberError` for a radius that is negative or not finite, a limit that
        is negative or NaN, and a fraction that is not finite.
        """
        if not 0.0 <= radius_m < NO_LIMIT:
            raise BadNumberError("radius_m", "a finite number of at least 0", radius_m)
        if not abs(view.fraction) < TOLERANCES.largest:
            raise BadNumberError("view.fraction", "a finite number", view.fraction)
        slots = self._slot(view.from_tick), self._slot(view.to_tick)
        start, along, limit = sound_ray(origin, unit_direction(direction), limit_m)
        return self.nearest_along((*start, *along), *slots, float(view.fraction), limit, ignore, float(radius_m))

    def nearest_along(
        self,
        ray: tuple[float, float, float, float, float, float],
        from_slot: int,
        to_slot: int,
        fraction: float,
        limit_m: float,
        ignore: int,
        radius_m: float = 0.0,
    ) -> PartHit | None:
        """`nearest` without checks, for callers that have made them: ray is origin and unit direction."""
        columns = self._columns
        column, row, enter, leave = cast.first_part_alone(
            ray, radius_m, limit_m, (from_slot, to_slot, fraction), columns.of(ignore), self.zone_depth_m,
            columns.stored,
        )  # fmt: skip
        if column < 0:
            return None
        entity, index, part = columns.named(column, row)
        return PartHit(entity, index, part, enter, leave)

    def nearest_body_along(
        self,
        ray: tuple[float, float, float, float, float, float],
        from_slot: int,
        to_slot: int,
        fraction: float,
        limit_m: float,
        ignore: int,
    ) -> PartHit | None:
        """`nearest_along` of those who can be damaged: what only stands in the way is looked through."""
        columns = self._columns
        column, row, enter, leave = cast.first_body_alone(
            ray, limit_m, (from_slot, to_slot, fraction), columns.of(ignore), self.zone_depth_m, columns.stored
        )
        if column < 0:
            return None
        entity, index, part = columns.named(column, row)
        return PartHit(entity, index, part, enter, leave)

    def first_on_path(
        self,
        level: Level,
        origin: Triple,
        direction: Triple,
        slots: tuple[int, int],
        fraction: float,
        limit_m: float,
        ignore: int,
    ) -> tuple[LevelHit | None, PartHit | None]:
        """The first wall within `limit_m` and the first hitbox before it, without checks, in one kernel call."""
        columns = self._columns
        wall, distance, facing, column, row, enter, leave = cast.first_on_path(
            (*origin, *direction), limit_m, (*slots, fraction), columns.of(ignore), self.zone_depth_m, columns.stored,
            level.header, level.offset,
        )  # fmt: skip
        met = None if wall < 0 else level.met(wall, distance, facing)
        if column < 0:
            return met, None
        entity, index, part = columns.named(column, row)
        return met, PartHit(entity, index, part, enter, leave)

    def nearest_many(
        self,
        origins: ArrayLike,
        directions: ArrayLike,
        from_ticks: ArrayLike,
        to_ticks: ArrayLike,
        fractions: ArrayLike,
        *,
        limits_m: ArrayLike = NO_LIMIT,
        ignore: ArrayLike = 0,
    ) -> PartHits:
        """`nearest` for many rays, each at its own view.

        origins, directions : (m, 3) float64; from_ticks, to_ticks : (m,) int; fractions : (m,) float64;
        limits_m, ignore : (m,) or one value for all. Results don't depend on how the batch is split.

        Lengths are metres; ticks, fractions and ids have no unit.
        """
        start = require_shape("origins", origins, (None, 3), np.float64)
        along = require_shape("directions", directions, (len(start), 3), np.float64)
        count = len(start)
        from_tick, to_tick, skip = (spread(name, value, count, np.int64) for name, value in (
            ("from_ticks", from_ticks), ("to_ticks", to_ticks), ("ignore", ignore)))  # fmt: skip
        share, limit = spread("fractions", fractions, count, np.float64), require_limits(limits_m, count)
        out = PartHits(np.empty(count, np.int64), np.empty(count, np.int64), np.empty(count), np.empty(count))
        (_, slots, ticks), columns = self.ticks(), self._columns
        refused: list[int] = []

        def work(s: slice) -> None:
            row = cast.first_parts(
                (start[s], along[s], limit[s], skip[s]), (from_tick[s], to_tick[s], share[s]),
                (ticks, slots, columns.lookup), self.zone_depth_m, columns.stored,
                (out.entity[s], out.part_index[s], out.distance_m[s], out.leaves_m[s]),
            )  # fmt: skip
            if row >= 0:
                refused.append(s.start + row)

        in_chunks(count, work)
        if refused:
            self._refuse_ray(start, along, from_tick, to_tick, share)
        return out

    def _refuse_ray(
        self,
        origins: NDArray[np.float64],
        directions: NDArray[np.float64],
        from_ticks: NDArray[np.int64],
        to_ticks: NDArray[np.int64],
        fractions: NDArray[np.float64],
    ) -> None:
        """Raise for the first ray of a batch that can't be cast."""
        require_rays(origins, directions)
        check_finite("fractions", fractions)
        for tick in np.stack([from_ticks, to_ticks], axis=1).ravel().tolist():
            self._slot(tick, "view at tick")
        raise BadArrayError("fractions", f"numbers below {TOLERANCES.largest:g}", str(np.abs(fractions).max()))

    def bones_at(self, entity: int, view: View) -> NDArray[np.float64] | None:
        """An entity's bones at a view: (bones, 7) float64, xyz + quaternion xyzw, world frame; None when absent."""
        rig = self.rig_of(entity)
        out = np.empty((len(rig.bones), 7))
        there = poses.bones_between(
            self._columns.of(entity), (self._slot(view.from_tick), self._slot(view.to_tick), float(view.fraction)),
            self._columns.stored, out,
        )  # fmt: skip
        return out if there else None

    def hitboxes_at(self, entity: int, view: View) -> Hitboxes | None:
        """An entity's hitboxes at a view, as arrays; None when it is absent there. See also `hitboxes_frame`."""
        bones = self.bones_at(entity, view)
        return None if bones is None else pose_hitboxes(self.rig_of(entity), bones, entity, self.time_of(view))

    def present(self, view: View) -> list[int]:
        """Ids of the entities that are there at a view, rising."""
        columns = self._columns
        a, b = (columns.store.epochs[self._slot(tick)] for tick in (view.from_tick, view.to_tick))
        between = 0.0 < view.fraction < 1.0
        there = (b if view.fraction >= 1.0 else a) > 0
        there &= ~(between & (a > 0) & (b > 0) & ((a ^ b) >= poses.ABSENCE))
        return sorted(int(i) for i in columns.store.bodies[there, ENTITY])

    def eye_now(self, entity: int) -> Triple | None:
        """Return the position of the entity's eye in the newest tick; None when it is absent."""
        return None if self._newest_tick < 0 else self.eye_in(entity, self.newest_slot)

    def eye_in(self, entity: int, slot: int) -> Triple | None:
        """Return the position of the entity's eye in a ring slot; None when it is absent, or its rig has no eye."""
        columns = self._columns
        column = columns.of(entity)
        if column < 0:
            return None
        rig = columns.rig_at(column)
        if not rig.has_eye:
            return None
        there, x, y, z = poses.point_on_bone(column, rig.eye_bone, rig.eye_at, (slot, slot, 0.0), columns.stored)
        return (x, y, z) if there else None

    def epoch_in(self, entity: int, slot: int) -> int:
        """Return the number of the entity's period without cut or absence in a ring slot, 0 when it was absent.

        Equal numbers are one stretch; nothing else follows from them.
        """
        column = self._columns.of(entity)
        return 0 if column < 0 else int(self._columns.store.epochs[slot, column])

    def cuts_since(self, entity: int, slot: int) -> int:
        """Return the number of the entity's cuts after the tick in a ring slot; -1 when it was absent there."""
        return self._columns.cuts_since(entity, slot)

    def view(self) -> HistoryView:
        """The same history, always as it is now, for reading alone."""
        view = HistoryView.__new__(HistoryView)
        view.__dict__ = self.__dict__  # one state for all readers
        return view


class HistoryView(PoseHistory):
    """A pose history that may only be read: what a referee shows of its own. Commands change it."""

    add = only_by("history.add", "admit or place")
    remove = only_by("history.remove", "dismiss or remove")
    cut = only_by("history.cut", "mark_teleport")
    record = only_by("history.record", "record")
    publish = only_by("history.publish", "snapshot_sent")
