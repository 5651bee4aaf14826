"""One batch from beginning to end: what is left to do is done, noted as it comes, and written as tables."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, NamedTuple

from tinclock.batch.journal import BatchJournal

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from pathlib import Path

    from tinclock.batch.jobs import Outcome, Task
    from tinclock.batch.pools import Pool


class BatchResult(NamedTuple):
    """Results of a batch.

    done, before : recordings that were done now, and those that had been done before
    broken : (recording, what is wrong with it)
    took_s : of the wall clock; worked_s : added up over all workers
    tables : the files that were written
    stopped : whether it was stopped before its end
    """

    done: int
    before: int
    broken: list[tuple[str, str]]
    took_s: float
    worked_s: float
    tables: list[Path]
    stopped: bool


def run_batch(
    folder: Path, task: Task, recordings: Sequence[Path], pool: Pool, *,
    on_outcome: Callable[[Outcome], None] | None = None, on_progress: Callable[[int, int], None] | None = None,
) -> BatchResult:  # fmt: skip
    """Do a task with each recording that it wasn't done with before, and write the tables.

    folder : of the journal and the tables; the same call goes on where an earlier one stopped
    recordings : resolved paths, see `recordings_in`
    on_outcome : called with each outcome before it is noted
    on_progress : called with how many of how many are done

    A batch that is stopped by hand (KeyboardInterrupt) writes what it has. Raises `BatchError` for the folder or the
    pool; what was done until then is kept.
    """
    journal, started = BatchJournal(folder, task), time.perf_counter()
    done, worked_s, stopped = 0, 0.0, False
    broken: list[tuple[str, str]] = []
    try:
        before = journal.done(recordings)
        left = [str(path) for path in recordings if path not in before]
        try:
            for outcome in pool.run(task, left):
                if on_outcome is not None and outcome.problem is None:
                    on_outcome(outcome)
                journal.note(outcome)
                done, worked_s = done + 1, worked_s + outcome.took_s
                if outcome.problem is not None:
                    broken.append((outcome.recording, outcome.problem))
                if on_progress is not None:
                    on_progress(len(before) + done, len(recordings))
        except KeyboardInterrupt:
            stopped = True
        took_s = time.perf_counter() - started
        return BatchResult(done, len(before), broken, took_s, worked_s, journal.write_tables(), stopped)
    finally:
        journal.close()
