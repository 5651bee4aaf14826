"""The history that a match by some rules needs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from tinclock.core.geometry.rig import Rig
from tinclock.core.timeline.history import PoseHistory
from tinclock.core.timeline.shared import SharedHistory

if TYPE_CHECKING:
    from tinclock.core.rules.ruleset import Rules


def history_for(rules: Rules, storage: Literal["full", "half"]) -> PoseHistory:
    """An empty history of its own."""
    return PoseHistory(
        {name: Rig(name, table) for name, table in rules.rigs.items()},
        tick_rate_hz=rules.match.tick_rate_hz,
        history_s=rules.match.history_s,
        zone_depth_m=rules.match.zone_depth_m,
        storage=storage,
    )


def history_beside(rules: Rules, lead: PoseHistory) -> SharedHistory:
    """An empty one that looks at the poses of another, whose rules have the same of what `stores_alike` compares."""
    return SharedHistory(lead, zone_depth_m=rules.match.zone_depth_m, tick_rate_hz=rules.match.tick_rate_hz)


def stores_alike(one: Rules, other: Rules) -> bool:
    """True if histories by these rules store the same."""
    a, b = one.match, other.match
    return (a.tick_rate_hz, a.history_s, one.rigs) == (b.tick_rate_hz, b.history_s, other.rigs)
