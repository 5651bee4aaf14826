"""Participants of a match: entities with ids that the server issues once, and the connections that act for them."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.combat.connections import Connection
from tinclock.core.combat.held import Held
from tinclock.core.combat.items import Stock
from tinclock.core.errors import AlreadyKnownError, BadNameError, UnknownNameError
from tinclock.core.kernels.dtypes import BODY, LINE
from tinclock.core.packed import Flag, Integer, Row

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from tinclock.core.combat.accepted_position import AcceptedPosition
    from tinclock.core.combat.accounts import Departed
    from tinclock.core.combat.inputs import Inputs
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.rules.weapons import ItemRules, WeaponRules
    from tinclock.core.timeline.views import Interpolation
    from tinclock.core.vectors import Triple

LONGEST_NAME = 200
"""Characters of an account, a connection, a name or a team: what every store holds."""


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
        "inputs",
        "items",
        "key",
        "name",
        "rig",
        "secret",
        "since",
        "stance",
        "taken",
        "team",
        "tenures",
        "vehicle",
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
        self.taken: dict[str, Held] = {}
        """Weapons that were taken from it: they continue their spread when they are given back."""
        self.items: dict[str, Stock] = {}
        self.wielded = self.stance = ""
        self.vehicle = 0
        """Entity that it rides, 0 for none."""
        self.numbers[BODY.vehicle], self.numbers[BODY.rode_until] = -1.0, float("-inf")
        self.life_epoch = 1
        self.accepted: AcceptedPosition | None = None
        self.inputs: Inputs | None = None
        """Of a body that the server moves."""
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
        self.held_trigger = self.inputs = None


class Roster:
    """Entities and connections of one match."""

    def __init__(self, rules: Rules, weapons: Mapping[str, Weapon], seed: int) -> None:
        self.rules, self.weapons, self.seed = rules, weapons, seed
        self.actors: dict[int, Participant] = {}
        self.connections: dict[str, Connection] = {}
        self.triggers: set[int] = set()
        """Entities that may hold a trigger: those that pulled one, and haven't been found without it since."""
        self._teams: dict[str, int] = {}
        self._departed: dict[str, tuple[Participant, Departed]] = {}
        """Entities and books of accounts that may come back."""
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
        loadout: str | None = None,
    ) -> Participant:
        """Issue the next id to an entity that carries some weapons (None: those of its loadout) and items."""
        own, items = self.loadout_of(team, rig, loadout)
        names = list(own if carried is None else carried)
        for each in (*names, *([wielded] if wielded else [])):
            self.require_weapon(each)
        if wielded is None:
            wielded = names[0] if names else ""
        elif wielded and wielded not in names:
            raise UnknownNameError("carried weapon", wielded, names)
        actor = Participant(self._next_entity, name, team, rig, connection, self.seed, now)
        actor.equip(
            (self.weapons[each] for each in names),
            {item: Stock(self.rules.items[item]) for item in items} if connection else {},
            wielded,
        )
        shape = self.rules.rigs[rig]
        actor.blocks_only = shape.blocks_only
        actor.numbers[BODY.flies] = shape.flies
        actor.numbers[BODY.passable] = shape.blocks_only and shape.resistance_per_m is not None
        self.join_team(actor, team)
        self.actors[actor.entity] = actor
        self._next_entity += 1
        return actor

    def loadout_of(self, team: str, rig: str, named: str | None) -> tuple[list[str], list[str]]:
        """Return the names of weapons and items that a player begins with: those of the loadout named, or of its team,
        or of its rig; without one everything with `for_clients`.
        """
        rules = self.rules
        if named is not None and named not in rules.loadouts:
            raise UnknownNameError("loadout", named, rules.loadouts)
        of_team = rules.teams[team].loadout if team in rules.teams else None
        name = named or of_team or rules.rigs[rig].loadout
        if name is not None:
            return rules.loadouts[name].weapons, rules.loadouts[name].items
        everything: tuple[Mapping[str, WeaponRules | ItemRules], ...] = rules.weapons, rules.items
        weapons, items = ([each for each, one in table.items() if one.for_clients] for table in everything)
        return weapons, items

    def join_team(self, actor: Participant, team: str) -> None:
        """Let an entity be of a team, "" for none."""
        actor.team = team
        actor.numbers[BODY.team] = self._teams.setdefault(team, len(self._teams) + 1) if team else 0.0

    def part(self, actor: Participant, account: str, departed: Departed) -> None:
        """Keep what an account left behind, for when it comes back."""
        self._departed[account] = actor, departed

    def departed(self, account: str, rig: str) -> tuple[Participant, Departed] | None:
        """Return the entity and the books that an account left with, and forget them; None for another rig."""
        kept = self._departed.get(account)
        if not account or kept is None or kept[0].rig != rig:
            return None
        return self._departed.pop(account)

    def come_back(self, actor: Participant, connection: str, name: str, team: str, now: float) -> None:
        """Let an entity take part again, under another connection, with what it carried."""
        actor.name, actor.connection, actor.home, actor.since = name, connection, connection, now
        actor.tenures.clear()
        actor.numbers[BODY.tenures] = 0.0
        actor.held_trigger, actor.inputs, actor.life_epoch = None, None, 1
        actor.stance, actor.numbers[BODY.limits_before] = "", 0.0
        for held in actor.weapons.values():
            if held.weapon.name in self.weapons:
                held.take(self.weapons[held.weapon.name])
        actor.weapons = {name: held for name, held in actor.weapons.items() if name in self.weapons}
        actor.items = {item: stock for item, stock in actor.items.items() if item in self.rules.items}
        for item, stock in actor.items.items():
            stock.rules = self.rules.items[item]
        if actor.accepted is not None:
            actor.accepted.put(actor.accepted.position, now)
        self.join_team(actor, team)
        self.actors[actor.entity] = actor

    def player_of(self, account: str) -> Connection | None:
        """Return the connection by which an account plays, None for none."""
        return next((one for one in self.connections.values() if one.account == account and one.entity), None)

    def connect(
        self, connection: str, account: str, entity: int, interpolation: Interpolation, now: float
    ) -> Connection:
        """Open a connection at a server time."""
        self._connected += 1  # a name that comes back gets nonces of its own
        name = f"{self.seed}/{connection}/{self._connected}/clock"
        key = hashlib.blake2b(name.encode("utf-8", "backslashreplace"), digest_size=32).digest()
        one = Connection(connection, account, entity, interpolation, key, now)
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
