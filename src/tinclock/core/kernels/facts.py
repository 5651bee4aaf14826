"""Facts that a compiled check reads, and the functions by which it reports.

A check is a function of `Facts` that returns the number of a finding, `NOTHING`, or `ASK`. It says what it measured by
`measured(f, MEASURE.fire_rate, waited, allowance)`, and what it found by
`return found(f, FINDING.fires_too_fast, early, allowance)`. The words are Python's: `ruling.checks`.
"""

from __future__ import annotations

from typing import Any, Final, NamedTuple

from numba import carray

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.dtypes import (
    MAX_FINDINGS,
    MAX_STEPS,
)
from tinclock.core.kernels.layout import HISTORY_FIELDS, LEVEL_FIELDS
from tinclock.core.kernels.memory import int64_at

NOTHING: Final = -1
ASK: Final = -2
"""Python has to look: what decides is rare, or isn't made of numbers."""


class Facts(NamedTuple):
    """Everything that a check may look at: the records of `dtypes`, and the history.

    now : when the claim came, server time in seconds
    limits : the rules' row with the movement of the actor's rig
    is_armed : whether the actor holds a weapon, with these rows
    moved, is_put : where the body was accepted to be, and whether it was; said : see `hearing`
    snapshots, ticks : pointers to the rows of `moments`, and how many there are
    column : the actor's in the history, -1 for none
    history, quantum : address of the pose history's header, and how poses are stored: see `stored_of`
    level, middle : address of the level's header, see `level_of`, and its middle
    bodies : address of the addresses of the rows of `BODY`, by column
    cuts : pointer to how often each column was cut, plus one
    scratch : address of the addresses of arrays that casts write into
    passable_rows : address of whether shots pass through the level's rows, int16; 0 where none does
    """

    claim: Any
    line: Any
    body: Any
    held: Any
    is_armed: Any
    weapon: Any
    moved: Any
    is_put: Any
    said: Any
    rules: Any
    limits: Any
    found: Any
    actions: Any
    now: Any
    snapshots: Any
    snapshot_count: Any
    ticks: Any
    tick_count: Any
    column: Any
    history: Any
    quantum: Any
    level: Any
    has_level: Any
    middle: Any
    bodies: Any
    passable_rows: Any
    scratch: Any
    cuts: Any


class MeasureNumbers(NamedTuple):
    """Measurements of compiled checks: each has the name of one of `ruling.checks.Measure`."""

    sequence: int
    fields: int
    form: int
    sender: int
    actor_alive: int
    actor_dead: int
    actor_absent: int
    phase: int
    dead_for: int
    seen_before_its_death_by: int
    weapon: int
    kind_of_weapon: int
    still_to_draw_for: int
    still_to_reload_for: int
    magazine: int
    fire_rate: int
    charge: int
    age_of_view: int
    view_undrawn: int
    view_unsent: int
    view_underived: int
    newest_snapshot: int
    snapshot_sent_after_admission: int
    since_the_snapshot_was_sent: int
    view_order: int
    display_delay: int
    explained: int
    display_delay_unreported: int
    restarts: int
    clock_mismatch: int
    muzzle: int
    muzzle_wall: int
    number_of_the_shot: int
    move: int
    push: int
    time_since_the_last_report: int
    leap: int
    way_over_ground: int
    way_upright: int
    change_of_velocity: int
    height: int
    wall_on_the_way: int
    accepted_way: int
    distance_from_vehicle: int


class FindingNumbers(NamedTuple):
    """Findings of compiled checks: each has the name of a code of `findings.FINDINGS`."""

    stale_sequence: int
    skipped_sequence: int
    direction_not_unit: int
    wrong_actor: int
    dead_actor: int
    not_in_phase: int
    actor_missing: int
    unknown_weapon: int
    weapon_not_held: int
    weapon_not_carried: int
    wrong_kind: int
    not_drawn: int
    reloading: int
    no_ammunition: int
    undercharged: int
    overcharged: int
    shots_skipped: int
    fires_too_fast: int
    muzzle_far: int
    muzzle_blocked: int
    view_unknown: int
    view_ahead: int
    view_late: int
    over_rewind_limit: int
    view_backstep: int
    view_inconsistent: int
    view_unexplained: int
    display_delay_unreported: int
    clock_inconsistent: int
    clock_mismatch: int
    moves_not_ruled: int
    input_too_long: int
    stale_move: int
    fast_clock: int
    teleport: int
    too_fast: int
    catching_up: int
    turns_too_sharply: int
    not_falling: int
    through_wall: int
    off_vehicle: int


MEASURE: Final = MeasureNumbers(*range(len(MeasureNumbers._fields)))
FINDING: Final = FindingNumbers(*range(len(FindingNumbers._fields)))
NO_NUMBER: Final = float("nan")
UNKNOWN_LATE_S, LATE_S = 0.5, 0.05
"""Time by which a client may apply the server's decisions late: on an unknown line, and beyond a known round trip."""


@inner
def late_on(line, rules):
    """Return how late a client may know of something that the server decides, seconds: by its round trip."""
    if line.samples == 0.0:
        return UNKNOWN_LATE_S
    return min(UNKNOWN_LATE_S, line.round_trip_s + rules.jitter_factor * line.jitter_s + LATE_S)


@inner
def stored_of(f):
    """The pose history as other kernels take it, see `poses`; opened where it is used: facts are handed on often."""
    return carray(int64_at(f.history), (HISTORY_FIELDS,)), f.quantum


@inner
def level_of(f):
    """The level's header as other kernels take it, see `triangles`."""
    return carray(int64_at(f.level), (LEVEL_FIELDS,))


@inner
def measured(f, what, observed, limit):
    """Take down a step: what was measured, against which limit, each in the measure's own unit."""
    place = int(f.found.steps)
    if place < MAX_STEPS:
        step = f.found.step_rows[place]
        step.what, step.observed, step.limit, step.verdict = what, observed, limit, 0.0
        f.found.steps = place + 1


@inner
def found(f, code, observed, limit, more=0.0):
    """Take down a finding, and return its number; `more` is what its words need besides. Units are the finding's."""
    place = int(f.found.findings)
    if place < MAX_FINDINGS:
        finding = f.found.finding_rows[place]
        finding.code, finding.observed, finding.limit, finding.more = code, observed, limit, more
        f.found.findings = place + 1
    return code
