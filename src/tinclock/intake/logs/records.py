"""Content of logs: players, spawns, pings, claims and poses, in our units and axes."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.plain import Fields
from tinclock.core.timeline.rooted import rooted_bones
from tinclock.intake.logs.frame import times

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig


class LoggedSpawn(NamedTuple):
    """The beginning of a life. position : where the body was put, metres, where the logs say."""

    server_time: float
    player: str
    position: tuple[float, float, float] | None


class LoggedPing(NamedTuple):
    """One round trip; server times, and the client's clock when it answered."""

    player: str
    sent_at: float
    received_at: float
    client_time: float


class LoggedPlayer(NamedTuple):
    """One who took part, from joining to leaving, in seconds of server time. None: with the first pose, never."""

    account: str
    team: str
    rig: str
    weapon: str | None
    joins: float | None
    leaves: float | None
    interpolation_delay_s: float | None
    placed: bool

    def sooner(self, seconds: float) -> LoggedPlayer:
        """With times that count from so much later."""
        joins = None if self.joins is None else self.joins - seconds
        return self._replace(joins=joins, leaves=None if self.leaves is None else self.leaves - seconds)


class LoggedClaim(NamedTuple):
    """One claim. fields : as a claim's, but for the sequence where the logs have none, the actor, and players' names.

    projectile : the logs' own id of what flew
    """

    player: str
    received_at: float
    kind: str
    fields: Fields
    projectile: str | None
    where: str


class LoggedPoses(NamedTuple):
    """Poses of all ticks, rows sorted by tick and body (and bone).

    ticks : (t,) int64, rising; times : (t,) float64, seconds of server time; published : (t,) bool
    starts : (t + 1,) int64, the first row of each tick
    who : (rows,) int64, into `names`
    poses : (rows, 7) float64, metres and quaternion xyzw: of the body, or of the bone
    raised : (rows, 4) float64, what turns the eye from its body's level; None where nothing says
    by_bone : whether rows are bones
    """

    names: tuple[str, ...]
    rigs: tuple[Rig, ...]
    ticks: NDArray[np.int64]
    times: NDArray[np.float64]
    published: NDArray[np.bool_]
    starts: NDArray[np.int64]
    who: NDArray[np.int64]
    poses: NDArray[np.float64]
    raised: NDArray[np.float64] | None
    by_bone: bool

    def bodies(self, index: int) -> dict[str, NDArray[np.float64]]:
        """The bones of everybody who has poses at a tick: (bones, 7) float64 each.

        Metres and quaternion xyzw.
        """
        low, high = self.starts[index], self.starts[index + 1]
        out: dict[str, NDArray[np.float64]] = {}
        while low < high:
            number = self.who[low]
            rig = self.rigs[number]
            end = low + (len(rig.bones) if self.by_bone else 1)
            bones = self.poses[low:end] if self.by_bone else rooted_bones(rig, self.poses[low:end])[0]
            if self.raised is not None:
                bones[rig.eye_bone, 3:] = times(self.poses[low:end, 3:], self.raised[low:end])[0]
            out[self.names[number]] = bones
            low = end
        return out

    def away(self, longest_s: float) -> list[tuple[float, str]]:
        """Return players that came back after a longer time without rows, and the times."""
        tick_of_row = np.repeat(np.arange(len(self.ticks)), np.diff(self.starts))
        out = []
        for number, name in enumerate(self.names):
            at = self.times[np.unique(tick_of_row[self.who == number])]
            out += [(float(when), name) for when in at[1:][np.diff(at) > longest_s]]
        return sorted(out)


Players = dict[str, tuple[LoggedPlayer, ...]]
"""By the logs' own ids: each time that one was there, in order."""
