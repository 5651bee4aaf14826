"""Everything that changes a match, as one tagged union: applied by a referee, kept by a recorder, sent to the service.

A command holds what the caller gave. Decoding one from a file or a socket checks its types; the referee
checks what the values mean.
"""

from __future__ import annotations

from typing import Any, Final, get_args

import msgspec

from tinclock.core.plain import Fields
from tinclock.core.rules.ruleset import Rules
from tinclock.core.sparse import Sparse
from tinclock.core.timeline.views import Drawing

Position = tuple[float, float, float]


class _Command(Sparse, frozen=True, tag_field="call", forbid_unknown_fields=True, omit_defaults=True, gc=False):
    """Base of all commands: `call` names the kind, and an unknown field is refused."""


class Admit(_Command, frozen=True, tag="admit"):
    """A connection comes in to play; see `MatchCalls.admit`, whose arguments these are."""

    connection: str
    account: str
    rig: str
    team: str = ""
    name: str = ""
    weapon: str | None = None
    weapons: tuple[str, ...] | None = None
    drawing: Drawing | None = None
    server_time: float | None = None


class AdmitSpectator(_Command, frozen=True, tag="admit_spectator"):
    """A connection comes in to look on."""

    connection: str
    account: str


class Place(_Command, frozen=True, tag="place"):
    """Something that nobody plays comes in."""

    rig: str
    team: str = ""
    name: str = ""
    weapon: str = ""
    server_time: float | None = None


class Remove(_Command, frozen=True, tag="remove"):
    """Removal of an entity that was placed."""

    entity: int
    server_time: float | None = None


class Dismiss(_Command, frozen=True, tag="dismiss"):
    """A connection left."""

    connection: str
    server_time: float | None = None


class HandOver(_Command, frozen=True, tag="hand_over"):
    """Another connection (None: the server) acts for an entity."""

    entity: int
    connection: str | None
    server_time: float | None = None


class Spawn(_Command, frozen=True, tag="spawn"):
    """An entity begins a new life."""

    entity: int
    server_time: float | None = None


class Cut(_Command, frozen=True, tag="cut"):
    """An entity was teleported: nothing is interpolated across this moment."""

    entity: int


class Harm(_Command, frozen=True, tag="harm"):
    """The world does damage to an entity."""

    entity: int
    damage: float
    cause: str = "fall"
    server_time: float | None = None


class Wield(_Command, frozen=True, tag="wield"):
    """An entity holds another weapon."""

    entity: int
    weapon: str
    server_time: float | None = None


class Put(_Command, frozen=True, tag="put"):
    """The server puts a body somewhere."""

    entity: int
    position: Position
    server_time: float | None = None


class Ping(_Command, frozen=True, tag="ping"):
    """A ping exchange is opened."""

    connection: str
    sent_at: float


class Pong(_Command, frozen=True, tag="pong"):
    """A client answered a ping; `nonce` and `client_time` are whatever it sent."""

    connection: str
    nonce: Any
    client_time: Any
    received_at: float


class Seen(_Command, frozen=True, tag="seen"):
    """A client said what its screen was showing; `view` and `client_time` are whatever it sent."""

    connection: str
    view: Any
    client_time: Any
    received_at: float


class SetDrawing(_Command, frozen=True, tag="set_drawing"):
    """A client draws the others in another way."""

    connection: str
    drawing: Drawing


class Guide(_Command, frozen=True, tag="guide"):
    """Something that homes gets a target, or (None) loses it."""

    projectile: int
    entity: int | None
    server_time: float | None = None


class ChangeRules(_Command, frozen=True, tag="change_rules"):
    """Other rules hold from the next tick on."""

    rules: Rules


class OwnResult(_Command, frozen=True, tag="own_result"):
    """Result of a claim by the server itself: the victims and their points; empty for none."""

    connection: str
    sequence: int
    hits: tuple[tuple[int, float], ...] = ()


class Act(_Command, frozen=True, tag="act"):
    """An entity of the server's own does something; `claim` is a claim, or a dictionary of its kind and fields."""

    entity: int
    claim: Any
    server_time: float


class Record(_Command, frozen=True, tag="record"):
    """The poses of one tick."""

    tick: int
    server_time: float
    entities: Any
    bones: Any


class Publish(_Command, frozen=True, tag="published"):
    """A tick's snapshot was sent to the clients."""

    tick: int
    sent_at: float | None = None


class Advance(_Command, frozen=True, tag="advance"):
    """Time passes."""

    server_time: float


class Rule(_Command, frozen=True, tag="rule"):
    """A client's claim: decoded, or whatever came instead of one; a recorder takes the bytes as they came."""

    connection: str
    claim: Any
    received_at: float


Change = (
    Admit | AdmitSpectator | Place | Remove | Dismiss | HandOver | Spawn | Cut | Harm | Wield | Put | Ping | Pong
    | Seen | SetDrawing | Guide | ChangeRules | OwnResult
    | Act
)  # fmt: skip
"""Commands that are kept and sent as their fields; poses, ticks and claims have forms of their own."""

Command = Change | Record | Publish | Advance | Rule
"""Anything that changes a match."""

KINDS: Final[dict[str, type]] = {kind.__struct_config__.tag: kind for kind in get_args(Command)}
"""The commands by the name of the call that makes them."""

CHANGES: Final = tuple(sorted(kind.__struct_config__.tag for kind in get_args(Change)))


def name_of(command: Command) -> str:
    """The name of the call that makes a command."""
    return str(type(command).__struct_config__.tag)


def read_change(call: str, arguments: Fields) -> Change:
    """A command from the name of its call and its arguments as plain data.

    Raises `msgspec.ValidationError` for a name that no call has, and for arguments that it doesn't take.
    """
    if call not in CHANGES:
        raise msgspec.ValidationError(f"no call {call!r}; there are: {', '.join(CHANGES)}")
    try:
        change: Change = msgspec.convert({**arguments, "call": call}, KINDS[call])  # a union takes thirty times as long
    except msgspec.ValidationError as error:
        raise msgspec.ValidationError(f"{call}: {error}") from None
    return change
