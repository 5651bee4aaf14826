"""A match's whole state as bytes, so that another process goes on from there without ruling what was before again.

The bytes are plain data, see `state_graph`: reading them makes objects of the types listed here and nothing else. They
are for the same release of the library, and for a moment: a recording is what lasts.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any, Final

from tinclock.core.combat.connections import Connection
from tinclock.core.errors import CheckpointError
from tinclock.core.geometry.level import Level
from tinclock.core.referee import Referee
from tinclock.core.rules.tables import Table
from tinclock.core.ruling.brief import Remembered
from tinclock.core.sparse import Sparse
from tinclock.core.state_graph import GraphReader, GraphWriter

PACKED: Final = (Sparse, Table)
"""Records that MessagePack holds whole."""
MODULES: Final = (
    "referee", "findings", "geometry.rig", "combat.accepted_position", "combat.accounts", "combat.bulletin",
    "combat.connections", "combat.fire_rate", "combat.events", "combat.flights", "combat.held", "combat.inputs",
    "combat.items", "combat.ledger", "combat.ledger_reading", "combat.motion", "combat.published", "combat.receipts",
    "combat.roster", "combat.spread_stream", "combat.scores", "combat.weapons", "rules.game", "rules.movement",
    "rules.projectiles", "rules.numbers", "rules.rigs", "rules.ruleset", "rules.tables", "rules.weapons",
    "ruling.brief", "ruling.claims", "ruling.commands", "ruling.weapon_action", "ruling.hits", "ruling.pipeline",
    "ruling.quick", "ruling.records", "ruling.short_way", "ruling.check_results", "ruling.trigger", "ruling.use",
    "timeline.clock", "timeline.columns", "timeline.drawn", "timeline.history", "timeline.lag", "timeline.least",
    "timeline.packed", "timeline.queue", "timeline.ring", "timeline.views",
)  # fmt: skip
"""Modules of the core whose types a match's state can be made of."""


def _types_in(modules: tuple[str, ...]) -> tuple[type, ...]:
    """Return the types that modules define, in an order that depends on their source alone."""
    found = {
        one for name in modules for one in vars(import_module(f"tinclock.core.{name}")).values()
        if isinstance(one, type) and one.__module__ == f"tinclock.core.{name}"
    }  # fmt: skip
    return tuple(sorted(found, key=lambda one: (one.__module__, one.__qualname__)))


KINDS: Final = _types_in(MODULES)
"""Types that a match's state can be made of. Data name one by its place here, so `made_by` depends on the list."""


def _connection(one: Connection) -> tuple[None, dict[str, Any]]:
    _, state = one.__getstate__()
    return None, {**state, "receipts": Remembered(one.receipts)}


def checkpoint_of(referee: Referee) -> bytes:
    """All that a referee knows but its level, as bytes for `referee_from`. Changes nothing."""
    return GraphWriter(KINDS, PACKED, {Connection: _connection}, {Level: "level"}).graph(referee)


def referee_from(data: bytes, level: Level | None) -> Referee:
    """The referee as it was when a checkpoint was taken: it goes on with the same rulings, bit for bit.

    level : that match's level. Raises `CheckpointError` for what is no checkpoint of this release.
    """
    try:
        referee = GraphReader(KINDS, PACKED, {"level": level}).root(data)
    except Exception as error:  # whatever damaged bytes make of the reader
        raise CheckpointError("bytes that this release wrote", f"{type(error).__name__}: {error}") from None
    if not isinstance(referee, Referee):
        raise CheckpointError("a referee's state", type(referee).__name__)
    return referee
