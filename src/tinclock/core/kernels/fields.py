"""Fields of the records that claims are checked against: one for each connection, body, weapon in hand and so on.

Each field is a float64 and is named once, here; `dtypes` makes structured dtypes of the classes. Whole numbers are
exact up to 2**53; a missing value is -1 or NaN, as the field says.
"""

from __future__ import annotations

from typing import NamedTuple


class LineFields(NamedTuple):
    """A connection: its admission, its claims, how it draws, its clock, and what it said of its lag. Seconds."""

    since: int
    """Server time of its admission."""
    is_servers: int
    """1: the line of an entity that the server acts for, which can't lie."""
    highest_sequence: int
    newest_view_time: int
    interpolation_delay_s: int
    shows_nearest: int
    """1: it shows the nearer of two snapshots; 0: it interpolates."""
    extrapolates: int
    extrapolate_s: int
    samples: int
    """Answers in its clock's window."""
    asked: int
    """Pings that it was sent."""
    answers: int
    offset_s: int
    round_trip_s: int
    min_round_trip_s: int
    jitter_s: int
    pong_at: int
    """Server time of the last answer, and how far apart answers come, on average over the last few."""
    pong_every_s: int
    pong_late_s: int
    """Seconds by which the last answer came later than that."""
    pong_trip: int
    """Of what pongs say of the trip up: the least, how many, the time between first and last, and where they lie."""
    pong_trips: int
    pong_span_s: int
    pong_ring: int
    claim_trip: int
    """The same of what other messages say."""
    claim_trips: int
    claim_span_s: int
    claim_ring: int
    lag_s: int
    """By the client's clock; NaN until it said enough."""
    told_age_s: int
    """Age of its views on the arrival of its fastest message of the last second."""
    buffer_s: int
    """Tracked: how much older than its shortest round trip its views are; NaN until its round trip is known."""
    tracked_at: int
    announced_s: int
    """Interpolation delay that counted at `announced_at`: a longer one counts little by little."""
    announced_at: int
    trip_before_s: int
    """Shortest round trip of the account's last connection, 0 for none."""
    heard_at: int
    """Server time of the last message, how far apart they usually come, and (`late_s`) how late they are on average."""
    gap_s: int
    uneven_s: int
    """Mean difference of the time between two messages from the usual one, by the server's clock."""
    late_s: int
    restarts: int
    """Number of times that its clock was set lately, and the server time of the last."""
    restarted_at: int
    still: int
    """Fraction of its messages, and of its shots, that show a screen without newer snapshots."""
    still_shots: int
    said_client_time: int
    """Of the newest message that said its lag: its stamp, what its screen showed, and when it came (-inf: none)."""
    said_view_time: int
    said_received_at: int
    said_sequence: int
    """Of the newest that is counted, while it counts for the lag: its sequence (0: none) and its stamp."""
    said_counted_at: int
    said_begin: int
    """Place of the oldest report that counts in the ring of reports, and the number of those that count."""
    said_count: int
    shortest_s: int
    """Bounds of its views, as last worked out."""
    latest_s: int
    back_s: int


class MovedFields(NamedTuple):
    """Accepted position of a body, for clients that report it. Metres, seconds."""

    x: int
    y: int
    z: int
    velocity_x: int
    """Of the body that keeps to the rules, over ground, on average over the last report."""
    velocity_y: int
    lead_x: int
    """Distance of the accepted position from the body that keeps to the rules."""
    lead_y: int
    lead_z: int
    spare_m: int
    """Rest of the allowance for turns."""
    extra_s: int
    """More than the last report said that its way took."""
    step_s: int
    """Duration of the last report's way."""
    was_put: int
    """1: the server put it there since its last report."""
    has_ground: int
    """1: the level has ground under the place where the server put it; 0: none, so it doesn't fall; NaN: unknown."""
    stands: int
    """1: something carries it."""
    rise_m_s: int
    """Off the ground: the fastest that it may rise."""
    reported_at: int
    """Server time of the last report, and how far apart they come, on average over the last few."""
    interval_s: int
    silence_s: int
    """Rest of the time for pauses of the line, and the part of the last ones that waits for delayed reports."""
    held_up_s: int
    too_early_s: int
    """Time that was cut off its reports lately."""
    owed_m: int
    """The way that it may still make up after a pause that its line doesn't explain."""
    client_time: int
    """Of the last report; NaN before the first."""
    clock_at: int
    """The server time that the client's reported time stands at."""
    past: int
    """Number of accepted positions so far; the last of them are in `places`."""


class BodyFields(NamedTuple):
    """An entity that takes part. Points, metres and seconds."""

    entity: int
    health: int
    armour: int
    alive: int
    shield_until: int
    """Server time until which nothing damages it, -inf for an entity that had no shield in this life; its amount."""
    shield_amount: int
    boost_until: int
    """The same of a factor of the damage that it does."""
    boost_factor: int
    rig: int
    """Number of its rig, by which `RULES.covers` has a row for it."""
    team: int
    """A number that its team has, 0 for none."""
    blocks_only: int
    passable: int
    """1: it only blocks, and shots that penetrate pass through it."""
    flies: int
    """1: it doesn't fall."""
    life_epoch: int
    """Number of its cuts when this life began."""
    dead: int
    """1: it died and has not begun another life."""
    died_at: int
    tenures: int
    """Number of changes of control."""
    has_eye: int
    eye_bone: int
    eye_x: int
    eye_y: int
    eye_z: int
    limits: int
    """Address of the rules' row with the movement of its rig."""
    speed_until: int
    """Server time until which its speed has this factor; when that began, and the factor before."""
    speed_factor: int
    speed_since: int
    speed_before: int
    free_until: int
    """Server time until which its client's reports of moves have no limits but time; `free_amount` means nothing."""
    free_amount: int
    push_x: int
    """Velocity that the server gave it, until a server time, and the way over ground that is left of it."""
    push_y: int
    push_z: int
    push_until: int
    push_m: int
    shots: int
    """Shots, launches and melee attacks that it committed; those that hurt a body; points given and taken."""
    hits: int
    given: int
    taken: int
    vehicle: int
    """Column of what it rides or rode lately, -1 for none."""
    rode_until: int
    """Server time until which it rode that: inf while it does, -inf when it never did."""
    limits_before: int
    """Address of the row of limits of its last stance, 0 for none, and when it took the present one."""
    stance_since: int


class HeldFields(NamedTuple):
    """A weapon as its owner carries it. Server times in seconds; magazine and reserve are -1 where they never end."""

    ready_at: int
    fired_at: int
    interval_s: int
    burst: int
    """Shots of a burst, 1 for none, and the pause after it."""
    pause_s: int
    fired: int
    """Shots of the burst at hand."""
    magazine: int
    reserve: int
    reload_ends: int
    reloaded_at: int
    drawn_at: int
    charging_from: int
    shots: int
    strange_shots: int


class WeaponFields(NamedTuple):
    """A weapon's numbers by the rules; magazine is -1 where it never ends."""

    kind: int
    range_m: int
    penetration: int
    encumbered: int
    is_plain: int
    """1: its shots go exactly where they are aimed."""
    magazine: int
    reload_interruptible: int
    charge_s: int
    min_charge_fraction: int
    reload_s: int
    reload_when_empty: int
    damage: int
    falloff: int
    """Address of the table of distances and factors, and how many rows it has."""
    falloff_count: int
    armour_piercing: int
    zones: int
    """Address of the factor of each part of every rig, by its row."""
    has_costs: int
    """1: firing it has a price or a condition."""
    is_usual: int
    """1: one ray that goes straight and does nothing but take health."""


class RulesFields(NamedTuple):
    """Numbers of the rules that checks need; seconds, metres."""

    max_rewind_s: int
    early_tolerance_s: int
    late_tolerance_s: int
    max_view_backstep_s: int
    jitter_factor: int
    display_delay_tolerance_s: int
    max_send_delay_s: int
    clock_mismatch_tolerance_s: int
    tick_rate_hz: int
    snapshot_every: int
    fire_rate_tolerance_s: int
    muzzle_reach_m: int
    muzzle_steady_m: int
    trade_window_s: int
    zone_depth_m: int
    spares_friends: int
    """1: team-mates do nothing to each other."""
    reflects: int
    """1: the shooter takes what it does to a team-mate."""
    friendly_fraction: int
    self_fraction: int
    armour_fraction: int
    covers: int
    """Address of whether a rig's armour covers a part: a row for each rig, of so many float64."""
    part_count: int
    weapons_closed: int
    """1: in this phase of the match weapons and items are rejected; likewise moves; and hits take no points."""
    moves_closed: int
    damage_closed: int
    applies: int
    """1: damage is applied; 0: it is worked out beside a server that applies its own."""
    has_movement: int
    """1: clients report their moves, by the numbers that follow."""
    speed_m_s: int
    up_m_s: int
    down_m_s: int
    acceleration_m_s2: int
    radius_m: int
    centre_up_m: int
    teleport_m: int
    tolerance_m: int
    rounding_m: int
    skin_m: int
    time_tolerance_s: int
    gravity_m_s2: int
    jump_m_s: int
    """Speed at which it leaves the ground."""
    step_m: int
    zones: int
    """Address of the boxes in which a body doesn't fall, six float64 each, and how many there are."""
    zone_count: int
    ride_reach_m: int


class ClaimFields(NamedTuple):
    """A claim as checks read it. NaN stands for what it doesn't say."""

    sequence: int
    actor: int
    received_at: int
    is_well_formed: int
    origin_x: int
    """Start of the ray; of a move report the end of the way."""
    origin_y: int
    origin_z: int
    direction_x: int
    direction_y: int
    direction_z: int
    has_view: int
    from_tick: int
    to_tick: int
    fraction: int
    client_time: int
    shot: int
    charge: int
    earliest: int
    """Between which stamps of its client it was made, by the messages around it; NaN: by the newest that came."""
    latest: int
    sender: int
    """Named actor: `OWN`, `LENT` (given to it, now or lately) or `FOREIGN`."""
    weapon: int
    """Named weapon: `IN_HAND`, `ANOTHER`, `UNHEARD_OF`, `NOT_CARRIED`."""
    holds_one: int
    """1: its actor has a weapon in hand."""
    push: int
    """Length of a move report's input."""
    on_vehicle: int
    """1: its start is where the view shows the vehicle that its actor rides."""


class FoundFields(NamedTuple):
    """Results of a claim's checks. Metres, seconds."""

    steps: int
    findings: int
    rejected: int
    place: int
    """Of the check that asks Python, or how many there are."""
    formed: int
    """1: it is known to be well formed."""
    sent: int
    """1: it is known who it is about."""
    armed: int
    """1: the weapon in hand is known."""
    from_tick: int
    """The view that it is ruled at; `view_time` is NaN until it is known."""
    to_tick: int
    fraction: int
    view_time: int
    from_slot: int
    to_slot: int
    named: int
    """1: the claim named a view that it isn't ruled at, which lies in the slots and at the fraction that follow."""
    named_from: int
    named_to: int
    named_fraction: int
    direction_x: int
    """Of unit length; NaN until it is known."""
    direction_y: int
    direction_z: int
    eye_x: int
    """The actor's; NaN until it is known."""
    eye_y: int
    eye_z: int
    posthumous: int
    charge: int
    starts_at_eye: int
    """1: a start that is forgiven isn't believed."""
    is_cast: int
    """1: the first thing in the way of its ray was looked for, as follows."""
    wall: int
    """Row of the level, -1 for none; how far, and which way it faces."""
    wall_m: int
    facing: int
    column: int
    """Column of the body that is hit, -1 for none; row of the part; distances at which the ray enters and leaves it."""
    part: int
    enter_m: int
    leave_m: int
    is_placed: int
    """1: where a move report leaves its body is known, as follows."""
    place_x: int
    place_y: int
    place_z: int
    seconds: int
    """That a move report may use, counted from this server time."""
    clock_from: int
    clock_until: int
    too_early_s: int
    extra_s: int
    """More than the report says that its way took; and what of a pause of the line waits for other reports."""
    held_up_s: int
    owed_m: int
    model_x: int
    """End of the way of the body that keeps to the rules, its speed over ground, and the spare way that it used."""
    model_y: int
    model_z: int
    model_vx: int
    model_vy: int
    spent_m: int
    has_ground: int
    """As in the body's own row; and whether something carried it before this report, and does after it."""
    stood: int
    stands: int
    rise_m_s: int
    pushed_x: int
    """Way of a move that a push of the server's explains, and the rise that it took from one."""
    pushed_y: int
    pushed_z: int
    leapt: int
    heard: int
    """1: what it says of its lag can be true; 2: and the ring that keeps such needs more room."""
    blocker: int
    """Obstacle of a muzzle or a body: a row of the level, or -2 less a column; -1 for none."""
    asked: int
    """1: Python was asked on the way, so that it commits the claim as well."""
    became: int
    """Result of a claim that the kernel committed or refused, see `committing`; 0 for one that is left to Python."""
    muzzle_m: int
    """Distance of the shot's start from the eye's way, and its limit."""
    muzzle_limit_m: int
    early_s: int
    """Seconds by which the weapon may fire before it is ready."""
    reached_m: int
    why: int
    """Reason for which a hit took nothing, see `damage`."""
    amount: int
    """Points, and the victim's health and armour, each before and after."""
    before: int
    after: int
    armour_before: int
    armour_after: int
    own_before: int
    """The same of the actor, for a reflected hit."""
    own_after: int
    own_armour_before: int
    own_armour_after: int
    shot: int
    """Its number; what is in the magazine and in reserve after it (-1: endless), and when the weapon fires again."""
    magazine: int
    reserve: int
    ready_in_s: int
    health: int
    """The actor's, and the highest sequence of its line."""
    armour: int
    last: int
    at_x: int
    """Accepted position; NaN where clients don't report it."""
    at_y: int
    at_z: int
