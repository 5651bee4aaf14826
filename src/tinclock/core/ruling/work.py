"""Working data of a claim: the match, and the results of its steps.

Each kind of claim has a type of its own (in its own module) with the fields that its steps fill in. A field without a
value is worked out by a check and read by later ones: reading it sooner is a mistake in the procedure, and raises.
Nothing here is the match's state. That changes only in a procedure's `commit`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from tinclock.core.findings import FINDINGS, Finding
from tinclock.core.kernels.dtypes import FOUND
from tinclock.core.kernels.hearing import note_still
from tinclock.core.plain import Fields
from tinclock.core.timeline.cover import Instant
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.combat.connections import Connection
    from tinclock.core.combat.flights import Flights
    from tinclock.core.combat.held import Held
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.receipts import ActorState
    from tinclock.core.combat.roster import Participant, Roster
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.findings import Action
    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.numbers import RuleNumbers
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.rules.weapons import ItemRules, WeaponRules
    from tinclock.core.ruling.check_results import CheckResult
    from tinclock.core.ruling.records import Hit, Stop
    from tinclock.core.ruling.trace import Late
    from tinclock.core.timeline.cover import Cover
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.vectors import Triple


class World(NamedTuple):
    """State of a match that all its claims are checked against."""

    rules: Rules
    actions: Mapping[str, Action]
    history: PoseHistory
    level: Level | None
    ledger: Ledger
    roster: Roster
    flights: Flights
    cover: Cover
    numbers: RuleNumbers


class Work:
    """One claim of any kind. A check reads it, appends to `steps` what it measured, and may fill in its fields.

    late : the steps of compiled checks, which came before those in `steps`; None where they are among them
    """

    sequence = 0
    late: Late | None = None

    def __init__(self, world: World, connection: Connection, actor: Participant, received_at: float) -> None:
        self.rules, _, self.history, self.level, self.ledger, self.roster, self.flights, _, _ = world
        self.world, self.connection, self.actor, self.received_at = world, connection, actor, received_at
        self.findings: list[Finding] = []
        self.steps: list[CheckResult] = []

    @property
    def used(self) -> str:
        """The name of the weapon or item that the ruling is about, where the claim's own name was not found."""
        return ""

    def priced(self) -> WeaponRules | ItemRules | None:
        """Return the rules of the weapon or item whose price and conditions apply; None for neither."""
        return None

    def costs(self) -> Mapping[str, float]:
        """Return the price of the claim, by counter."""
        priced = self.priced()
        return {} if priced is None else priced.costs

    def take(self, found: Any, claim: Any) -> None:
        """Take over what compiled checks worked out, from the row of what was found."""

    def starts_at_eye(self) -> bool:
        """True if a claimed start isn't used."""
        return False

    def seen_at(self) -> float:
        """The server time that the client's screen showed; without a view what the connection makes likely."""
        clock = self.connection.clock
        behind = clock.round_trip_s + self.connection.interpolation.interpolation_delay_s if clock.samples else 0.0
        return self.received_at - behind

    def find(
        self,
        code: str,
        observed: float | None = None,
        limit: float | None = None,
        detail: str = "",
        unit: str | None = None,
    ) -> Finding:
        """A finding about the connection of this claim; the margin is how far beyond the limit it lies."""
        measured = observed is not None and limit is not None
        return Finding(
            code, self.connection.name, self.connection.account, self.actor.entity, self.sequence, self.received_at,
            observed, limit, abs(observed - limit) if measured else None,  # type: ignore[operator]
            (FINDINGS[code].unit if unit is None else unit) if measured else "", detail,
        )  # fmt: skip

    def found(self) -> Fields:
        """Return this kind's part of a ruling, by the ruling's fields."""
        return {}

    def state(self, state: ActorState) -> ActorState:
        """Return the actor's state with this kind's part for its client."""
        return state


class ViewWork(Work):
    """A claim that was made on what a screen showed.

    view, view_time, slots : the view that it is ruled at, its server time, and the history's slots of its snapshots
    named : where the history would have been read, had its view not strayed from the estimated display delay
    """

    named: Instant | None = None

    view: View
    view_time: float
    slots: tuple[int, int]

    def seen_at(self) -> float:
        """The server time that the client's screen showed."""
        return self.view_time

    def take(self, found: Any, claim: Any) -> None:
        """Take over the view, once it is known."""
        view_time = found[FOUND.view_time]
        if view_time == view_time:
            self.view_time = view_time
            self.view = View(int(found[FOUND.from_tick]), int(found[FOUND.to_tick]), found[FOUND.fraction])
            self.slots = int(found[FOUND.from_slot]), int(found[FOUND.to_slot])
        if found[FOUND.named]:
            named = int(found[FOUND.named_from]), int(found[FOUND.named_to])
            self.named = Instant(*named, found[FOUND.named_fraction])

    def instant(self) -> Instant:
        """Return the slots and the fraction at which this claim reads the history."""
        return Instant(*self.slots, self.view.fraction)

    def found(self) -> Fields:
        """The view, once it is known."""
        known = self.__dict__  # what was worked out; a claim that was rejected early has less
        if "view_time" not in known:
            return {}
        view_time = known["view_time"]
        return {"view": known["view"], "view_time": view_time, "rewound_s": self.received_at - view_time}


class DamageWork(ViewWork):
    """Something that may hurt somebody.

    weapon : what it is done with; charge : the share of its damage for the charge; origin : where it comes from
    stopped_by : what ended its way, None for nothing
    cover : entities that only stood in the way
    """

    weapon: Weapon
    origin: Triple
    charge = 1.0
    hits: tuple[Hit, ...] = ()
    damage = 0.0
    stopped_by: Stop | None = None
    cover: frozenset[int] = frozenset()

    @property
    def used(self) -> str:
        """The weapon's name."""
        weapon: Weapon | None = self.__dict__.get("weapon")
        return "" if weapon is None else weapon.name

    def found(self) -> Fields:
        """Add the hits and the origin."""
        found = super().found()
        found["hits"], found["damage"], found["stopped_by"] = self.hits, self.damage, self.stopped_by
        found["origin"] = self.__dict__.get("origin")
        return found


class AimedWork(DamageWork):
    """A claim with a weapon in hand and an aim.

    held : the weapon as its owner carries it; direction : unit, where the (first) ray goes; aim : where the player aims
    eye : the server's own eye of the actor
    posthumous : whether the actor died so little ago that it still counts
    paid : what the way from the eye to the muzzle took from the weapon's penetration
    early_s : how much sooner than it is ready the weapon may fire
    muzzle : how far the shot starts from the eye's way, and how far it may, metres
    """

    held: Held
    direction: Triple
    aim: Triple
    eye: Triple
    posthumous = False
    paid = early_s = 0.0
    muzzle = (0.0, 0.0)

    def take(self, found: Any, claim: Any) -> None:
        """Take over the view, the aim, the weapon in hand and the eye, as far as they are known."""
        super().take(found, claim)
        if found[FOUND.formed]:
            origin = getattr(claim, "origin", None)
            if origin is not None:
                self.origin = origin
            x = found[FOUND.direction_x]
            if x == x:
                self.direction = (x, found[FOUND.direction_y], found[FOUND.direction_z])
        if found[FOUND.armed]:
            self.held = held = self.actor.weapons[self.actor.wielded]
            self.weapon = held.weapon
        x = found[FOUND.eye_x]
        if x == x:
            self.eye = (x, found[FOUND.eye_y], found[FOUND.eye_z])
            self.posthumous = found[FOUND.posthumous] != 0.0
        self.charge, self.early_s = found[FOUND.charge], found[FOUND.early_s]
        self.muzzle = found[FOUND.muzzle_m], found[FOUND.muzzle_limit_m]

    def priced(self) -> WeaponRules:
        """Return the rules of the weapon in hand."""
        return self.weapon.rules

    def starts_at_eye(self) -> bool:
        """True if the claimed start isn't used, because a check of the muzzle found something."""
        return any(finding.code in ("muzzle_far", "muzzle_blocked") for finding in self.findings)

    def start_from_the_eye(self) -> None:
        """A start that is forgiven is still not believed."""
        if self.findings and self.starts_at_eye():
            self.origin = self.eye

    def keep_view(self, claimed: View | None) -> None:
        """Remember what the screen showed when a claim counted: later views are held against it."""
        if claimed is not None:
            note_still(self.connection.at, claimed.from_tick == claimed.to_tick or claimed.fraction >= 1.0)
        if self.view_time > self.connection.newest_view_time:
            self.connection.newest_view_time = self.view_time

    def found(self) -> Fields:
        """Its aim and where its ray went."""
        found = super().found()
        found["direction"], found["aim"] = self.__dict__.get("direction"), self.__dict__.get("aim")
        return found


class FiringWork(AimedWork):
    """A weapon that fires. shot : the number of its shot; ways : (n, 3) unit directions in which its rays go."""

    shot: int
    ways: tuple[Triple, ...]

    def found(self) -> Fields:
        """The number of the shot."""
        found = super().found()
        found["shot"] = self.__dict__.get("shot")
        return found
