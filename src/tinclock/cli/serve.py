"""`tinclock serve`: the referee as a process beside a game's server in any language."""

from __future__ import annotations

import gc
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.reading import told_plainly

if TYPE_CHECKING:
    from collections.abc import Callable

FRONTLESS_S = 0.5
FOLLOWER_S = 60.0
"""Timeout for weighing the last recorded part."""
NEW_OBJECTS = 10_000
"""After so many new objects Python looks for circles among them: a tick's claims make hundreds, and no circles."""

EPILOG = """
\b
Examples:
  tinclock serve
      a WebSocket on 127.0.0.1:7464
  tinclock serve --unix referee.sock
      a Unix socket instead
  tinclock serve --record matches
      besides, record every match under matches/; after a kill, the same
      command goes on with those that were open
  tinclock serve --record matches --workers 4
      four processes behind the address, a quarter of the matches each
  tinclock serve --evidence evidence
      and chain every finding before its receipt goes out
  tinclock serve --record matches --cases cases
      besides, weigh matches while they go on
  TINCLOCK_TOKEN=secret tinclock serve --host 0.0.0.0
      askers must send Authorization: Bearer secret
  tinclock serve --origin https://tools.example
      let pages of this origin ask; all others are refused

\b
GET /metrics is for Prometheus, GET /health says ok. On SIGTERM the service
answers the requests under way and exits; recorded matches continue in the
next process on the same folder (--at-sigterm). The requests are described
in docs/serving.md.
"""


@click.command(epilog=EPILOG)
@click.option(
    "--host",
    default="127.0.0.1",
    show_default=True,
    help="Address to listen on; any but this machine's own needs a token.",
)
@click.option(
    "--port", default=7464, show_default=True, type=click.IntRange(0, 65535), help="Port number; 0 picks a free one."
)
@click.option("--unix", type=click.Path(path_type=Path), help="Listen on this Unix socket instead.")
@click.option("--token-file", type=click.Path(exists=True, dir_okay=False, path_type=Path),
              help="File with the token (default: the environment variable TINCLOCK_TOKEN).")  # fmt: skip
@click.option(
    "--record", type=click.Path(file_okay=False, path_type=Path), help="Folder for recordings of all matches."
)
@click.option("--evidence", type=click.Path(file_okay=False, path_type=Path), help="Folder of the evidence log.")
@click.option("--store", metavar="STORE", help="Case store: weigh matches while they are recorded.")
@click.option("--origin", "origins", multiple=True, metavar="URL", help="Origin of web pages that may connect.")
@click.option("--host-name", "hosts", multiple=True, metavar="NAME", help="Further host name of the service.")
@click.option("--workers", default=1, show_default=True, type=click.IntRange(1, 64),
              help="Number of processes; each match stays with one.")  # fmt: skip
@click.option("--checkpoint-interval", "checkpoint_s", default=10.0, show_default=True, type=click.FloatRange(0.1, 1e6),
              help="With --record: seconds between checkpoints, replayed after a crash.")  # fmt: skip
@click.option("--share", hidden=True, help="Of a worker: its number and how many there are, 0/2.")
@click.option("--idle-timeout", "abandoned_s", default=300.0, show_default=True, type=click.FloatRange(0.1, 1e6),
              help="Seconds without a client until a match is closed.")  # fmt: skip
@click.option("--at-sigterm", default="keep", show_default=True, type=click.Choice(["keep", "drain", "close"]),
              help="On SIGTERM: keep matches for the next process, wait for their end, or end them.")  # fmt: skip
@click.option("--drain", "drain_s", default=3600.0, show_default=True, type=click.FloatRange(0.0, 1e6),
              help="With --at-sigterm drain: longest wait in seconds; then matches are kept.")  # fmt: skip
def serve(
    host: str, port: int, unix: Path | None, token_file: Path | None, record: Path | None, evidence: Path | None,
    store: str | None, origins: tuple[str, ...], hosts: tuple[str, ...], workers: int, share: str | None,
    checkpoint_s: float, abandoned_s: float, at_sigterm: str, drain_s: float,
) -> None:  # fmt: skip
    """Run the service for servers in other languages, on a local WebSocket or a Unix socket."""
    from tinclock.cases.evidence_log import EvidenceLog
    from tinclock.cli.compiling import warm_up_beside
    from tinclock.core.errors import MissingExtraError
    from tinclock.serve.app import Service, Settings, run_on_loop
    from tinclock.serve.hub import Hub
    from tinclock.serve.log import LogLines
    from tinclock.serve.owning import Owner
    from tinclock.serve.workers import Front

    if store is not None and record is None:
        raise click.UsageError("--store weighs what is recorded: say where with --record")
    token = token_file.read_text(encoding="utf-8").strip() if token_file else os.environ.get("TINCLOCK_TOKEN", "")
    if token_file and not token:
        raise click.ClickException(f"{token_file}: is empty; a token belongs in it")
    with told_plainly():
        try:
            import structlog
        except ImportError:
            raise MissingExtraError("tinclock serve", "structlog", "serve") from None
        lines = LogLines(sys.stdout.fileno())
        structlog.configure(
            processors=[structlog.processors.TimeStamper(fmt="iso"), structlog.processors.JSONRenderer()],
            logger_factory=lambda *_: lines,
        )
        logger: Any = structlog.get_logger()

        owner = None if record is None or share is not None else Owner(record)
        if share is not None:
            threading.Thread(target=_end_with_front, daemon=True).start()
        log = None if evidence is None or workers > 1 else EvidenceLog(evidence)
        if workers == 1:  # a front rules nothing
            warm_up_beside(lambda name, done, of: logger.info("loading kernels", step=name, done=done, of=of))
        gc.collect()
        gc.freeze()  # what compiled kernels bring along lives as long as the process: nothing to look through again
        gc.set_threshold(NEW_OBJECTS)

        async def run() -> None:
            ends: Any = at_sigterm
            settings = Settings(host, port, unix, token, origins, hosts, abandoned_s, ends, drain_s)
            if workers > 1:
                own = ["--idle-timeout", str(abandoned_s), "--checkpoint-interval", str(checkpoint_s)]
                own += ["--at-sigterm", at_sigterm, "--drain", str(drain_s)]
                own += ["--record", str(record)] if record else []
                each = _evidence_of(evidence)
                return await Front(workers, settings, own, each, logger.info, owner).run()
            hub = Hub(record, log, checkpoint_s=checkpoint_s)
            for name, problem in hub.go_on(_mine(share)):  # those of a service that was killed
                logger.info("brought back" if not problem else "not brought back", match=name, problem=problem)
            return await Service(hub, settings, logger.info).run()

        follower = None if store is None or record is None else _follower(record, store)
        try:
            run_on_loop(run())
        except OSError as error:
            raise click.ClickException(f"can't listen there: {error}") from None
        finally:
            if log is not None:
                log.close()
            if follower is not None:
                _ended(follower, logger.info)
            if owner is not None:
                owner.close()
            lines.close()


def _end_with_front() -> None:
    """Wait until the process that started this worker is gone, however it ended, then end in good order."""
    while os.read(0, 4096):  # not `sys.stdin`, whose lock this thread would hold when the interpreter ends
        pass
    while True:  # a second one ends a worker that drains
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(FRONTLESS_S)


def _mine(share: str | None) -> Callable[[str], bool]:
    """Return the matches of this process."""
    from tinclock.serve.workers import worker_of

    if share is None:
        return bool
    number, of = (int(part) for part in share.split("/"))
    return lambda match: worker_of(match, of) == number


def _evidence_of(evidence: Path | None) -> Callable[[int], list[str]]:
    """The options for each worker's own log: a log has one writer."""
    return lambda number: [] if evidence is None else ["--evidence", str(evidence / f"worker-{number}")]


def _follower(record: Path, store: str) -> subprocess.Popen[bytes]:
    """A process of its own that weighs: ruling isn't slowed down by it, and doesn't fall with it."""
    record.mkdir(parents=True, exist_ok=True)
    command = [sys.executable, "-m", "tinclock", "watch", str(record), "--store", store]
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGTERM})  # until it knows what to do about one
    try:
        return subprocess.Popen(command, stdout=sys.stderr)  # standard output is the service's own log
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _ended(follower: subprocess.Popen[bytes], log: Callable[..., None]) -> None:
    if follower.poll() is not None:
        log("weighing had ended before", code=follower.returncode)
        return
    follower.terminate()  # it takes in what was closed, and ends
    try:
        follower.wait(FOLLOWER_S)
    except subprocess.TimeoutExpired:
        follower.kill()
        log("weighing didn't end in time", seconds=FOLLOWER_S)
