"""The types of a rules file. Everything is in metres, seconds and points; angles in degrees only where the key says so.

These are plain frozen records: reading a TOML file into them, with every mistake reported by its key path, is
`tinclock.intake.rules_file`.
"""

from __future__ import annotations

from typing import Literal

from msgspec import field

from tinclock.core.findings import Consequence
from tinclock.core.rules.rigs import RigRules
from tinclock.core.rules.tables import Count, Name, NotNegative, Point, Positive, Share, Table
from tinclock.core.rules.weapons import ItemRules, WeaponRules

Strictness = Literal["lenient", "standard", "strict"]


class ViewRules(Table, frozen=True, kw_only=True):
    """Bounds of the time between a shooter's view and the present."""

    max_rewind_s: NotNegative = 0.4
    """Nobody is rewound further. A claim with an older view is ruled at this age instead (amended)."""
    early_allowance_s: NotNegative = 0.004
    """Time by which a view may be newer than physics allows before it is refused (clock resolution)."""
    late_allowance_s: NotNegative = 0.060
    """Time by which a view may be older than round trip, interpolation delay and jitter explain before it is noted."""
    order_allowance_s: NotNegative = 0.050
    """Maximum time by which a view may be older than an earlier one before it is noted."""
    jitter_factor: NotNegative = 4.0
    """Factor of the measured jitter by which a view may be older than a quiet line explains."""
    lag_allowance_s: NotNegative = 0.003
    """Maximum difference of a shot's view from the lag that its client told in moves, reports or `seen` messages."""
    sends_every_s: NotNegative = 0.06
    """Longest time in seconds that a client may collect messages before it sends them (default 0.06). The server
    measures how far apart a client's messages come and allows no more than that. A longer time lets slow senders choose
    older views; a shorter one moves the shots of clients that send rarely."""
    two_faced_s: NotNegative = 0.035
    """Largest difference in seconds, beyond the jitter, between the shortest delays that pongs and other messages show
    (default 0.035: a frame between a stamp and its sending). A smaller value accuses clients that stamp early."""


class MuzzleRules(Table, frozen=True, kw_only=True):
    """Bounds of a shot's start."""

    reach_m: Positive = 0.6
    """Farthest start of a shot from the shooter's eye, as the server has it (default 0.6)."""
    steady_m: Positive = 0.1
    """Farthest start of a shot beside the way of the shooter's eye (default 0.1). A larger value lets shots start round
    corners; a value shorter than a gun's barrel moves fair shots to the eye."""


class CadenceRules(Table, frozen=True, kw_only=True):
    """Tolerances that distinguish bursts of late packets from a weapon that fires too fast."""

    allowance_s: NotNegative = 0.12
    """Total time by which shots may arrive before the weapon is ready: interval, reload, draw and charge together."""
    most_skipped: Count = 8
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
    enforce: Literal["yes", "no"] = "yes"
    """With "no" claims are ruled, recorded and weighed, but nothing is applied: beside a server that does so itself."""


class HarmRules(Table, frozen=True, kw_only=True):
    """Damage between players."""

    friendly_fire: Literal["none", "scaled", "reflected"] = "none"
    """Damage between team-mates: none, a fraction of it, or that fraction to the shooter."""
    friendly_share: Share = 1.0
    """Fraction of the damage where friendly fire is scaled or reflected."""
    self_share: Share = 1.0
    """Share of its own damage (splash) that a shooter takes."""
    armour: NotNegative = 0.0
    """Armour points at the start of a life."""
    most_armour: NotNegative = 100.0
    """No item gives more."""
    armour_share: Share = 0.5
    """Share of the damage to covered zones that armour takes, point for point, while it lasts."""
    spawn_shield_s: NotNegative = 0.0
    """Invulnerability after a spawn; firing ends it."""
    trade_window_s: NotNegative = 0.0
    """For how long after a player's death its shots still count, if it fired them before it could know."""


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
    assist_least: NotNegative = 20.0
    """Points of damage that an assist needs."""
    credit_window_s: NotNegative = 5.0
    """A death by oneself or by nobody so long after somebody's damage is that one's kill."""
    keep_leavers: bool = False
    """True if the row of one who left stays on the board."""


class ZoneRules(Table, frozen=True, kw_only=True):
    """An upright box."""

    low: Point
    """Its least corner."""
    high: Point
    """Its greatest corner."""


class MovementRules(Table, frozen=True, kw_only=True):
    """Limits of a body's movement, for servers whose clients report their position."""

    speed_m_s: Positive
    """Over ground."""
    up_m_s: Positive = 6.0
    """Jumping and climbing."""
    down_m_s: Positive = 30.0
    """Falling."""
    acceleration_m_s2: Positive = 80.0
    """Over ground. Slowing down is free: walls do that to everybody."""
    radius_m: Positive = 0.3
    """The ball that is swept against the level."""
    centre_up_m: NotNegative = 0.9
    """Height of that ball's middle above the reported position."""
    teleport_m: Positive = 3.0
    """A leap between two reports that no speed explains is refused as a whole from this length on."""
    allowance_m: NotNegative = 0.05
    """Spare way for turns that look too sharp, in total; walking refills it slowly (default 0.05)."""
    rounding_m: NotNegative = 0.002
    """Rounding of the places that clients report (default 0.002). A larger value lets bodies turn a little sooner."""
    skin_m: NotNegative = 0.02
    """Gap that clients keep to the ground, and depth to which a body may lean into a wall (default 0.02)."""
    time_allowance_s: NotNegative = 0.25
    """Largest lead of a client's time over the server's, as far as its line's jitter explains it (default 0.25)."""
    gravity_m_s2: NotNegative = 9.81
    """Gravity where the level has ground (default 9.81); 0: nothing falls."""
    jump_m: NotNegative | None = None
    """Height of a jump (default: as high as `up_m_s` carries a body)."""
    step_m: NotNegative = 0.4
    """Highest stair that a body walks up or down (default 0.4)."""
    free_zones: list[ZoneRules] = field(default_factory=list)
    """Ladders, lifts and water: boxes in which bodies don't fall."""


class StatusRules(Table, frozen=True, kw_only=True):
    """Tolerances for a client's report of its own state, beyond the difference that latency explains."""

    health_slack: NotNegative = 1.0
    """Points."""
    ammunition_slack: NotNegative = 2.0
    """Shots."""
    position_slack_m: NotNegative = 1.0
    """Beyond what a body can walk in a round trip."""


class Rules(Table, frozen=True, kw_only=True):
    """A whole rules file."""

    schema: Literal[1]
    """The version of this format."""
    strictness: Strictness = "standard"
    """Strictness towards clients: defaults for `consequences` and allowances; see `rules.strictness`."""
    match: MatchRules = field(default_factory=MatchRules)
    view: ViewRules = field(default_factory=ViewRules)
    muzzle: MuzzleRules = field(default_factory=MuzzleRules)
    cadence: CadenceRules = field(default_factory=CadenceRules)
    harm: HarmRules = field(default_factory=HarmRules)
    score: ScoreRules = field(default_factory=ScoreRules)
    movement: MovementRules | None = None
    status: StatusRules = field(default_factory=StatusRules)
    rigs: dict[Name, RigRules]
    weapons: dict[Name, WeaponRules]
    items: dict[Name, ItemRules] = field(default_factory=dict)
    consequences: dict[Name, Consequence] = field(default_factory=dict)
    """Action of a finding on its claim, by finding code, where it differs from the default."""
