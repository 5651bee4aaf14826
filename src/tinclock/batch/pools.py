"""Executors of a batch: processes on this machine, or the workers of a Dask cluster.

Both hand outcomes back as they come. A worker that dies takes nothing with it: what it was at is done again elsewhere,
and a recording that keeps killing workers is reported like any other broken one.
"""

from __future__ import annotations

import multiprocessing
import os
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from importlib.metadata import version
from itertools import islice
from typing import TYPE_CHECKING, Any, Protocol

from tinclock.batch.jobs import Outcome, do
from tinclock.core.errors import BatchError, MissingExtraError
from tinclock.recordings.no_pandas import without_pandas

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from tinclock.batch.jobs import Task

WORKER_WAIT_S = 30.0
AHEAD = 2
"""Number of recordings handed out per core: enough that none waits, few enough that little is done twice."""


class Pool(Protocol):
    """Executor of the work."""

    @property
    def workers(self) -> int:
        """Number of cores that do the work."""
        ...

    def run(self, task: Task, paths: Sequence[str]) -> Iterator[Outcome]:
        """Yield the result of each recording, as they are done."""
        ...

    def close(self) -> None:
        """Let the workers go."""
        ...


class LocalPool:
    """Processes on this machine, by default one for each core that this process may use."""

    def __init__(self, workers: int | None = None) -> None:
        self._workers = workers or _cores()

    @property
    def workers(self) -> int:
        """See `Pool`."""
        return self._workers

    def run(self, task: Task, paths: Sequence[str]) -> Iterator[Outcome]:
        """See `Pool`. When a process dies, the recordings under way are tried once more, each by itself."""
        waiting = list(reversed(paths))
        while waiting:
            suspects: list[str] = []
            yield from self._until_a_death(task, waiting, suspects)
            for path in suspects:
                yield self._alone(task, path)

    def _until_a_death(self, task: Task, waiting: list[str], suspects: list[str]) -> Iterator[Outcome]:
        others = set(multiprocessing.active_children())
        context = multiprocessing.get_context("spawn")  # a fork would share the state of compiled kernels' threads
        with ProcessPoolExecutor(self.workers, mp_context=context, initializer=without_pandas) as executor:
            flying: dict[Future[Outcome], str] = {}
            try:
                while waiting or flying:
                    while waiting and len(flying) < AHEAD * self.workers:
                        flying[executor.submit(do, task, waiting[-1])] = waiting[-1]
                        waiting.pop()
                    for future in wait(flying, return_when=FIRST_COMPLETED).done:
                        error = future.exception()
                        if isinstance(error, BrokenProcessPool):
                            raise error
                        path = flying.pop(future)
                        yield future.result() if error is None else crashed(path, error)
            except BrokenProcessPool:
                suspects += flying.values()
            except BaseException:  # closed early or stopped by hand: what is under way isn't waited for
                executor.shutdown(wait=False, cancel_futures=True)
                for process in set(multiprocessing.active_children()) - others:
                    process.terminate()
                raise

    def _alone(self, task: Task, path: str) -> Outcome:
        context = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(1, mp_context=context, initializer=without_pandas) as executor:
            future = executor.submit(do, task, path)
            error = future.exception()
            return future.result() if error is None else crashed(path, error)

    def close(self) -> None:
        """See `Pool`."""


class ClusterPool:
    """The workers of a Dask cluster, as they come and go. All must reach the recordings under the same paths.

    Raises `BatchError` for an address where no scheduler or no worker is, or workers of another version;
    `MissingExtraError` without dask.distributed.
    """

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError:
            raise MissingExtraError("--scheduler", "dask.distributed", "cluster") from None
        self.address = address
        try:
            self._client = Client(address, timeout=WORKER_WAIT_S, set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise BatchError(address, f"no scheduler answers there: {error}") from None
        try:
            self._client.wait_for_workers(1, timeout=WORKER_WAIT_S)
        except TimeoutError:
            self.close()
            raise BatchError(address, f"the scheduler has had no worker for {WORKER_WAIT_S:.0f} s") from None
        self._same_version()

    @property
    def workers(self) -> int:
        """Cores of all workers there are now."""
        cores: int = sum(self._client.nthreads().values())
        return max(cores, 1)

    def _same_version(self) -> None:
        try:
            versions = self._client.run(_version)
        except Exception as error:  # whatever a worker without this package raises arrives here
            self.close()
            raise BatchError(self.address, f"a worker can't load tinclock: {error}") from None
        other = sorted({one for one in versions.values() if one != _version()})
        if other:
            self.close()
            raise BatchError(self.address, f"workers have tinclock {', '.join(other)}; here it is {_version()}")

    def run(self, task: Task, paths: Sequence[str]) -> Iterator[Outcome]:
        """See `Pool`."""
        from distributed import as_completed

        waiting, names = iter(paths), dict[str, str]()

        def submit(path: str) -> Any:
            future = self._client.submit(do, task, path, pure=False, retries=0)
            names[future.key] = path
            return future

        first = [submit(path) for path in islice(waiting, AHEAD * self.workers)]
        flying = as_completed(first, loop=self._client.loop)
        for future in flying:
            path = names.pop(future.key)
            if future.status in ("cancelled", "lost"):
                raise BatchError(self.address, "the scheduler is gone; the same command goes on where this one stopped")
            yield future.result() if future.status == "finished" else crashed(path, future.exception())
            for fresh in islice(waiting, max(AHEAD * self.workers - len(names), 0)):
                flying.add(submit(fresh))

    def close(self) -> None:
        """See `Pool`."""
        self._client.close()


def _cores() -> int:
    """Return the number of cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def _version() -> str:
    return version("tinclock")


def crashed(path: str, error: BaseException | None) -> Outcome:
    """A recording that a process died of, or at which something raised that no broken recording should raise."""
    what = f"{type(error).__name__}: {error}".splitlines()[0]
    return Outcome(path, problem=f"{path}: the process that read it failed: {what}", crashed=True)
