"""Fairness of a garden match, counted from its recording and the truth about it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.analysis.ruling_diff import diff_rulings
from tinclock.core.analysis.view_windows import Choices, ViewShoppingGain
from tinclock.core.plain import Fields
from tinclock.garden.fairness import CoverWatch, accepted_hits
from tinclock.intake.settings import with_setting, without_deaths
from tinclock.recordings.replaying import replay

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.geometry.level import Level
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling
    from tinclock.garden.fairness import Accepted, Covered
    from tinclock.garden.truth import Truth
    from tinclock.recordings.recording import Recording


def judge(
    source: Recording, truth: Truth, level: Level | None = None, cap: float | None = None,
    on_progress: Callable[[float], None] | None = None,
) -> Fields:  # fmt: skip
    """Rule again, by the recorded rules or with another cap and nobody dying, and count.

    cap : seconds, in place of the recorded max_rewind_s

    Returns `max_rewind_s`, and by quality of the line (and all together) what became of hits on screen (`shooters`)
    and how long after reaching cover victims were hit (`victims`); `flipped` is how many rulings differ from those that
    were recorded.
    """
    rules = source.require_header().rules
    if cap is not None:
        rules = without_deaths(with_setting(rules, "view.max_rewind_s", cap))
    watch = CoverWatch({viewer.entity: viewer for viewer in truth.viewers.values()})
    choices = Choices()

    def seen(referee: Referee, ruling: Ruling, claim: object) -> None:
        watch.hit(ruling)
        if cap is None:
            choices.take(referee, ruling, claim)

    found = replay(source, rules=rules, level=level, on_ruling=seen, on_tick=watch.look, on_progress=on_progress)
    steps = [step for flush in source.flushes for step in source.piece("rulings", flush)["call_number"].to_pylist()]
    change = diff_rulings(list(source.rulings()), steps, found.rulings, found.call_numbers)
    # who had died in the recorded timeline has no body to be ruled by, whatever the cap
    ignored = frozenset() if cap is None else frozenset({"dead_actor", "actor_missing"})
    shots = accepted_hits(found.rulings, truth.screens, truth.viewers, ignored)
    covered, gained = watch.covered(), _gained(choices, truth)
    return {
        "max_rewind_s": rules.view.max_rewind_s,
        "shooters": {name: {**_shooters(row), **gained.get(name, {})} for name, row in shots.items()},
        "victims": {name: _victims(row) for name, row in covered.items()},
        "flipped": len(change.flips),
    }


def _gained(choices: Choices, truth: Truth) -> dict[str, Fields]:
    """Return the further hits of honest players' shots, had their clients chosen the view, by quality and all."""
    rows: dict[str, ViewShoppingGain] = {}
    for connection, one in choices.gained.items():
        viewer = truth.viewers.get(connection)
        if viewer is not None and viewer.honest:
            for name in (viewer.quality, "all"):
                rows[name] = rows.get(name, ViewShoppingGain()).plus(one)
    return {name: {"choice": row._asdict(), "choice_adds": row.more_hits} for name, row in rows.items()}


def _shooters(row: Accepted) -> Fields:
    return {
        **row._asdict(),
        "fraction_counted": row.counted / row.hits if row.hits else None,
        "fraction_accepted": row.accepted / row.hits if row.hits else None,
        "fraction_accepted_inside": row.accepted_inside / row.inside if row.inside else None,
    }


def _victims(row: Covered) -> Fields:
    hit = len(row.seconds)
    after = sum(second > 0.0 for second in row.seconds)
    return {
        "hits": hit, "after_cover": after, "unseen": row.unseen,
        "median_s": row.at(0.5) if hit else None, "p95_s": row.at(0.95) if hit else None,
        "worst_s": row.at(1.0) if hit else None,
    }  # fmt: skip
