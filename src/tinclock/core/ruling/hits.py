"""Results of a ray: the hits that a ruling counts, and the end of its way."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from msgspec import Struct

from tinclock.core.sparse import Sparse
from tinclock.core.text import called, points
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from collections.abc import Mapping


class Hit(Struct, frozen=True, gc=False):
    """A hitbox that the ruling counts as hit, with the server's damage; `times` is how many pellets met it.

    `impulse` is what a splash pushes with, in newton seconds, for the game to use.
    """

    victim: int
    part: str
    zone: str
    side: str
    distance_m: float
    position: Triple
    damage: float
    health_before: float
    health_after: float
    lethal: bool
    times: int = 1
    impulse: Triple | None = None

    def explain(self, names: Mapping[int, str] | None = None) -> str:
        """Return the victim, the part and the damage in one line. names : of entities"""
        health = f"health {points(self.health_before)} -> {points(self.health_after)}"
        pellets = f" ({self.times} pellets)" if self.times > 1 else ""
        return (
            f"hit {called(self.victim, names)} in the {self.part} at {self.distance_m:.2f} m: "
            f"{points(self.damage)} damage, {health}{', killed' if self.lethal else ''}{pellets}"
        )


class Stop(Sparse, frozen=True, omit_defaults=True, gc=False):
    """End of the way of a shot or a flight.

    kind : a hitbox ("body"), something that only stands in the way ("cover": a door), the level ("level"), or nothing
        but time, distance or its fuse ("air")
    name : the level's surface, the cover's rig, or why it ended in the air; entity : the body or the cover
    """

    kind: Literal["body", "cover", "level", "air"]
    name: str = ""
    entity: int = 0

    def explain(self) -> str:
        """Return it in a word or two."""
        return f"entity {self.entity}" if self.kind == "body" else self.name


class Ray(Struct, frozen=True, gc=False):
    """One ray as it was ruled: where it went, how far it got, and what stopped it (None: nothing within range)."""

    direction: Triple
    reached_m: float
    stopped_by: Stop | None = None
