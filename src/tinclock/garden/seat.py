"""A player's place in the scenario, and what is kept of its shots: the truth that judges must not read."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from tinclock.core.ruling.claims import LaunchClaim, MeleeClaim, ShotClaim
    from tinclock.garden.network import LineQuality
    from tinclock.garden.screen import OnCrosshair


class Seat(NamedTuple):
    """One player. strengths : what it does that is cheats, by kind, 0 to 1; drift : of its clock, seconds a second."""

    account: str
    team: str
    cheats: Mapping[str, float]
    line: LineQuality
    delay_s: float
    skill: float
    favourite: str
    offset_s: float
    drift: float

    @property
    def connection(self) -> str:
        """The connection's name."""
        return f"line-{self.account}"

    @property
    def cheat(self) -> str:
        """Return its cheats, or that it is honest."""
        return ", ".join(f"{kind} {strength:g}" for kind, strength in self.cheats.items()) or "honest"

    def clock(self, server_time: float) -> float:
        """Return the time of the client's own clock."""
        return server_time * (1.0 + self.drift) + self.offset_s


class TrueShot(NamedTuple):
    """A shot or blow as its player fired it, and what its crosshair was on, for each ray: the truth about the claim.

    fired_at : server time; launches have no crosshair on anybody: what they meet is still to come
    """

    fired_at: float
    claim: ShotClaim | MeleeClaim | LaunchClaim
    rays: tuple[OnCrosshair, ...]

    @property
    def seen(self) -> OnCrosshair:
        """Target of the first ray's crosshair."""
        return self.rays[0]
