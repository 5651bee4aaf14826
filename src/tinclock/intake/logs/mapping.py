"""The mapping file: how another server's logs say what Tin Clock needs. TOML into typed tables, all mistakes at once.

Nothing of the logs themselves is read here; see `log_columns` and `logs`.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal, get_args

import msgspec
from msgspec import Meta, field

from tinclock.core.errors import RulesError
from tinclock.core.rules.tables import Count, Positive, Table
from tinclock.core.ruling.claims import Claim
from tinclock.intake.toml_tables import convert_table, read_toml

if TYPE_CHECKING:
    from collections.abc import Iterator

Axis = Literal["x", "y", "z", "-x", "-y", "-z"]
Axes = tuple[Axis, Axis, Axis]
Length = Literal["m", "cm", "mm", "in", "ft"]
ClaimKind = Literal["shot", "launch", "impact", "melee", "trigger", "weapon_action", "use", "move", "status"]
METRES: dict[str, float] = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
SECONDS: dict[str, float] = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}


class Cell(Table, frozen=True):
    """Return a row's value under one key: a column's, with the log's words translated; or the same value for all."""

    column: str | None = None
    words: dict[str, str] = field(default_factory=dict)
    value: str | float | bool | None = None


Said = str | Cell
"""A column's name, or more about it. A dot goes into nested values: `body.head`, `place.0`."""
Triad = str | Annotated[list[str], Meta(min_length=3, max_length=3)]
"""One column that holds three numbers, or three columns."""
Quad = str | Annotated[list[str], Meta(min_length=4, max_length=4)]


class Units(Table, frozen=True):
    """Units of the logs. With the time "iso", times are texts such as 2026-05-01T18:20:00.125Z.

    time_zero : in the logs' own unit, what server time 0 is; by default the first pose
    """

    length: Length | Positive = "m"
    time: Literal["s", "ms", "us", "ns", "iso"] = "s"
    angle: Literal["deg", "rad"] = "deg"
    time_zero: float | str | None = None


class Frame(Table, frozen=True):
    """The logs' axes.

    world : which of their axes is our x, our y, our z (up)
    body : which axis of their bodies and bones points ahead, left, up; by default as `world`
    quaternion : in which order its numbers come
    ahead, quarter, raised : where one looks, in their axes, at yaw 0, at a yaw of a quarter turn, at a pitch of one
    """

    world: Axes = ("x", "y", "z")
    body: Axes | None = None
    quaternion: Literal["xyzw", "wxyz"] = "xyzw"
    ahead: Axis = "x"
    quarter: Axis = "y"
    raised: Axis = "z"


class PlayersTable(Table, frozen=True, kw_only=True):
    """Participants. Without a file all bodies with poses take part, and the other keys are the same for all.

    placed : whether the server brought it in and nobody plays it: a door, a turret, a monster
    """

    file: str | None = None
    player: Said = "player"
    account: Said | None = None
    team: Said | None = None
    rig: Said
    weapon: Said | None = None
    joins: Said | None = None
    leaves: Said | None = None
    interpolation_delay: Said | None = None
    placed: Said | None = None


class PosesTable(Table, frozen=True, kw_only=True):
    """Positions of bodies: a row for each body and instant, or for each bone of it.

    tick : their number of the instant, needed for views that are told in ticks; without a time it times them too
    bone : with it the place and turn are a bone's; without it the body's, and its bones stand in the rig's rest pose
    sent : whether clients were sent this instant; else every `sent_every`-th was
    away_s : a player without rows for so long, in seconds, was away, and comes back with a new life. Not with `spawns`
    """

    file: str
    player: Said = "player"
    time: Said | None = None
    tick: Said | None = None
    bone: Said | None = None
    position: Triad
    quaternion: Quad | None = None
    yaw: Said | None = None
    pitch: Said | None = None
    sent: Said | None = None
    sent_every: Count = 1
    away_s: Positive = 1.0


class ClaimsTable(Table, frozen=True, kw_only=True):
    """Claims of one kind. Keys are those of the claim; see `tinclock.core.ruling.claims`.

    time : when the server got it
    view_time : the server time that the screen showed, where its two ticks aren't known
    yaw, pitch : the aim, where there is no direction
    projectile : of an impact, and of the launch that it came of: the logs' own id
    """

    file: str
    kind: ClaimKind
    time: Said
    player: Said = "player"
    sequence: Said | None = None
    weapon: Said | None = None
    origin: Triad | None = None
    direction: Triad | None = None
    yaw: Said | None = None
    pitch: Said | None = None
    from_tick: Said | None = None
    to_tick: Said | None = None
    fraction: Said | None = None
    view_time: Said | None = None
    client_time: Said | None = None
    victim: Said | None = None
    part: Said | None = None
    damage: Said | None = None
    shot: Said | None = None
    charge: Said | None = None
    projectile: Said | None = None
    flight_time_s: Said | None = None
    position: Triad | None = None
    held: Said | None = None
    action: Said | None = None
    item: Said | None = None
    target: Said | None = None
    push: Triad | None = None
    health: Said | None = None
    armour: Said | None = None
    ammunition: Said | None = None


class SpawnsTable(Table, frozen=True, kw_only=True):
    """Starts of lives. position : of the body then, for games whose clients report their moves."""

    file: str
    time: Said
    player: Said = "player"
    position: Triad | None = None


class PingsTable(Table, frozen=True, kw_only=True):
    """Measurements of connections. time : of the answer's arrival; client_time : on the client's clock."""

    file: str
    time: Said
    player: Said = "player"
    round_trip: Said
    client_time: Said | None = None


class LogMap(Table, frozen=True, kw_only=True):
    """A whole mapping file. Files in it lie beside it."""

    rules: str
    level: str | None = None
    seed: int = 0
    delimiter: Annotated[str, Meta(min_length=1, max_length=1)] = ","
    units: Units = Units()
    axes: Frame = Frame()
    players: PlayersTable
    poses: PosesTable
    claims: list[ClaimsTable] = field(default_factory=list)
    spawns: SpawnsTable | None = None
    pings: PingsTable | None = None


def load_log_map(path: str | Path) -> LogMap:
    """Read a mapping file. Raises `RulesError` that lists every mistake."""
    return parse_log_map(read_toml(path), str(path))


def parse_log_map(tables: object, source: str = "mapping") -> LogMap:
    """A mapping from tables that are already read. Raises `RulesError` that lists every mistake."""
    found = convert_table(LogMap, tables, source)
    problems = [*_axes_problems(found.axes), *_table_problems(found), *_empty_cells(found)]
    for place, claims in enumerate(found.claims):
        problems += _claim_problems(f"claims[{place}] ({claims.kind})", claims, found.pings is not None)
    told = {claims.sequence is None for claims in found.claims}
    if len(told) > 1:
        problems.append("claims: a sequence in some tables and not in others; give it in all or in none")
    if problems:
        raise RulesError(source, problems)
    return found


def claim_fields(kind: str) -> dict[str, bool]:
    """The keys that a kind of claim has, and whether each must be given."""
    kinds = {one.__struct_config__.tag: one for one in get_args(Claim)}
    return {one.name: one.required for one in msgspec.structs.fields(kinds[kind])}


def _axes_problems(axes: Frame) -> Iterator[str]:
    world, body = axes.world, axes.body or axes.world
    looks = (axes.ahead, axes.quarter, axes.raised)
    for name, triple in (("world", world), ("body", body), ("ahead, quarter, raised", looks)):
        if len({one[-1] for one in triple}) < 3:
            yield f"axes.{name}: got {', '.join(triple)}; expected x, y and z once each, each with or without a minus"
            return
    if handed(world) != handed(body):
        yield "axes.body: is a mirror image of axes.world; both must be left-handed or both right-handed"


def handed(axes: Axes) -> int:
    """1 where the logs' axes are right-handed, -1 where they are left-handed."""
    order = tuple("xyz".index(one[-1]) for one in axes)
    cyclic, minuses = order in ((0, 1, 2), (1, 2, 0), (2, 0, 1)), sum(one.startswith("-") for one in axes)
    return 1 if cyclic == (minuses % 2 == 0) else -1


def _table_problems(found: LogMap) -> Iterator[str]:
    poses, players = found.poses, found.players
    if poses.time is None and poses.tick is None:
        yield "poses: neither time nor tick; expected at least one"
    if poses.quaternion is not None and (poses.yaw is not None or poses.pitch is not None):
        yield "poses: a quaternion and an angle; expected one or the other"
    if poses.bone is not None and poses.quaternion is None:
        yield "poses.quaternion: missing; expected it with bone"
    if players.file is None:
        for key in ("account", "team", "rig", "weapon", "joins", "leaves", "interpolation_delay", "placed"):
            said = getattr(players, key)
            if said is not None and not (isinstance(said, Cell) and said.column is None):
                yield f'players.{key}: got a column, but players has no file; expected {{ value = "..." }}'


def _empty_cells(found: LogMap) -> Iterator[str]:
    """Cells that say nothing, of all tables."""
    alone = ("players", "poses", "spawns", "pings")
    tables: list[tuple[str, Table | None]] = [(name, getattr(found, name)) for name in alone]
    tables += [(f"claims[{place}]", table) for place, table in enumerate(found.claims)]
    for where, table in tables:
        for key in table.__struct_fields__ if table is not None else ():
            cell = getattr(table, key)
            if isinstance(cell, Cell) and cell.column is None and cell.value is None:
                yield f"{where}.{key}: neither column nor value; expected one of them"


def _claim_problems(where: str, claims: ClaimsTable, pings: bool) -> Iterator[str]:
    fields = claim_fields(claims.kind)
    ours = {"file", "kind", "time", "player"}
    if "direction" in fields:
        ours |= {"yaw", "pitch"}
        if (claims.direction is None) == (claims.yaw is None):
            yield f"{where}: expected either direction or yaw"
    if "view" in fields:
        ours |= {"from_tick", "to_tick", "fraction", "view_time"}
        yield from _view_problems(where, claims, pings)
    if claims.kind == "launch":
        ours.add("projectile")
    for key in ClaimsTable.__struct_fields__:
        if getattr(claims, key) is not None and key not in ours and key not in fields:
            has = sorted((ours | set(fields)) - {"actor", "view"})
            yield f"{where}.{key}: a {claims.kind} has none; it has {', '.join(has)}"
    for key, required in fields.items():
        if required and key not in ("sequence", "actor", "direction") and getattr(claims, key, None) is None:
            yield f"{where}.{key}: missing; a {claims.kind} needs it"


def _view_problems(where: str, claims: ClaimsTable, pings: bool) -> Iterator[str]:
    ticks = [claims.from_tick, claims.to_tick, claims.fraction]
    if any(one is None for one in ticks) and any(one is not None for one in ticks):
        yield f"{where}: from_tick, to_tick and fraction are one view; expected all three or none"
    elif ticks[0] is None and claims.view_time is None and claims.client_time is None and not pings:
        ways = "from_tick, to_tick and fraction, or view_time, or client_time, or the round trips in [pings]"
        yield f"{where}: nothing says what the screen showed; expected {ways}"
