"""Requests of a game's server to `tinclock serve`, and the answers. MessagePack, or JSON in text frames.

Every request carries a number of the asker's own, `request`, which its reply repeats; replies come in order.
"""

from __future__ import annotations

from typing import Annotated, Any, get_args

import msgspec
from msgspec import Meta, Struct

from tinclock.core.combat.events import Event
from tinclock.core.combat.published import State
from tinclock.core.combat.receipts import Receipt
from tinclock.core.findings import Finding
from tinclock.core.plain import Fields
from tinclock.core.ruling.commands import CHANGES, KINDS
from tinclock.core.vectors import Triple
from tinclock.serve.questions import Question
from tinclock.wire.messages import published_schema

MatchName = Annotated[str, Meta(min_length=1, max_length=64, pattern="^[A-Za-z0-9][A-Za-z0-9_.-]*$(?!\n)")]
MAX_CLAIMS = 1024
Number = Annotated[int, Meta(ge=0, le=2**53)]
"""Of requests, events and seeds: whole, and no larger than every language holds exactly."""


class Open(Struct, frozen=True, tag="open", tag_field="do"):
    """Begin a match. rules, level : the text of the files; level None for open ground.

    seed : of what players must not foresee, spread and nonces; by default a secret random one, kept in the recording
    """

    request: Number
    match: MatchName
    rules: str
    level: str | None = None
    seed: Number | None = None


class Call(Struct, frozen=True, tag="call", tag_field="do"):
    """One of the referee's calls by its name: admit, add_entity, hand_over, spawn, set_weapon, set_position, ..."""

    request: Number
    match: MatchName
    call: str
    arguments: Fields = {}


class Tick(Struct, frozen=True, tag="tick", tag_field="do"):
    """Record a tick, let time pass, and say whether it was sent to clients.

    entities : ids, 64-bit integers, little-endian; bones : of all of them end to end, seven 32-bit floats each,
    little-endian; in JSON both are base64
    """

    request: Number
    match: MatchName
    tick: int
    server_time: float
    entities: bytes
    bones: bytes
    snapshot_sent: bool = True


class Claims(Struct, frozen=True, tag="claims", tag_field="do"):
    """Rule on claims as they came: (connection, received_at, bytes).

    explain : also say of each why it did what it did, in words, for the server's log; never for a client
    """

    request: Number
    match: MatchName
    claims: Annotated[tuple[tuple[str, float, bytes], ...], Meta(max_length=MAX_CLAIMS)]
    explain: bool = False


class Messages(Struct, frozen=True, tag="messages", tag_field="do"):
    """Pass-through mode: messages as they came from clients, joins, pongs and all: (connection, received_at, bytes).

    The reply says what to send back, and what became of the claims among them. explain : see `Claims`
    """

    request: Number
    match: MatchName
    messages: Annotated[tuple[tuple[str, float, bytes], ...], Meta(max_length=MAX_CLAIMS)]
    explain: bool = False


class Outgoing(Struct, frozen=True, tag="outgoing", tag_field="do"):
    """Pass-through mode: collect the messages for all joined clients, in the reply's `outgoing`.

    ping : send each a ping too; one a second is plenty
    """

    request: Number
    match: MatchName
    server_time: float
    ping: bool = False


class Events(Struct, frozen=True, tag="events", tag_field="do"):
    """Return the changes after an event number."""

    request: Number
    match: MatchName
    since: Number


class GetState(Struct, frozen=True, tag="state", tag_field="do"):
    """The published state."""

    request: Number
    match: MatchName


class Resume(Struct, frozen=True, tag="resume", tag_field="do"):
    """Go on with a match after the service was killed, or the line to it was lost: which requests of it were done?

    last_reply : the number of the last request of this match whose reply arrived. The reply holds the replies to those
    after it that were done; ask what else is missing again.
    """

    request: Number
    match: MatchName
    last_reply: Number


class Query(Struct, frozen=True, tag="query", tag_field="do"):
    """A question that changes nothing; `about` says which."""

    request: Number
    match: MatchName
    about: Question


class Close(Struct, frozen=True, tag="close", tag_field="do"):
    """End a match."""

    request: Number
    match: MatchName


class ListMatches(Struct, frozen=True, tag="list_matches", tag_field="do"):
    """List of open matches. match : ignored"""

    request: Number
    match: str = ""


class Numbered(Struct, frozen=True):
    """Fields that can be read of an otherwise unreadable request."""

    request: Number = 0


Request = Open | Call | Tick | Claims | Messages | Outgoing | Events | GetState | Query | Resume | Close | ListMatches


class RuledClaim(Struct, frozen=True):
    """Result of one claim: the receipt for its client, findings and explanation for the server's log.

    outcome : "accepted", "adjusted" or "rejected"; "dropped" for one that came too fast or was too large, which is
    answered
        with nothing
    input : of a move report by a body that the server moves: the input to simulate
    """

    number: int
    connection: str
    outcome: str
    receipt: Receipt | None
    findings: tuple[Finding, ...] = ()
    explanation: str | msgspec.UnsetType = msgspec.UNSET
    input: Triple | msgspec.UnsetType = msgspec.UNSET


class OpenMatch(Struct, frozen=True):
    """One match that is open.

    open_s : for how long; idle_s : since when nobody asked anything of it; asked_by : connections that did and are here
    recording : where it is recorded, "" for nowhere; failed : why it is lost, "" while it isn't
    """

    match: str
    open_s: float
    idle_s: float
    asked_by: int
    players: int
    dropped: int
    recording: str = ""
    failed: str = ""


class Reply(Struct, frozen=True, omit_defaults=True):
    """Answer; only the requested fields are filled in.

    ok : whether it was done; error : why not; match_failed : whether the match is lost by a fault of ours
    retry : nothing was done, for the match is being brought back: `resume` it, and ask again
    more : there are more events than one reply holds; ask again from the last one on
    replies : to what was asked after `last_reply` and done: frames, in order
    outgoing : in pass-through mode, (connection, bytes) to send to clients, in this order
    game_messages : in pass-through mode, (connection, body) of messages of the game's own
    """

    request: int
    ok: bool = True
    error: str = ""
    match_failed: bool = False
    retry: bool = False
    answer: Any = None
    rulings: tuple[RuledClaim, ...] = ()
    events: tuple[Event, ...] = ()
    more: bool = False
    state: State | None = None
    matches: tuple[OpenMatch, ...] = ()
    outgoing: tuple[tuple[str, bytes], ...] = ()
    game_messages: tuple[tuple[str, Any], ...] = ()
    replies: tuple[bytes, ...] = ()


FROM_JSON, FROM_PACKED = msgspec.json.Decoder(Request), msgspec.msgpack.Decoder(Request)
NUMBER_JSON, NUMBER_PACKED = msgspec.json.Decoder(Numbered), msgspec.msgpack.Decoder(Numbered)
TO_JSON, TO_PACKED = msgspec.json.Encoder().encode, msgspec.msgpack.Encoder().encode


def schemas() -> dict[str, Fields]:
    """JSON Schema (draft 07) of requests and replies in JSON, as published in `docs/schemas`."""
    asked = published_schema("What a server asks of the service", Request)
    asked["$defs"] |= _calls(asked["$defs"]["Call"])
    return {"service_request": asked, "service_reply": published_schema("What the service replies", Reply)}


def _calls(any_call: Fields) -> dict[str, Fields]:
    """Return definitions of `Call` for each call there is, with its own arguments, and of any of them."""
    out: dict[str, Fields] = {}
    names: list[str] = []
    for call in CHANGES:
        kind = KINDS[call]
        own = published_schema("", kind)["$defs"]
        arguments = own.pop(kind.__name__)
        del arguments["properties"]["call"]
        arguments |= {"title": f"{kind.__name__}Arguments", "additionalProperties": False}
        arguments["required"] = [name for name in arguments["required"] if name != "call"]
        if call == "change_rules":  # as a rules file says them
            arguments["properties"]["rules"] = {"type": "string", "description": "The text of a rules file."}
            own = {}
        names.append(f"Call{kind.__name__}")
        properties = {**any_call["properties"], "call": {"enum": [call]}, "arguments": arguments}
        out |= own | {names[-1]: {**any_call, "title": names[-1], "description": arguments.pop("description"),
                                  "properties": properties,
                                  "required": [*any_call["required"], "arguments"]}}  # fmt: skip
    call_of_any = {key: any_call[key] for key in ("title", "description")}
    return out | {"Call": {**call_of_any, "anyOf": [{"$ref": f"#/$defs/{name}"} for name in names]}}


def asyncapi() -> Fields:
    """The service as an AsyncAPI 3.0 document: each request and its reply on one channel; payloads are the schemas'."""
    kinds = [kind.__name__ for kind in get_args(Request)]
    refs = {name: {"$ref": f"#/channels/service/messages/{name}"} for name in [*kinds, "Reply"]}
    messages: Fields = {name: {"payload": {"$ref": f"service_request.schema.json#/$defs/{name}"}} for name in kinds}
    messages["Reply"] = {"payload": {"$ref": "service_reply.schema.json"}}
    for name, kind in zip(kinds, get_args(Request), strict=True):
        messages[name] |= {"summary": str(kind.__doc__).strip().splitlines()[0]}
    channel = {"$ref": "#/channels/service"}
    return {
        "asyncapi": "3.0.0",
        "info": {"title": "tinclock serve", "version": "0.2.0", "description": "See docs/serving.md."},
        "defaultContentType": "application/json",
        "servers": {"local": {"host": "127.0.0.1:7464", "protocol": "ws"}},
        "channels": {"service": {"address": "/", "messages": messages}},
        "operations": {
            f"ask{name}": {
                "action": "receive", "channel": channel, "messages": [refs[name]],
                "reply": {"channel": channel, "messages": [refs["Reply"]]},
            }
            for name in kinds
        },
    }  # fmt: skip
