"""Participants of a match: entities with ids that the server issues once, and the connections that act for them."""

from __future__ import annotations

import hashlib
from math import isfinite
from typing import TYPE_CHECKING, Any, Final, NamedTuple, Protocol

from tinclock.core.combat.held import Held
from tinclock.core.combat.items import Stock
from tinclock.core.combat.receipts import Receipt
from tinclock.core.errors import AlreadyKnownError, BadNameError, UnknownNameError
from tinclock.core.kernels.call_rows import MOST_AT_ONCE
from tinclock.core.kernels.checks.lag import trip_of
from tinclock.core.kernels.checks.sender import REMEMBERED as REMEMBERED_RECEIPTS
from tinclock.core.kernels.dtypes import BODY, LINE
from tinclock.core.kernels.hearing import announced_by
from tinclock.core.packed import Flag, Integer, Number, Row
from tinclock.core.timeline.clock import TRANSITS_S, ClockEstimate
from tinclock.core.timeline.lag import LagTracker
from tinclock.core.timeline.least import Least

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from tinclock.core.combat.accepted_position import AcceptedPosition
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.plain import Fields
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.timeline.views import Drawing
    from tinclock.core.vectors import Triple

LONGEST_NAME = 200
"""Characters of an account, a connection, a name or a team: what every store holds."""
_REMEMBERED: Final = (
    LINE.buffer_s, LINE.jitter_s, LINE.late_s, LINE.gap_s, LINE.uneven_s, LINE.restarts, LINE.restarted_at, LINE.still,
    LINE.still_shots,
)  # fmt: skip
_OF_CLOCK: Final = slice(LINE.samples, LINE.pong_ring + 1)
"""Fields of a connection's row that its clock's estimate writes."""


def require_name(what: str, text: object) -> str:
    """A name that can be kept, printed and sent; raises `BadNameError` for what isn't text, too long, or broken."""
    if not isinstance(text, str):
        raise BadNameError(what, f"a text of at most {LONGEST_NAME} characters", text)
    if len(text) > LONGEST_NAME or "\0" in text or any("\ud800" <= c <= "\udfff" for c in text):
        raise BadNameError(what, f"at most {LONGEST_NAME} characters, without NUL and half characters", text)
    return text


class Tenure(NamedTuple):
    """A connection acted for an entity between two server times."""

    connection: str
    since: float
    until: float


class HeldTrigger:
    """A trigger that is held down: what its player aims at, and how old its screen is."""

    __slots__ = ("aim", "lag_s", "left", "sequence", "since")

    def __init__(self, aim: Triple, lag_s: float, since: float, sequence: int, left: int | None) -> None:
        self.aim, self.lag_s, self.since, self.sequence = aim, lag_s, since, sequence
        self.left = left
        """Shots still to come of this pull; None: until it is let go."""


class Participant(Row):
    """An entity that takes part: who acts for it, its team, what it carries."""

    __slots__ = (
        "accepted",
        "connection",
        "entity",
        "held_trigger",
        "home",
        "items",
        "key",
        "name",
        "rig",
        "secret",
        "since",
        "team",
        "tenures",
        "weapons",
        "wielded",
    )

    life_epoch = Integer(BODY.life_epoch)
    """Number of its cuts when its life began."""
    blocks_only = Flag(BODY.blocks_only)
    """True if it stops shots and takes no damage."""

    def __init__(self, entity: int, name: str, team: str, rig: str, connection: str, seed: int, now: float) -> None:
        super().__init__(len(BODY))
        self.numbers[BODY.entity] = entity
        self.entity, self.name, self.team, self.rig = entity, name, team, rig
        self.connection, self.home, self.since = connection, connection, now
        self.tenures: list[Tenure] = []
        self.weapons: dict[str, Held] = {}
        self.items: dict[str, Stock] = {}
        self.wielded = ""
        self.life_epoch = 1
        self.accepted: AcceptedPosition | None = None
        self.held_trigger: HeldTrigger | None = None
        self.key, self.secret = (
            hashlib.blake2b(f"{seed}/{entity}/{use}".encode(), digest_size=32).digest() for use in ("spread", "secret")
        )

    def look_from(self, bone: int, place: Triple) -> None:
        """Its eye is fixed to a bone, at a place in the bone's frame, metres."""
        row = self.numbers
        row[BODY.has_eye], row[BODY.eye_bone] = 1.0, bone
        row[BODY.eye_x], row[BODY.eye_y], row[BODY.eye_z] = place

    def equip(self, weapons: Iterable[Weapon], items: Mapping[str, Stock], wielded: str) -> None:
        """Hand over what it carries; an empty name holds nothing."""
        self.weapons = {weapon.name: Held(weapon, self.key) for weapon in weapons}
        self.items = dict(items)
        self.wielded = wielded

    def refill(self) -> None:
        """A new life: everything as at its start."""
        for held in self.weapons.values():
            held.refill()
        for stock in self.items.values():
            stock.refill()
        self.held_trigger = None

    def held_until(self, connection: str) -> float:
        """Return when a connection stopped acting for it, server time: inf while it does, -inf when it never did."""
        if connection == self.connection:
            return float("inf")
        return max((tenure.until for tenure in self.tenures if tenure.connection == connection), default=float("-inf"))

    def hand_over(self, connection: str, now: float) -> None:
        """Another connection acts for it from now on."""
        self.tenures.append(Tenure(self.connection, self.since, now))
        del self.tenures[:-8]
        self.numbers[BODY.tenures] = len(self.tenures)
        self.connection, self.since = connection, now
        self.held_trigger = None


class _MakesReceipt(Protocol):
    def receipt(self) -> Receipt: ...


class Connection(Row):
    """A connection: its clock, how it draws, what it sent. A spectator's has entity 0, the server's own no name.

    since : server time of its admission: nothing that was sent before can be on its screen
    transits : of what its messages' own stamps say of their trip up: server time of arrival less the client's clock
    shortest_s, latest_s, back_s : what bounded its last view, seconds: the least time between sending a snapshot and
        receiving a claim that has seen it; the greatest age that the connection explains; how far a view may lie before
        an earlier claim's
    """

    __slots__ = ("_drawing", "account", "clock", "entity", "lag", "name", "quick", "receipts", "sequences", "transits")

    since = Number(LINE.since)
    highest_sequence = Integer(LINE.highest_sequence)
    newest_view_time = Number(LINE.newest_view_time)
    shortest_s = Number(LINE.shortest_s)
    latest_s = Number(LINE.latest_s)
    back_s = Number(LINE.back_s)

    def __init__(
        self, name: str, account: str, entity: int, drawing: Drawing, key: bytes, since: float = float("-inf")
    ) -> None:
        super().__init__(len(LINE))
        self.name, self.account, self.entity, self.drawing = name, account, entity, drawing
        self.since = since
        self.numbers[LINE.is_servers] = not name
        self.clock = ClockEstimate(key, row=self.owner)
        self.newest_view_time = float("-inf")
        self.numbers[LINE.heard_at] = self.numbers[LINE.restarted_at] = since
        self.numbers[LINE.buffer_s] = self.numbers[LINE.late_s] = float("nan")
        self.numbers[LINE.announced_s], self.numbers[LINE.announced_at] = drawing.interpolation_delay_s, since
        self.lag = LagTracker(self)
        self.transits = Least(TRANSITS_S, self.owner, LINE.claim_trip, MOST_AT_ONCE)
        self.sequences = [0] * REMEMBERED_RECEIPTS
        """Of the receipts that are remembered."""
        self.receipts: list[_MakesReceipt | Receipt | None] = [None] * REMEMBERED_RECEIPTS
        self.quick: Any = None
        """Rows that its claims are checked against in the short way, see `ruling.quick`."""

    def __getstate__(self) -> tuple[None, Fields]:
        """For a checkpoint: what its claims are held against is put together anew."""
        slots = (*Row.__slots__, *Connection.__slots__)
        return None, {name: None if name == "quick" else getattr(self, name) for name in slots}

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint, which holds the receipts packed together."""
        super().__setstate__(state)
        packed: Any = self.receipts
        self.receipts = packed.unpacked()

    @property
    def drawing(self) -> Drawing:
        """Interpolation settings of its client."""
        return self._drawing

    @drawing.setter
    def drawing(self, drawing: Drawing) -> None:
        row, self._drawing = self.numbers, drawing
        row[LINE.interpolation_delay_s], row[LINE.extrapolate_s] = drawing.interpolation_delay_s, drawing.extrapolate_s
        row[LINE.shows_nearest] = drawing.between == "nearest"
        row[LINE.extrapolates] = drawing.when_late == "extrapolate"

    def draw_by(self, drawing: Drawing, now: float) -> None:
        """Let its client draw in another way from a server time on: a longer delay counts little by little."""
        row = self.numbers
        row[LINE.announced_s], row[LINE.announced_at] = announced_by(self.at, now), now
        self.drawing = drawing

    def memory(self, now: float) -> tuple[float, ...]:
        """Return the numbers of its lag that the account keeps when it comes back on another connection."""
        trip, row = trip_of(self.at), self.numbers
        return (
            trip if isfinite(trip) else 0.0, announced_by(self.at, now),
            *(row[place] for place in _REMEMBERED),
        )  # fmt: skip

    def recall(self, memory: tuple[float, ...], now: float) -> None:
        """Go on with the lag that the account had on another connection."""
        row = self.numbers
        row[LINE.trip_before_s], row[LINE.announced_s], row[LINE.announced_at] = *memory[:2], now
        for place, value in zip(_REMEMBERED, memory[2:], strict=True):
            row[place] = value

    def share(self, clock: ClockEstimate) -> None:
        """Go by the clock of the same line in another referee of this match, as it is now."""
        self.clock = clock
        own: Any = self.numbers
        known: Any = clock.numbers
        if known is not own:
            own[_OF_CLOCK] = known[_OF_CLOCK]

    def remember(self, receipt: Receipt) -> None:
        """Keep a receipt for repeats of its sequence number (not the ruling: that is many times as large)."""
        self.keep(receipt.sequence, receipt)
        if receipt.sequence > self.highest_sequence:
            self.highest_sequence = receipt.sequence

    def keep(self, sequence: int, receipt: _MakesReceipt | Receipt) -> None:
        """Keep a receipt, or what makes it, for repeats of a sequence number that is counted already."""
        place = sequence % REMEMBERED_RECEIPTS
        self.sequences[place], self.receipts[place] = sequence, receipt

    def is_new(self, sequence: int) -> bool:
        """True if no receipt of a sequence number is remembered."""
        return self.sequences[sequence % REMEMBERED_RECEIPTS] != sequence

    def receipt_of(self, sequence: int) -> Receipt | None:
        """Return the receipt of an earlier claim with this sequence number; None for a new or forgotten number."""
        kept = None if self.is_new(sequence) else self.receipts[sequence % REMEMBERED_RECEIPTS]
        return kept if kept is None or isinstance(kept, Receipt) else kept.receipt()


class Roster:
    """Entities and connections of one match."""

    def __init__(self, rules: Rules, weapons: Mapping[str, Weapon], seed: int) -> None:
        self.rules, self.weapons, self.seed = rules, weapons, seed
        self.actors: dict[int, Participant] = {}
        self.connections: dict[str, Connection] = {}
        self.triggers: set[int] = set()
        """Entities that may hold a trigger: those that pulled one, and haven't been found without it since."""
        self._teams: dict[str, int] = {}
        self._lags: dict[str, tuple[float, ...]] = {}
        """Memory of accounts' last connections, see `Connection.memory`."""
        self._next_entity = 1
        self._connected = 0

    @property
    def next_entity(self) -> int:
        """The id that the next entity gets."""
        return self._next_entity

    def enter(
        self,
        *,
        name: str,
        team: str,
        rig: str,
        connection: str,
        carried: Iterable[str] | None,
        wielded: str | None,
        now: float,
    ) -> Participant:
        """Issue the next id to an entity that carries some weapons (None: all) and every item of the rules."""
        names = list(self.weapons if carried is None else carried)
        for each in (*names, *([wielded] if wielded else [])):
            self.require_weapon(each)
        if wielded is None:
            wielded = names[0] if names else ""
        elif wielded and wielded not in names:
            raise UnknownNameError("carried weapon", wielded, names)
        actor = Participant(self._next_entity, name, team, rig, connection, self.seed, now)
        actor.equip(
            (self.weapons[each] for each in names),
            {item: Stock(table) for item, table in self.rules.items.items()} if connection else {},
            wielded,
        )
        shape = self.rules.rigs[rig]
        actor.blocks_only = shape.blocks_only
        actor.numbers[BODY.flies] = shape.flies
        actor.numbers[BODY.passable] = shape.blocks_only and shape.resistance_per_m is not None
        if team:
            actor.numbers[BODY.team] = self._teams.setdefault(team, len(self._teams) + 1)
        self.actors[actor.entity] = actor
        self._next_entity += 1
        return actor

    def connect(self, connection: str, account: str, entity: int, drawing: Drawing, now: float) -> Connection:
        """Open a connection at a server time."""
        self._connected += 1  # a name that comes back gets nonces of its own
        name = f"{self.seed}/{connection}/{self._connected}/clock"
        key = hashlib.blake2b(name.encode("utf-8", "backslashreplace"), digest_size=32).digest()
        one = Connection(connection, account, entity, drawing, key, now)
        for other in self.connections.values():
            if other.account == account:
                self._keep_lag(other, now)
        if account in self._lags:
            one.recall(self._lags[account], now)
        self.connections[connection] = one
        return one

    def disconnect(self, connection: str, now: float) -> None:
        """Close a connection at a server time; its account keeps the lag that was tracked."""
        self._keep_lag(self.connections.pop(connection), now)

    def _keep_lag(self, one: Connection, now: float) -> None:
        """Let an account remember a connection's lag; one of which nothing is known, as a spectator's, adds nothing."""
        known = one.numbers[LINE.buffer_s] == one.numbers[LINE.buffer_s]
        if one.account and (known or one.account not in self._lags):
            self._lags[one.account] = one.memory(now)

    def refuse_known(self, connection: str) -> None:
        """Raise `AlreadyKnownError` for a connection that is here, `UnknownNameError` for one without a name."""
        require_name("connection", connection)
        if not connection:
            raise UnknownNameError("connection", connection, self.connections)
        if connection in self.connections:
            raise AlreadyKnownError("connection", connection)

    def require_connection(self, connection: str) -> Connection:
        """A connection by its name, or `UnknownNameError`."""
        one = self.connections.get(connection)
        if one is None:
            raise UnknownNameError("connection", connection, self.connections)
        return one

    def require(self, entity: int) -> Participant:
        """An entity, or `UnknownNameError`."""
        actor = self.actors.get(entity)
        if actor is None:
            raise UnknownNameError("entity", entity, self.actors)
        return actor

    def require_weapon(self, weapon: str) -> str:
        """A weapon's name, or `UnknownNameError`."""
        if weapon not in self.weapons:
            raise UnknownNameError("weapon", weapon, self.weapons)
        return weapon

    def controller_of(self, actor: Participant) -> int:
        """Entity whose player acts for this one: 0 for its own or the server's."""
        one = self.connections.get(actor.connection)
        return 0 if one is None or one.entity == actor.entity else one.entity
