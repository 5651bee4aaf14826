"""Every message between a client and a server, as types; JSON and MessagePack carry the same fields by the same names.

`kind` says what a message is. Fields that a reader doesn't know are ignored, ones that it needs must be there. Places
are metres, times seconds, directions unit vectors, quaternions xyzw.
"""

from __future__ import annotations

from inspect import cleandoc
from typing import Annotated, Any, Final, Literal

import msgspec
from msgspec import Meta, Struct

from tinclock.core.combat.events import Event
from tinclock.core.combat.published import State
from tinclock.core.combat.receipts import Receipt
from tinclock.core.plain import Fields
from tinclock.core.ruling.claims import Claim

VERSIONS: Final = (2,)
"""The versions of these messages that this package speaks, the newest last."""

Digest = Annotated[str, Meta(max_length=64)]


class Join(Struct, frozen=True, tag="join", tag_field="kind"):
    """A client says which versions it speaks, and what it was built with.

    digests : of the parts of its bundle, by their names; empty where it has none
    """

    versions: Annotated[tuple[int, ...], Meta(min_length=1, max_length=16)]
    digests: Annotated[dict[Annotated[str, Meta(max_length=64)], Digest], Meta(max_length=256)] = {}


class Pong(Struct, frozen=True, tag="pong", tag_field="kind"):
    """A client answers a ping at once, with its own clock."""

    nonce: int
    client_time: float


class ViewReport(Struct, frozen=True, tag="view_report", tag_field="kind"):
    """A client says what its screen is drawing now; a few a second, from clients that don't report moves.

    from_tick, to_tick, fraction : the two snapshots that it draws between, and how far it is from one to the other
    client_time : its own clock then
    """

    from_tick: int
    to_tick: int
    fraction: float
    client_time: float


class GameMessage(Struct, frozen=True, tag="game", tag_field="kind"):
    """A message of the game's own, such as chat or an emote, in either direction.

    body : anything that JSON and MessagePack can hold; the gateway passes it on unread
    """

    body: Any = None


class JoinAccepted(Struct, frozen=True, tag="join_accepted", tag_field="kind"):
    """A client is in.

    version : what is spoken from now on
    entity : its own; 0 for a spectator
    spread_key : for its own spread, hexadecimal
    next_sequence : what its next claim must count on from
    same_rules : whether it was built with the rules that count here; if not, what it predicts will be off
    state : everything that is published
    """

    version: int
    entity: int
    spread_key: str
    next_sequence: int
    tick_rate_hz: float
    snapshot_every: int
    same_rules: bool
    state: State


class JoinRefused(Struct, frozen=True, tag="join_refused", tag_field="kind"):
    """A client can't join; `versions` is what the server speaks."""

    reason: Literal["version", "not_a_join"]
    versions: tuple[int, ...] = VERSIONS


class Ping(Struct, frozen=True, tag="ping", tag_field="kind"):
    """A server asks for the client's clock."""

    nonce: int


class ReceiptMessage(Struct, frozen=True, tag="receipt", tag_field="kind"):
    """Result of a claim."""

    receipt: Receipt


class EventBatch(Struct, frozen=True, tag="events", tag_field="kind"):
    """Changes for every client."""

    events: tuple[Event, ...]


class FullState(Struct, frozen=True, tag="full_state", tag_field="kind"):
    """The published state, complete, for one who missed too much."""

    state: State


FromClient = Join | Pong | ViewReport | GameMessage | Claim
"""Anything that a client sends."""
ToClient = JoinAccepted | JoinRefused | Ping | ReceiptMessage | EventBatch | FullState | GameMessage
"""Anything that a client is sent."""

_JSON, _PACK = msgspec.json.Encoder().encode, msgspec.msgpack.Encoder().encode


def encode(message: ToClient, form: Literal["json", "msgpack"] = "msgpack") -> bytes:
    """A message for a client."""
    return _JSON(message) if form == "json" else _PACK(message)


def negotiated(join: Join) -> int | None:
    """The newest version that both sides speak, None for none."""
    return max(set(join.versions) & set(VERSIONS), default=None)


DIALECT: Final = "http://json-schema.org/draft-07/schema#"
"""The dialect that AsyncAPI, validators and generators of types all read."""


def schemas() -> dict[str, Fields]:
    """JSON Schema (draft 07) of both directions, as published in `docs/schemas`."""
    return {
        name: published_schema(title, kind)
        for name, title, kind in (
            ("from_client", "What a client sends", FromClient),
            ("to_client", "What a client is sent", ToClient),
        )
    }


def published_schema(title: str, kind: Any) -> Fields:
    """Return the schema of a type as others read it, under a title."""
    return {"$schema": DIALECT, "title": title, **_plain(msgspec.json.schema(kind))}


def _plain(schema: object) -> Any:
    """Return a schema in draft 07, without indentation in descriptions.

    Docstrings keep their indentation before Python 3.13. Tuples are lists of their items' schemas and have a fixed
    length. `discriminator` belongs to OpenAPI, and each branch names itself by an `enum` of one value.
    """
    if isinstance(schema, list):
        return [_plain(one) for one in schema]
    if not isinstance(schema, dict):
        return schema
    out = {
        key: cleandoc(value) if key == "description" and isinstance(value, str) else _plain(value)
        for key, value in schema.items()
        if key != "discriminator" or "propertyName" not in value
    }
    if isinstance(each := out.pop("prefixItems", None), list):
        out |= {"items": each, "additionalItems": False, "minItems": len(each), "maxItems": len(each)}
    return out
