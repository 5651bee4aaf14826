"""Work on one recording: rule it again, measure its fairness, or weigh it. Runs in any process."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import msgspec

from tinclock.batch.tables import COLUMNS
from tinclock.core.errors import TinClockError
from tinclock.core.evidence.calibration_table import Calibration
from tinclock.core.findings import Finding
from tinclock.core.plain import Fields
from tinclock.core.rules.ruleset import Rules
from tinclock.recordings.listing import BESIDE

if TYPE_CHECKING:
    from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.recording import Recording

Job = Literal["replay", "sweep", "fairness", "weigh"]
Rows = dict[str, list[Fields]]
SMALLEST_GAIN = 1.0
"""Gains of fewer decibans either way are not listed."""


class Task(msgspec.Struct, frozen=True, kw_only=True):
    """Task for each recording.

    rules : the rules to rule by; None: each recording's own
    settings : (key path, value) pairs that change them, or each recording's own
    no_deaths : nobody dies, on either side
    over : of a range, the key path of one setting and the values to try
    caps_s : besides the recorded one, values of max_rewind_s to ask fairness for
    level : the level file, for recordings that don't hold theirs
    calibration : of evidence; limit : decibans at which a case would open
    keep_course : hand back the whole evidence, for a case store
    """

    job: Job
    rules: Rules | None = None
    settings: tuple[tuple[str, Any], ...] = ()
    no_deaths: bool = False
    over: tuple[str, tuple[float, ...]] | None = None
    caps_s: tuple[float, ...] = ()
    level: str | None = None
    calibration: Calibration | None = None
    limit: float = 30.0
    keep_course: bool = False


class Weighed(NamedTuple):
    """The evidence of one match, for a case store."""

    timeline: EvidenceTimeline
    findings: list[tuple[int, Finding]]


class Outcome(NamedTuple):
    """Result of one recording. problem : the reason for none; crashed : True if the process died of it."""

    recording: str
    match: str = ""
    problem: str | None = None
    rows: Rows = {}  # noqa: RUF012
    took_s: float = 0.0
    weighed: Weighed | None = None
    crashed: bool = False
    identity: str = ""
    rulings: int = 0


def do(task: Task, path: str) -> Outcome:
    """Do it with one recording. What is wrong with the recording is in the outcome and never raises."""
    from tinclock.cases.weighed import match_identity, match_name, rulings_in
    from tinclock.recordings.recording import Recording

    started = time.perf_counter()
    try:
        recording = Recording(path)
        recording.require_header()
        rows, weighed = _JOBS[task.job](task, recording)
        match = match_name(recording)
        identity, rulings = match_identity(recording), rulings_in(recording)
    except (TinClockError, OSError) as error:
        return Outcome(path, problem=str(error), took_s=time.perf_counter() - started)
    for table in rows.values():
        for row in table:
            row["recording"] = path
    return Outcome(path, match, None, rows, time.perf_counter() - started, weighed, False, identity, rulings)


def _level(task: Task) -> Level | None:
    from tinclock.intake.level_file import load_level

    return None if task.level is None else load_level(task.level)


def _rules(task: Task, recording: Recording) -> Rules:
    from tinclock.intake.settings import with_setting

    rules = recording.require_header().rules if task.rules is None else task.rules
    for key, value in task.settings:
        rules = with_setting(rules, key, value)
    return rules


def _replay(task: Task, recording: Recording) -> tuple[Rows, None]:
    from tinclock.core.analysis.ruling_diff import diff_rulings
    from tinclock.core.analysis.tally import tally
    from tinclock.intake.settings import without_deaths
    from tinclock.recordings.replaying import replay

    rules, level = _rules(task, recording), _level(task)
    if task.no_deaths:
        mortal = recording.require_header().rules
        first = replay(recording, rules=without_deaths(mortal), level=level)
        before, steps, rules = first.rulings, first.call_numbers, without_deaths(rules)
    else:
        before = list(recording.rulings())
        steps = [s for flush in recording.flushes for s in recording.piece("rulings", flush)["call_number"].to_pylist()]
    found = replay(recording, rules=rules, level=level)
    change = diff_rulings(before, steps, found.rulings, found.call_numbers)
    outcomes = tally(found.rulings)["outcomes"]
    row = {
        "rulings": len(found.rulings), **outcomes, "damage": sum(ruling.damage for ruling in found.rulings),
        "kills": sum(event.kind == "death" for event in found.events), "flipped": len(change.flips),
        "refused_calls": len(found.refused), "as_recorded": found.as_recorded, "ticks": found.ticks,
        "seconds": found.seconds, "rulings_sha256": found.sha256,
    }  # fmt: skip
    return {"replay": [row], "flips": [_flip(flip.call_number, flip.before, flip.after) for flip in change.flips]}, None


def _sweep(task: Task, recording: Recording) -> tuple[Rows, None]:
    from tinclock.intake.settings import setting_of, with_setting, without_deaths
    from tinclock.recordings.sweeps import replay_sweep

    assert task.over is not None
    (key, values), rules = task.over, _rules(task, recording)
    tried = [with_setting(rules, key, value) for value in values]
    against = None
    if task.no_deaths:
        tried, against = [without_deaths(one) for one in tried], without_deaths(recording.require_header().rules)
    found = replay_sweep(recording, tried, against=against, level=_level(task))
    recorded = setting_of(rules, key)
    same = {"setting": key, "recorded": recorded if isinstance(recorded, (int, float)) else None}
    return {"sweep": [same | {"value": value} | one._asdict() for value, one in zip(values, found, strict=True)]}, None


def _flip(step: int, before: Ruling | None, after: Ruling | None) -> Fields:
    one = before or after
    return {
        "call_number": step, "ruling": None if before is None else before.number,
        "account": "" if one is None else one.account, "kind": "" if one is None else one.kind,
        "server_time": None if one is None else one.received_at,
        "before": None if before is None else before.outcome, "after": None if after is None else after.outcome,
        "damage_before": None if before is None else before.damage,
        "damage_after": None if after is None else after.damage, "why_before": _why(before), "why_after": _why(after),
    }  # fmt: skip


def _why(ruling: Ruling | None) -> str | None:
    return ruling.findings[0].code if ruling is not None and ruling.findings else None


def _fairness(task: Task, recording: Recording) -> tuple[Rows, None]:
    from tinclock.garden.judged import judge
    from tinclock.garden.truth import read_truth
    from tinclock.recordings.claimed import claimed_hits

    rows = Rows(shooters=[], victims=[])
    rows["claimed"] = [
        {"connection_quality": line, **found.as_dict()} for line, found in claimed_hits(recording).items()
    ]
    beside = recording.path.with_name(recording.path.name + BESIDE)
    if not beside.exists():
        return rows, None
    truth, level = read_truth(beside), _level(task)
    for cap in (None, *task.caps_s):
        found = judge(recording, truth, level, cap)
        for name in ("shooters", "victims"):
            for line, told in found[name].items():
                row = {"max_rewind_s": found["max_rewind_s"], "connection_quality": line, **told}
                rows[name].append({key: value for key, value in row.items() if key in COLUMNS[name]})
    return rows, None


def _weigh(task: Task, recording: Recording) -> tuple[Rows, Weighed | None]:
    from tinclock.cases.weighed import account_row, match_name
    from tinclock.core.evidence.evidence_timeline import MatchEvaluator, threshold_reached
    from tinclock.intake.calibration_file import load_calibration
    from tinclock.recordings.observed import observed_in

    calibration, match = task.calibration or load_calibration(), match_name(recording)
    weighing, findings = MatchEvaluator(calibration, recording.require_header().rules), list[tuple[int, Finding]]()
    for seen in observed_in(recording, _level(task)):
        weighing.add(seen)
        findings += seen.findings
    timeline, accounts = weighing.finished(), []
    for account in sorted(timeline.stages):
        row = account_row(timeline, account, calibration)
        first = next(iter(row.pop("kinds")), {"kind": None, "decibans": None})
        at = threshold_reached(timeline.points(account, calibration.kinds()), task.limit)
        told = {"strongest": first["kind"], "strongest_decibans": first["decibans"], "threshold_at_s": at}
        accounts.append({"match": match, "account": account, **row, **told})
    gains = [
        {"match": match, "account": g.account, "server_time": g.server_time, "kind": g.kind, "decibans": g.decibans}
        for g in timeline.gains
        if abs(g.decibans) >= SMALLEST_GAIN
    ]
    return {"accounts": accounts, "gains": gains}, Weighed(timeline, findings) if task.keep_course else None


_JOBS: Fields = {"replay": _replay, "sweep": _sweep, "fairness": _fairness, "weigh": _weigh}
