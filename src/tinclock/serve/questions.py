"""Queries of a match for servers in other languages: they change nothing."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from msgspec import Struct, to_builtins

from tinclock.core.analysis.miss_explanation import explain_miss
from tinclock.core.analysis.shot_scene import HistorySlice
from tinclock.core.plain import Fields
from tinclock.core.ruling.claims import MeleeClaim, ShotClaim
from tinclock.core.timeline.views import View
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling


class Welcome(Struct, frozen=True, tag="welcome", tag_field="what"):
    """Return the answer to a client that joined: its entity, the key of its spread, the published state."""

    connection: str


class SpreadKey(Struct, frozen=True, tag="spread_key", tag_field="what"):
    """The key of an entity's spread, hexadecimal, for the client that acts for it."""

    entity: int


class Position(Struct, frozen=True, tag="position", tag_field="what"):
    """Accepted position of an entity, metres; null before `set_position`."""

    entity: int


class MeleeTargets(Struct, frozen=True, tag="melee_targets", tag_field="what"):
    """Return the bodies in reach of an entity, nearest first. weapon, direction : see `Referee.melee_targets`"""

    entity: int
    weapon: str | None = None
    direction: Triple | None = None


class ViewBounds(Struct, frozen=True, tag="view_bounds", tag_field="what"):
    """Ages that a connection's views may have on arrival, in seconds; null where nothing bounds them."""

    connection: str


class ViewWindow(Struct, frozen=True, tag="view_window", tag_field="what"):
    """Between which server times a claim may show the others without a finding."""

    connection: str
    sequence: int
    received_at: float


class ConnectionQuality(Struct, frozen=True, tag="connection", tag_field="what"):
    """State of a connection's clock and path, in seconds."""

    connection: str


class Scoreboard(Struct, frozen=True, tag="scoreboard", tag_field="what"):
    """Return the board with shots, hits, accuracy and damage of each player, the leading one first."""


class Preview(Struct, frozen=True, tag="preview", tag_field="what"):
    """Return the outcome, findings and checks that a claim leads to as things stand; null for none. Nothing changes."""

    connection: str
    claim: Any
    received_at: float


Question = (
    Preview | Scoreboard | Welcome | SpreadKey | Position | MeleeTargets | ViewBounds | ViewWindow | ConnectionQuality
)


def answer_of(referee: Referee, question: Question) -> Any:
    """The answer, as plain data. Raises what the referee raises for names that it doesn't know."""
    find: Callable[[Referee, Any], Any] = _ANSWERS[type(question)]
    return find(referee, question)


def _in_reach(referee: Referee, asked: MeleeTargets) -> list[Fields]:
    found = referee.melee_targets(asked.entity, asked.weapon, asked.direction)
    return [
        {"entity": one.entity, "part": one.part.name, "distance_m": one.distance_m, "position": one.position}
        for one in found
    ]


def _scoreboard(referee: Referee, _: Scoreboard) -> list[Fields]:
    return [{**to_builtins(row), "accuracy": row.accuracy} for row in referee.scoreboard()]


def _preview(referee: Referee, asked: Preview) -> Fields | None:
    ruling = referee.preview(asked.connection, asked.claim, received_at=asked.received_at)
    if ruling is None:
        return None
    names = ("kind", "entity", "sequence", "weapon", "outcome", "findings", "checks", "state")
    return {name: to_builtins(getattr(ruling, name)) for name in names}


def _view_bounds(referee: Referee, asked: ViewBounds) -> Fields:
    return {name: _known(value) for name, value in referee.view_bounds(asked.connection)._asdict().items()}


def _view_choice(referee: Referee, asked: ViewWindow) -> list[float | None]:
    return [_known(value) for value in referee.view_window(asked.connection, asked.sequence, asked.received_at)]


def _line(referee: Referee, asked: ConnectionQuality) -> Fields:
    clock = referee.clock(asked.connection)
    numbers = ("round_trip_s", "min_round_trip_s", "jitter_s", "offset_s", "offset_bound_s", "loss", "confidence")
    return {"answers": clock.answers, **{name: _known(getattr(clock, name)) for name in numbers}}


def _known(value: float) -> float | None:
    """A number that every format can say; nothing for one that isn't known or has no end."""
    return value if math.isfinite(value) else None


_ANSWERS: dict[type, Callable[[Referee, Any], Any]] = {
    Preview: _preview,
    Scoreboard: _scoreboard,
    Welcome: lambda referee, asked: referee.welcome(asked.connection),
    SpreadKey: lambda referee, asked: referee.spread_key(asked.entity),
    Position: lambda referee, asked: referee.position(asked.entity),
    MeleeTargets: _in_reach,
    ViewBounds: _view_bounds,
    ViewWindow: _view_choice,
    ConnectionQuality: _line,
}


def explanation_of(referee: Referee, ruling: Ruling, claim: object) -> str:
    """Explain a claim's result in words, by name; a shot that hit nobody with the distance of its miss."""
    names = {row.entity: row.name for row in referee.state().entities if row.name}
    missed = ruling.kind in ("shot", "melee") and not ruling.hits
    if not missed or referee.history.newest_tick < 0:
        return ruling.explain(names)
    seen = claim.view if isinstance(claim, (ShotClaim, MeleeClaim)) and isinstance(claim.view, View) else None
    found = explain_miss(HistorySlice(referee.history, referee.rules, referee.level), ruling, seen)
    return "\n".join([ruling.explain(names, found.because(names)), *(f"-> {line}" for line in found.describe(names))])
