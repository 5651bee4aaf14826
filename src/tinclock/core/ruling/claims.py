"""Claims of clients. Each counts its connection's claims from 1 in `sequence` and names the acting entity in `actor`.

Places are metres, directions unit vectors, both in the world frame. What a claim says happened (victim, part, damage,
charge) is compared with what the server finds and never used.
"""

from __future__ import annotations

from typing import Any, Literal

import msgspec
import numpy as np
from msgspec import Struct

from tinclock.core.plain import Fields
from tinclock.core.timeline.views import View
from tinclock.core.vectors import Triple


class ShotClaim(Struct, frozen=True, tag="shot", tag_field="kind", gc=False):
    """A client reports a shot.

    origin : where the ray starts
    direction : where the player aims; recoil and spread come on top, by the server's tables
    view : what the client's screen was drawing; a client that can't say sends `client_time` instead
    client_time : what the client's own clock showed, in seconds; besides, it times recovery between shots
    shot : which shot of this weapon in this match it is, from 1: selects the spread. Without it, the next
    charge : what the weapon was charged to, 0 to 1
    relative_to : the vehicle that it rides, where `origin` is in the frame of its first bone, as the view shows it
    """

    sequence: int
    actor: int
    weapon: str
    origin: Triple
    direction: Triple
    view: View | None = None
    victim: int | None = None
    part: str | None = None
    damage: float | None = None
    client_time: float | None = None
    shot: int | None = None
    charge: float | None = None
    relative_to: int | None = None


class MeleeClaim(Struct, frozen=True, tag="melee", tag_field="kind", gc=False):
    """A client reports a melee attack. The fields are a shot's."""

    sequence: int
    actor: int
    weapon: str
    origin: Triple
    direction: Triple
    view: View | None = None
    victim: int | None = None
    part: str | None = None
    damage: float | None = None
    client_time: float | None = None
    relative_to: int | None = None


class LaunchClaim(Struct, frozen=True, tag="launch", tag_field="kind", gc=False):
    """A client reports the launch of a projectile. The fields are a shot's; the receipt names the projectile."""

    sequence: int
    actor: int
    weapon: str
    origin: Triple
    direction: Triple
    view: View | None = None
    client_time: float | None = None
    shot: int | None = None
    charge: float | None = None
    relative_to: int | None = None


class ImpactClaim(Struct, frozen=True, tag="impact", tag_field="kind", gc=False):
    """A client reports a hit by its projectile.

    projectile : its id, from the launch's receipt; flight_time_s : how long it had flown; position : where its middle
    was
    """

    sequence: int
    actor: int
    projectile: int
    flight_time_s: float
    position: Triple
    victim: int
    part: str | None = None


class TriggerClaim(Struct, frozen=True, tag="trigger", tag_field="kind", gc=False):
    """A client reports its fire button, held or not, and the aim. The server fires."""

    sequence: int
    actor: int
    weapon: str
    held: bool
    direction: Triple
    view: View | None = None
    client_time: float | None = None


class WeaponActionClaim(Struct, frozen=True, tag="weapon_action", tag_field="kind", gc=False):
    """A client does something with a weapon: takes it in hand, reloads it, begins to charge it, or breaks off."""

    sequence: int
    actor: int
    weapon: str
    action: Literal["draw", "reload", "charge", "stop"]


class UseClaim(Struct, frozen=True, tag="use", tag_field="kind", gc=False):
    """A client uses an item, on itself unless it names a team-mate."""

    sequence: int
    actor: int
    item: str
    target: int | None = None


class MoveClaim(Struct, frozen=True, tag="move", tag_field="kind", gc=False):
    """A client reports where its body went.

    position : metres, the body's foot
    client_time : seconds of the client's own clock; rises from report to report
    push : what its player pushed, of length at most 1; only flagged when it is longer
    relative_to : the vehicle that it rides, where `position` is in the frame of the vehicle's first bone
    view : what its screen showed at `client_time`: says its lag, which shots are held against
    """

    sequence: int
    actor: int
    position: Triple
    client_time: float
    push: Triple | None = None
    view: View | None = None
    relative_to: int | None = None


class StatusClaim(Struct, frozen=True, tag="status", tag_field="kind", gc=False):
    """A client reports its own state. The receipt returns the true one.

    client_time, view : seconds of its own clock, and what its screen showed then: together they say its lag
    """

    sequence: int
    actor: int
    health: float | None = None
    armour: float | None = None
    ammunition: int | None = None
    position: Triple | None = None
    client_time: float | None = None
    view: View | None = None


Claim = (
    ShotClaim
    | LaunchClaim
    | ImpactClaim
    | MeleeClaim
    | TriggerClaim
    | WeaponActionClaim
    | UseClaim
    | MoveClaim
    | StatusClaim
)
"""Anything that a client may claim."""

UNREADABLE = (Exception,)
"""Whatever a decoder raises for what isn't a claim: some end in a SystemError over a huge whole number."""


def plain(value: Any) -> Any:
    """NumPy's numbers and arrays as Python's, at any depth; everything else as it is."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return value.tolist()
    if type(value) in (tuple, list):
        return [plain(one) for one in value]
    if isinstance(value, View):
        return [plain(value.from_tick), plain(value.to_tick), plain(value.fraction)]
    return value


def plain_numbers(value: object) -> Any:
    """For an encoder: what it doesn't know, if that is one of NumPy's; raises `TypeError` otherwise."""
    if isinstance(value, (np.generic, np.ndarray)):
        return value.tolist()
    raise TypeError(f"{type(value).__name__} can't be encoded")


def read_claim(kind: object, fields: Fields) -> Any:
    """A claim of a kind (or of any, by its field `kind`) from plain or NumPy data; whole numbers become floats.

    Raises whatever the decoder does; its text names the field.
    """
    return msgspec.convert({name: plain(value) for name, value in fields.items()}, kind)


def exact(claim: Any) -> Any:
    """A claim that was made from Python objects, with every number of the kind that its field says.

    A fraction that is a whole number would otherwise make the kernels compile anew in a running server. What can't be
    read is returned as it is: the checks say what is wrong with it.
    """
    if not isinstance(getattr(claim, "view", None), View | None):
        return claim
    try:
        return read_claim(type(claim), {field: getattr(claim, field) for field in claim.__struct_fields__})
    except UNREADABLE:
        return claim


def as_claim(claim: object) -> Claim | object:
    """A claim from plain data (a decoded message); the data itself when it isn't one."""
    try:
        known: Claim = msgspec.convert(claim, Claim)
        return known
    except UNREADABLE:
        return claim
