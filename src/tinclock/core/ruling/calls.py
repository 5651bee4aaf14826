"""The calls of a match by their names: each makes one command, and every taker of commands has them all."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Any

from tinclock.core.plain import Fields
from tinclock.core.ruling.commands import (
    Act,
    AddEntity,
    AddFinding,
    AddScore,
    Admit,
    AdmitSpectator,
    Advance,
    ChangeRules,
    Damage,
    Dismiss,
    GiveWeapon,
    HandOver,
    Heal,
    MarkTeleport,
    Ping,
    Pong,
    Push,
    Record,
    Remove,
    ReportServerResult,
    ReportView,
    ResetRound,
    Rule,
    SetCounter,
    SetEffect,
    SetHealth,
    SetHomingTarget,
    SetInterpolation,
    SetItem,
    SetPhase,
    SetPosition,
    SetStance,
    SetTeam,
    SetVehicle,
    SetWeapon,
    SnapshotSent,
    Spawn,
    TakeWeapon,
)
from tinclock.core.ruling.shots import ShotBatch

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    import numpy as np
    from numpy.typing import NDArray

    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.rules.tables import EffectName
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.commands import Command
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.packed import Poses
    from tinclock.core.timeline.views import Interpolation
    from tinclock.core.vectors import Triple


class MatchCalls(ABC):
    """Everything that a server does to a match. `Referee` carries it out, `Recorder` notes it first."""

    @abstractmethod
    def apply(self, command: Command) -> Any:
        """Carry out one command; returns what the call of its name returns."""

    def admit(
        self,
        *,
        connection: str,
        account: str,
        team: str = "",
        rig: str,
        name: str = "",
        weapon: str | None = None,
        weapons: Sequence[str] | None = None,
        interpolation: Interpolation | None = None,
        server_time: float | None = None,
        loadout: str | None = None,
    ) -> int:
        """Admit a player; returns the id of its entity, alive from now on. Ids are never given to another account.

        name : shown to everybody; it identifies nobody
        weapons : names of the weapons that it carries (default: those of its loadout); weapon : the one in hand
        loadout : one of `[loadouts]` (default: that of its team, or of its rig, or everything with `for_clients`)
        interpolation : settings by which its client draws other players

        With `match.rejoin = "restore"` an account that comes back gets the same entity again, with its health, weapons,
        items, counters and score; one that left dead is dead until `spawn`. `match.second_connection` decides about an
        account that is still playing; "refuse" raises `AlreadyKnownError`. The answer to the client is in `welcome`.
        """
        return int(
            self.apply(
                Admit(
                    connection=connection,
                    account=account,
                    team=team,
                    rig=rig,
                    name=name,
                    weapon=weapon,
                    weapons=None if weapons is None else tuple(weapons),
                    interpolation=interpolation,
                    server_time=server_time,
                    loadout=loadout,
                )
            )
        )

    def admit_spectator(self, connection: str, account: str) -> None:
        """Let a spectator in: it may read everything that is published, and whatever it claims is rejected."""
        self.apply(AdmitSpectator(connection=connection, account=account))

    def add_entity(
        self, rig: str, *, team: str = "", name: str = "", weapon: str = "", server_time: float | None = None
    ) -> int:
        """Bring in something that nobody plays: a door, a shield, a turret, a monster. Returns the id of its entity.

        It is recorded and rewound like any entity. Its rig says whether it takes damage, and how much. With
        a weapon the server lets it `act`; `hand_over` lets a client act for it.
        """
        return int(self.apply(AddEntity(rig=rig, team=team, name=name, weapon=weapon, server_time=server_time)))

    def remove(self, entity: int, server_time: float | None = None) -> None:
        """Take away what `add_entity` brought in; its past is gone at once."""
        self.apply(Remove(entity=entity, server_time=server_time))

    def dismiss(self, connection: str, server_time: float | None = None) -> None:
        """A connection left: its entity and its past are gone at once, and what else it acted for is the server's."""
        self.apply(Dismiss(connection=connection, server_time=server_time))

    def hand_over(self, entity: int, connection: str | None, server_time: float | None = None) -> None:
        """Another connection (None: the server) acts for an entity from now on: a vehicle, a turret, a possession.

        Claims are held against who had control when their screen showed it, so that one that was fired just before the
        change still counts and one by the new owner can't reach back behind it.
        """
        self.apply(HandOver(entity=entity, connection=connection, server_time=server_time))

    def spawn(self, entity: int, server_time: float | None = None) -> None:
        """Begin a new life of an entity, with full health and magazines; nothing is interpolated from the old one."""
        self.apply(Spawn(entity=entity, server_time=server_time))

    def mark_teleport(self, entity: int) -> None:
        """The entity was teleported: nothing is interpolated from where it was to where it is."""
        self.apply(MarkTeleport(entity))

    def damage(
        self, entity: int, points: float, cause: str = "fall", server_time: float | None = None, *, by: int = 0,
        weapon: str = "",
    ) -> None:  # fmt: skip
        """Damage an entity: a fall, lava, a trap, poison, a push off a cliff. Armour does not reduce it.

        cause : text for events; by : entity that gets the credit (default 0: none), also one that has left
        weapon : text for events, such as the name of a trap

        Without `by`, a death within `score.credit_window_s` of a player's damage counts as that player's kill.
        """
        self.apply(Damage(entity, points, cause, server_time, by, weapon))

    def heal(
        self, entity: int, health: float = 0.0, armour: float = 0.0, *, by: int = 0, cause: str = "heal",
        server_time: float | None = None,
    ) -> None:  # fmt: skip
        """Give back health up to the maximum, and armour up to `damage.max_armour`, in points. The dead stay dead.

        by : entity that healed (default 0: none); cause : text for events
        """
        self.apply(Heal(entity, health, armour, by, cause, server_time))

    def set_health(
        self, entity: int, health: float | None = None, *, armour: float | None = None,
        max_health: float | None = None, cause: str = "server", server_time: float | None = None,
    ) -> None:  # fmt: skip
        """Set health, armour or maximum health, in points; None leaves a value as it is. Health 0 kills.

        Beside a server that applies damage by itself (`match.mode = "shadow"`) this is how the referee follows it. The
        dead keep health 0 until `spawn`.
        """
        self.apply(SetHealth(entity, health, armour, max_health, cause, server_time))

    def set_team(self, entity: int, team: str, server_time: float | None = None) -> None:
        """Move an entity to another team, "" for none. Points that its old team has stay with that team."""
        self.apply(SetTeam(entity, team, server_time))

    def give_weapon(
        self, entity: int, weapon: str, *, magazine: int | None = None, reserve: int | None = None,
        server_time: float | None = None,
    ) -> None:  # fmt: skip
        """Let an entity carry a weapon from now on, or set the ammunition of one that it carries.

        magazine, reserve : rounds (default: as they are, full for a new weapon); they have no effect on a weapon
            without a magazine or reserve in the rules
        """
        self.apply(GiveWeapon(entity, weapon, magazine, reserve, server_time))

    def take_weapon(self, entity: int, weapon: str, server_time: float | None = None) -> None:
        """Take a weapon from an entity; the first one that is left comes into its hand."""
        self.apply(TakeWeapon(entity, weapon, server_time))

    def set_item(self, entity: int, item: str, count: int, server_time: float | None = None) -> None:
        """Set how many of an item an entity has; it may be one that it had none of."""
        self.apply(SetItem(entity, item, count, server_time))

    def set_effect(
        self, entity: int, effect: EffectName, duration_s: float,
        amount: float = 0.0, *, cause: str = "server", server_time: float | None = None,
    ) -> None:  # fmt: skip
        """Begin an effect for a time in seconds; 0 ends it.

        effect : "shield" (no damage), "boost" (damage times `amount`), "speed" (speed over ground times `amount`) or
            "free_movement" (move reports have no limits: a ride, a cut scene, a ladder of the game's own)
        """
        self.apply(SetEffect(entity, effect, duration_s, amount, cause, server_time))

    def push(self, entity: int, velocity: Triple, duration_s: float = 1.0, server_time: float | None = None) -> None:
        """Push a body whose client reports moves: this velocity (m/s) is added to its own, and a finding is not made.

        duration_s : time for which the body may keep the velocity over ground (default 1)

        A splash with `impulse_n_s` pushes its victims by itself.
        """
        self.apply(Push(entity, velocity, duration_s, server_time))

    def set_vehicle(self, entity: int, vehicle: int | None, server_time: float | None = None) -> None:
        """Let an entity ride another from now on: a cart, a mount, a lift. None lets it get off.

        Its shots, launches and melee attacks pass its vehicle; other bodies' hit it. Its move reports are free of
        limits as long as they stay within `movement.ride_reach_m` of the vehicle, and may name a place relative to it
        (`relative_to`). A new life gets off. Raises `BadNumberError` for a vehicle that itself rides something.
        """
        self.apply(SetVehicle(entity, vehicle, server_time))

    def set_stance(self, entity: int, stance: str, server_time: float | None = None) -> None:
        """Let an entity move by the limits of a stance of its rig, `[rigs.NAME.stances.STANCE]`; "" ends it.

        The client may move by the faster of both limits until it can have heard of the change.
        """
        self.apply(SetStance(entity, stance, server_time))

    def add_score(
        self, points: float, *, entity: int = 0, team: str = "", cause: str = "server",
        server_time: float | None = None,
    ) -> None:  # fmt: skip
        """Give points to an entity and its team, or (with `team`) to a team alone; negative ones take."""
        self.apply(AddScore(points, entity, team, cause, server_time))

    def set_counter(
        self, entity: int, counter: str, value: float, *, cause: str = "server", server_time: float | None = None
    ) -> None:
        """Set a counter of `[counters]` for an entity, within its limits. Weapons and items may have prices in it."""
        self.apply(SetCounter(entity, counter, value, cause, server_time))

    def set_phase(self, phase: str, server_time: float | None = None) -> None:
        """Begin a phase of `[phases]`, "" for none, which allows everything."""
        self.apply(SetPhase(phase, server_time))

    def reset_round(self, *, scores: bool = False, server_time: float | None = None) -> None:
        """Begin a round: projectiles end, all entities begin a new life, counters are at their start.

        scores : True sets the board to zero too
        """
        self.apply(ResetRound(scores, server_time))

    def set_weapon(self, entity: int, weapon: str, server_time: float | None = None) -> None:
        """The entity holds another weapon from now on, ready at once."""
        self.apply(SetWeapon(entity=entity, weapon=weapon, server_time=server_time))

    def set_position(
        self, entity: int, position: Triple, server_time: float | None = None, *, input: int | None = None
    ) -> None:
        """The server puts a body somewhere, at rest. From then on its client may report moves from there.

        input : with `movement.moved_by = "server"` the sequence of the newest input that this position includes; the
            receipts acknowledge it, and the client's prediction after that input is compared with the position
        """
        self.apply(SetPosition(entity=entity, position=position, server_time=server_time, input=input))

    def add_finding(
        self, connection: str, sequence: int, code: str, *, observed: float | None = None, limit: float | None = None,
        unit: str = "", detail: str = "",
    ) -> None:  # fmt: skip
        """Add a finding of the game's own to a claim before it is ruled; `[game_findings]` says what it does.

        connection, sequence : of the claim; it takes effect when that claim is ruled, after all other checks
        """
        self.apply(AddFinding(connection, sequence, code, observed, limit, unit, detail))

    def ping(self, connection: str, sent_at: float) -> int:
        """Open a ping exchange; returns the nonce to send to the client."""
        return int(self.apply(Ping(connection=connection, sent_at=sent_at)))

    def pong(self, connection: str, nonce: object, client_time: object, received_at: float) -> str:
        """Take the client's answer to a ping. Never raises for what the client sent; returns what became of it."""
        return str(
            self.apply(Pong(connection=connection, nonce=nonce, client_time=client_time, received_at=received_at))
        )

    def report_view(self, connection: str, view: object, client_time: object, received_at: float) -> bool:
        """Take a client's word on what its screen is showing: two ticks and a fraction, at a time of its own clock.

        For clients that don't report moves, a few times a second: shots are held against the lag that it says. Never
        raises for what the client sent; returns whether it said anything.
        """
        command = ReportView(connection=connection, view=view, client_time=client_time, received_at=received_at)
        return bool(self.apply(command))

    def set_interpolation(self, connection: str, interpolation: Interpolation) -> None:
        """That client draws the others in another way from now on."""
        self.apply(SetInterpolation(connection=connection, interpolation=interpolation))

    def set_homing_target(self, projectile: int, entity: int | None, server_time: float | None = None) -> None:
        """Give something that homes its target, None for none; it flies straight on until it has one.

        Raises `UnknownNameError` for a projectile that isn't in the air, or an entity that isn't here.
        """
        self.apply(SetHomingTarget(projectile=projectile, entity=entity, server_time=server_time))

    def change_rules(self, rules: Rules) -> None:
        """Let other rules hold from the next recorded tick on; an event tells everybody the digests of its parts.

        Magazines, items and what is under way stay, cut down to what the new rules allow; what is in the air goes on
        as it was launched. Raises `RulesError` for rules that contradict themselves, and for what can't change while a
        match runs: rigs, rates, the length of the history, weapons and items that somebody has.
        """
        self.apply(ChangeRules(rules=rules))

    def report_server_result(self, connection: str, sequence: int, hits: Sequence[tuple[int, float]] = ()) -> None:
        """Say what your server made of a claim by itself: (victim, points of damage) for each that it hurt.

        It changes nothing and is kept in the recording, where `tinclock compare-server` holds it against the ruling.
        For games that try this out beside what they have (`match.mode = "shadow"`).
        """
        self.apply(
            ReportServerResult(connection, int(sequence), tuple((int(who), float(points)) for who, points in hits))
        )

    def record(self, tick: int, server_time: float, entities: Sequence[int] | NDArray[np.int64], bones: Poses) -> None:
        """Store the poses of one tick (see `PoseHistory.record`). The dead are left out: nobody hits a corpse.

        entities : (n,) int64; bones : (n, bones, 7) float, metres and quaternion xyzw, or one array a body.
        """
        self.apply(Record(tick=tick, server_time=server_time, entities=entities, bones=bones))

    def snapshot_sent(self, tick: int, sent_at: float | None = None) -> None:
        """This tick's snapshot was sent to the clients (at `sent_at`, by default its own server time)."""
        self.apply(SnapshotSent(tick=tick, sent_at=sent_at))

    def advance(self, server_time: float) -> list[Ruling]:
        """Let time pass up to a server time: held triggers fire at their own instants, lasting damage goes on.

        Call it once a tick, after `record`. Returns the rulings of the shots that were fired.
        """
        fired: list[Ruling] = self.apply(Advance(server_time=server_time))
        return fired

    def rule(self, connection: str, claim: Claim | object, *, received_at: float) -> Ruling:
        """Decide one claim that `connection` sent and the server received at a server time.

        `claim` may be anything a client can send: what is not a claim gets a rejected ruling. Raises only
        `BadNumberError` for a `received_at` that can't be seconds of a match.
        """
        ruling: Ruling = self.apply(Rule(connection, claim, received_at))
        return ruling

    def rule_many(self, claims: Iterable[tuple[str, Claim | object, float]] | ShotBatch) -> list[Ruling]:
        """Decide many claims, as if `rule` had been called for each in turn; one kernel call takes those that it can.

        claims : of each the connection, the claim, and the server time at which it was received; or `ShotBatch`

        Raises what `rule` raises, for the first of the times that can't be one, before anything is ruled.
        """
        many = claims.each() if isinstance(claims, ShotBatch) else claims
        return [self.rule(connection, claim, received_at=at) for connection, claim, at in many]

    def act(self, entity: int, claim: Claim | Fields, *, server_time: float) -> Ruling:
        """Let an entity that the server acts for (see `add_entity`) do something, by the same rules as a client's.

        The claim's sequence and actor are filled in, its view is the present. Raises `UnknownNameError` for an entity
        that a client acts for, `BadNumberError` for what is not a claim.
        """
        ruling: Ruling = self.apply(Act(entity=entity, claim=claim, server_time=server_time))
        return ruling
