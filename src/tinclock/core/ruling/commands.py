"""Everything that changes a match, as one tagged union: applied by a referee, kept by a recorder, sent to the service.

A command holds what the caller gave. Decoding one from a file or a socket checks its types; the referee
checks what the values mean.
"""

from __future__ import annotations

from typing import Any, Final, get_args

import msgspec

from tinclock.core.plain import Fields
from tinclock.core.rules.ruleset import Rules
from tinclock.core.rules.tables import EffectName
from tinclock.core.sparse import Sparse
from tinclock.core.timeline.views import Interpolation

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
    interpolation: Interpolation | None = None
    server_time: float | None = None
    loadout: str | None = None


class AdmitSpectator(_Command, frozen=True, tag="admit_spectator"):
    """A connection comes in to look on."""

    connection: str
    account: str


class AddEntity(_Command, frozen=True, tag="add_entity"):
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


class MarkTeleport(_Command, frozen=True, tag="mark_teleport"):
    """An entity was teleported: nothing is interpolated across this moment."""

    entity: int


class Damage(_Command, frozen=True, tag="damage"):
    """The world does damage to an entity."""

    entity: int
    points: float
    cause: str = "fall"
    server_time: float | None = None
    by: int = 0
    weapon: str = ""


class Heal(_Command, frozen=True, tag="heal"):
    """The server gives back health and armour."""

    entity: int
    health: float = 0.0
    armour: float = 0.0
    by: int = 0
    cause: str = "heal"
    server_time: float | None = None


class SetHealth(_Command, frozen=True, tag="set_health"):
    """The server sets health, armour or maximum health."""

    entity: int
    health: float | None = None
    armour: float | None = None
    max_health: float | None = None
    cause: str = "server"
    server_time: float | None = None


class SetTeam(_Command, frozen=True, tag="set_team"):
    """An entity changes its team."""

    entity: int
    team: str
    server_time: float | None = None


class GiveWeapon(_Command, frozen=True, tag="give_weapon"):
    """An entity carries a weapon, or gets ammunition for it."""

    entity: int
    weapon: str
    magazine: int | None = None
    reserve: int | None = None
    server_time: float | None = None


class TakeWeapon(_Command, frozen=True, tag="take_weapon"):
    """An entity no longer carries a weapon."""

    entity: int
    weapon: str
    server_time: float | None = None


class SetItem(_Command, frozen=True, tag="set_item"):
    """The number of an entity's items of one name."""

    entity: int
    item: str
    count: int
    server_time: float | None = None


class SetEffect(_Command, frozen=True, tag="set_effect"):
    """An effect begins, or ends with a duration of 0."""

    entity: int
    effect: EffectName
    duration_s: float
    amount: float = 0.0
    cause: str = "server"
    server_time: float | None = None


class Push(_Command, frozen=True, tag="push"):
    """The server pushes a body."""

    entity: int
    velocity: Position
    duration_s: float = 1.0
    server_time: float | None = None


class SetVehicle(_Command, frozen=True, tag="set_vehicle"):
    """An entity rides another, or (None) nothing."""

    entity: int
    vehicle: int | None
    server_time: float | None = None


class SetStance(_Command, frozen=True, tag="set_stance"):
    """An entity takes a stance of its rig; "" for the usual one."""

    entity: int
    stance: str
    server_time: float | None = None


class AddFinding(_Command, frozen=True, tag="add_finding"):
    """A check of the game's own found something about a claim that is still to be ruled."""

    connection: str
    sequence: int
    code: str
    observed: float | None = None
    limit: float | None = None
    unit: str = ""
    detail: str = ""


class AddScore(_Command, frozen=True, tag="add_score"):
    """The game gives points to an entity and its team, or to a team alone."""

    points: float
    entity: int = 0
    team: str = ""
    cause: str = "server"
    server_time: float | None = None


class SetCounter(_Command, frozen=True, tag="set_counter"):
    """A counter of the game's own gets another value."""

    entity: int
    counter: str
    value: float
    cause: str = "server"
    server_time: float | None = None


class SetPhase(_Command, frozen=True, tag="set_phase"):
    """Another phase of the match begins; "" for none."""

    phase: str
    server_time: float | None = None


class ResetRound(_Command, frozen=True, tag="reset_round"):
    """All entities begin a new life, and projectiles end."""

    scores: bool = False
    server_time: float | None = None


class SetWeapon(_Command, frozen=True, tag="set_weapon"):
    """An entity holds another weapon."""

    entity: int
    weapon: str
    server_time: float | None = None


class SetPosition(_Command, frozen=True, tag="set_position"):
    """The server puts a body somewhere."""

    entity: int
    position: Position
    server_time: float | None = None
    input: int | None = None


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


class ReportView(_Command, frozen=True, tag="report_view"):
    """A client said what its screen was showing; `view` and `client_time` are whatever it sent."""

    connection: str
    view: Any
    client_time: Any
    received_at: float


class SetInterpolation(_Command, frozen=True, tag="set_interpolation"):
    """A client draws the others in another way."""

    connection: str
    interpolation: Interpolation


class SetHomingTarget(_Command, frozen=True, tag="set_homing_target"):
    """Something that homes gets a target, or (None) loses it."""

    projectile: int
    entity: int | None
    server_time: float | None = None


class ChangeRules(_Command, frozen=True, tag="change_rules"):
    """Other rules hold from the next tick on."""

    rules: Rules


class ReportServerResult(_Command, frozen=True, tag="report_server_result"):
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


class SnapshotSent(_Command, frozen=True, tag="snapshot_sent"):
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
    Admit | AdmitSpectator | AddEntity | Remove | Dismiss | HandOver | Spawn | MarkTeleport | Damage | SetWeapon |
    SetPosition | Ping | Pong | ReportView | SetInterpolation | SetHomingTarget | ChangeRules | ReportServerResult
    | Act | Heal | SetHealth | SetTeam | GiveWeapon | TakeWeapon | SetItem | SetEffect | Push | AddScore | SetCounter |
    SetPhase | ResetRound | SetVehicle | SetStance | AddFinding
)  # fmt: skip
"""Commands that are kept and sent as their fields; poses, ticks and claims have forms of their own."""

Command = Change | Record | SnapshotSent | Advance | Rule
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
