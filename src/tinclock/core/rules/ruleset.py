"""The types of a rules file. Everything is in metres, seconds and points; angles in degrees only where the key says so.

These are plain frozen records: reading a TOML file into them, with every mistake reported by its key path, is
`tinclock.intake.rules_file`.
"""

from __future__ import annotations

from typing import Literal

from msgspec import field

from tinclock.core.findings import Action
from tinclock.core.rules.game import (
    CounterRules,
    GameFindingRules,
    LoadoutRules,
    PhaseRules,
    RegenerationRules,
    TeamRules,
)
from tinclock.core.rules.movement import MovementRules
from tinclock.core.rules.rigs import RigRules
from tinclock.core.rules.tables import Count, Name, NotNegative, Positive, Share, Table
from tinclock.core.rules.weapons import ItemRules, WeaponRules

Strictness = Literal["lenient", "standard", "strict"]


class ViewRules(Table, frozen=True, kw_only=True):
    """Bounds of the time between a shooter's view and the present."""

    max_rewind_s: NotNegative = 0.4
    """Nobody is rewound further. A claim with an older view is ruled at this age instead (adjusted)."""
    early_tolerance_s: NotNegative = 0.004
    """Time by which a view may be newer than physics allows before it is refused (clock resolution)."""
    late_tolerance_s: NotNegative = 0.060
    """Time by which a view may be older than delay, interpolation and jitter explain before it is flagged."""
    max_view_backstep_s: NotNegative = 0.050
    """Maximum time by which a view may be older than an earlier one before it is flagged."""
    jitter_factor: NotNegative = 4.0
    """Factor of the measured jitter by which a view may be older than a quiet line explains."""
    display_delay_tolerance_s: NotNegative = 0.003
    """Largest difference of a shot's view from its client's reported display delay, in seconds (default 0.003)."""
    max_send_delay_s: NotNegative = 0.06
    """Longest time in seconds that a client may collect messages before it sends them (default 0.06). The server
    measures how far apart a client's messages come and allows no more than that. A longer time lets slow senders choose
    older views; a shorter one moves the shots of clients that send rarely."""
    clock_mismatch_tolerance_s: NotNegative = 0.035
    """Largest difference in seconds, beyond the jitter, between the shortest delays that pongs and other messages show
    (default 0.035: a frame between a stamp and its sending). A smaller value accuses clients that stamp early."""


class MuzzleRules(Table, frozen=True, kw_only=True):
    """Bounds of a shot's start."""

    reach_m: Positive = 0.6
    """Farthest start of a shot from the shooter's eye, as the server has it (default 0.6)."""
    steady_m: Positive = 0.1
    """Farthest start of a shot beside the way of the shooter's eye (default 0.1). A larger value lets shots start round
    corners; a value shorter than a gun's barrel moves fair shots to the eye."""


class FireRateRules(Table, frozen=True, kw_only=True):
    """Tolerances that distinguish bursts of late packets from a weapon that fires too fast."""

    tolerance_s: NotNegative = 0.12
    """Total time by which shots may arrive before the weapon is ready: interval, reload, draw and charge together."""
    max_skipped: Count = 8
    """Maximum number of a weapon's shot numbers that may be skipped at once; each of them is spent."""


class MatchRules(Table, frozen=True, kw_only=True):
    """Rates and match-wide settings."""

    tick_rate_hz: Positive = 64.0
    """Settings for clients; the referee itself uses the server times that it is given."""
    snapshot_every: Count = 2
    """Ticks from one snapshot to the next."""
    history_s: Positive = 1.0
    """Length of the kept history; at least `view.max_rewind_s`."""
    health: Positive = 100.0
    """Points at the start of a life."""
    zone_depth_m: NotNegative = 0.0
    """Depth behind the first entry within which a higher zone priority still wins the hit."""
    mode: Literal["live", "shadow"] = "live"
    """Mode (default "live"). In "shadow" mode the referee rules, records and weighs claims, and applies nothing:
    for use beside a server that decides by itself."""
    phase: Name | None = None
    """Phase in which the match begins, one of `[phases]` (default: none, and everything is allowed)."""
    rejoin: Literal["restore", "new"] = "restore"
    """Account that comes back (default "restore"): it gets its entity, health, magazines, items and score again, and is
    dead if it left dead. With "new" it begins as a stranger, so that leaving heals."""
    second_connection: Literal["allow", "refuse", "take_over"] = "allow"
    """Second connection of an account that is playing (default "allow": it gets an entity of its own). "refuse" raises,
    "take_over" dismisses the first connection and continues with its entity."""
    publish_shots: bool = False
    """True: each committed shot and melee attack is an event with its start, ends and surfaces (default false). A
    shot of one ray takes about 170 bytes for each client, each further ray about 40."""


class DamageRules(Table, frozen=True, kw_only=True):
    """Damage between players."""

    friendly_fire: Literal["none", "scaled", "reflected"] = "none"
    """Damage between team-mates: none, a fraction of it, or that fraction to the shooter."""
    friendly_fraction: Share = 1.0
    """Fraction of the damage where friendly fire is scaled or reflected."""
    self_fraction: Share = 1.0
    """Share of its own damage (splash) that a shooter takes."""
    armour: NotNegative = 0.0
    """Armour points at the start of a life."""
    max_armour: NotNegative = 100.0
    """No item gives more."""
    armour_fraction: Share = 0.5
    """Share of the damage to covered zones that armour takes, point for point, while it lasts."""
    spawn_shield_s: NotNegative = 0.0
    """Invulnerability after a spawn; firing ends it."""
    trade_window_s: NotNegative = 0.0
    """For how long after a player's death its shots still count, if it fired them before it could know."""
    regeneration: RegenerationRules | None = None
    """Health and armour that return by themselves (default: none)."""


class ScoreRules(Table, frozen=True, kw_only=True):
    """Score rules."""

    kill: float = 100.0
    """Points, like the four below."""
    assist: float = 50.0
    """For damage to a victim of another player."""
    death: float = 0.0
    """For dying."""
    own_team_kill: float = -100.0
    """For killing a team-mate."""
    self_kill: float = -50.0
    """Also for a death that nobody caused."""
    assist_window_s: NotNegative = 10.0
    """Damage so long before a death counts for an assist."""
    min_assist_damage: NotNegative = 20.0
    """Points of damage that an assist needs."""
    credit_window_s: NotNegative = 5.0
    """A death by oneself or by nobody so long after somebody's damage is that one's kill."""
    keep_disconnected: bool = False
    """True if the row of one who left stays on the board."""
    leader: Literal["score", "kills"] = "score"
    """Column that decides who leads (default "score")."""


class StatusRules(Table, frozen=True, kw_only=True):
    """Tolerances for a client's report of its own state, beyond the difference that latency explains."""

    health_tolerance: NotNegative = 1.0
    """Points."""
    ammunition_tolerance: NotNegative = 2.0
    """Shots."""
    position_tolerance_m: NotNegative = 1.0
    """Beyond what a body can walk in a round trip."""


class Rules(Table, frozen=True, kw_only=True):
    """A whole rules file."""

    schema: Literal[2]
    """The version of this format."""
    strictness: Strictness = "standard"
    """Strictness towards clients: defaults for `actions` and allowances; see `rules.strictness`."""
    match: MatchRules = field(default_factory=MatchRules)
    view: ViewRules = field(default_factory=ViewRules)
    muzzle: MuzzleRules = field(default_factory=MuzzleRules)
    fire_rate: FireRateRules = field(default_factory=FireRateRules)
    damage: DamageRules = field(default_factory=DamageRules)
    score: ScoreRules = field(default_factory=ScoreRules)
    movement: MovementRules | None = None
    status: StatusRules = field(default_factory=StatusRules)
    rigs: dict[Name, RigRules]
    weapons: dict[Name, WeaponRules]
    items: dict[Name, ItemRules] = field(default_factory=dict)
    loadouts: dict[Name, LoadoutRules] = field(default_factory=dict)
    """Equipment of entities, by name: `admit`, a team or a rig names one."""
    teams: dict[Name, TeamRules] = field(default_factory=dict)
    """Settings of teams, by their names; a team needs none."""
    phases: dict[Name, PhaseRules] = field(default_factory=dict)
    """Phases of a match, by name, for `set_phase`."""
    counters: dict[Name, CounterRules] = field(default_factory=dict)
    """Numbers that the game keeps for each player, by name, for `set_counter`."""
    actions: dict[Name, Action] = field(default_factory=dict)
    """Action of a finding on its claim, by finding code, where it differs from the default."""
    game_findings: dict[Name, GameFindingRules] = field(default_factory=dict)
    """Findings of the game's own checks, by code, for `add_finding`."""

    def movement_of(self, rig: str) -> MovementRules | None:
        """Return the movement of a rig: its own, or the one of all; None where clients report no moves."""
        return self.rigs[rig].movement or self.movement
