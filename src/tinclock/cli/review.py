"""`tinclock review`: a local web application to look at matches and to work through cases."""

from __future__ import annotations

import os
import threading
import webbrowser
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.case_options import _user, calibration_at, calibration_option, log_folder_of, log_option, store_at
from tinclock.cli.notices import notifier, notify_options
from tinclock.cli.reading import level_from, level_option, say, told_plainly

if TYPE_CHECKING:
    from tinclock.review.access import Reviewer

EPILOG = """
\b
Examples:
  tinclock review demo-output/sample
      look at one recording; the address is printed
  tinclock review matches --open
      all recordings below matches/, those under way included
  tinclock review matches --store cases
      besides, the desk for cases
  tinclock review matches --store cases --webhook https://game/cases
      and the game is told of each decision
  tinclock review matches --store cases --reviewers team.toml \\
      --host 0.0.0.0 --host-name desk.example
      for several people; put TLS before it

\b
A team's file names who may come in, with a token of at least
20 characters each, and whether they look or decide:
  [ada]
  role = "decide"
  token = "..."
"""


@click.command(epilog=EPILOG)
@click.argument("paths", metavar="[RECORDING|FOLDER]...", nargs=-1, type=click.Path(exists=True, path_type=Path))
@click.option("--store", envvar="TINCLOCK_CASES",
              help="Case store: a folder, or a URL such as postgresql+psycopg://user@host/name.")  # fmt: skip
@log_option
@calibration_option
@level_option
@click.option("--host", default="127.0.0.1", show_default=True,
              help="Address to listen on; any but this machine's own needs --reviewers.")  # fmt: skip
@click.option(
    "--port", default=7465, show_default=True, type=click.IntRange(0, 65535), help="Port number; 0 picks a free one."
)
@click.option("--host-name", "hosts", multiple=True, metavar="NAME", help="Further host name of the site.")
@click.option("--reviewers", "team", type=click.Path(exists=True, dir_okay=False, path_type=Path),
              help="TOML file with the reviewers and their tokens, see below.")  # fmt: skip
@click.option(
    "--reviewer", default=_user, help="Without --reviewers: your name in decisions (default: your login name)."
)
@click.option("--open", "open_it", is_flag=True, help="Open the site in a browser.")
@notify_options
def review(
    paths: tuple[Path, ...], store: str | None, log_folder: Path | None, calibration_file: Path | None,
    level_file: Path | None, host: str, port: int, hosts: tuple[str, ...], team: Path | None, reviewer: str,
    open_it: bool, **notices: object,
) -> None:  # fmt: skip
    """Start the review site, where a browser shows matches and cases. Live recordings are followed."""
    from tinclock.core.errors import MissingExtraError

    for path in paths:
        if path.is_file():
            raise click.UsageError(f"{path} is a file; give a recording's folder, or a folder that holds them")
    if not paths and not store:
        raise click.UsageError("give recordings, or a folder that holds them, or --store")
    if team is None and host not in ("127.0.0.1", "localhost", "::1"):
        raise click.UsageError(f"--host {host} lets other machines in: say who may, with --reviewers")
    with told_plainly():
        try:
            import uvicorn

            from tinclock.review.access import Sessions
            from tinclock.review.app import LOOPBACK, ReviewApp
            from tinclock.review.watched import WatchedMatches
        except ImportError:
            raise MissingExtraError("tinclock review", "starlette, uvicorn and jinja2", "review") from None
        sessions = Sessions(_reviewers(team, reviewer))
        inviter = _Inviter(sessions, host, team is None)
        with notifier(notices, meanwhile=True) as tell:
            app = ReviewApp(
                WatchedMatches(paths, level_from(level_file)), sessions,
                store=store_at(store, tell, keep_notices=True) if store else None,
                log_folder=log_folder_of(store, log_folder) if store else None,
                calibration=calibration_at(calibration_file) if calibration_file else None, hosts=(*LOOPBACK, *hosts,
                host), on_stranger=inviter.again,
            )  # fmt: skip
            if paths and not app.matches.found():
                say(f"no recording lies in {', '.join(map(str, paths))} yet; those written there later are shown")
            threading.Thread(target=_load, name="tinclock-kernels", daemon=True).start()
            server = uvicorn.Server(uvicorn.Config(app.asgi, host=host, port=port, log_level="warning",
                                                   server_header=False, timeout_graceful_shutdown=1))  # fmt: skip
            _serve(server, inviter, open_it)


def _serve(server: Any, inviter: _Inviter, open_it: bool) -> None:
    """Run until Ctrl-C or SIGTERM; the address is printed once the port is open."""
    startup = server.startup

    async def started(*args: Any, **options: Any) -> None:
        await startup(*args, **options)
        if server.started:
            inviter.port = server.servers[0].sockets[0].getsockname()[1]
            address = inviter.first()
            if open_it:
                threading.Thread(target=webbrowser.open, args=(address,), daemon=True).start()

    server.startup = started
    try:
        server.run()
    except SystemExit as error:
        if error.code:
            raise click.ClickException("can't listen there: is another one running? see --port") from None


class _Inviter:
    """Prints addresses by which a browser comes in, each good for once."""

    def __init__(self, sessions: Any, host: str, alone: bool) -> None:
        self._sessions, self._host, self._alone, self.port = sessions, host, alone, 0
        self._unused = ""

    def _base(self) -> str:
        host = "127.0.0.1" if self._host in ("0.0.0.0", "::") else self._host
        return f"http://{f'[{host}]' if ':' in host else host}:{self.port}"

    def first(self) -> str:
        """Print the address to open; returns it."""
        if not self._alone:
            say(f"review desk at {self._base()}/  (each reviewer comes in with a token)")
            return f"{self._base()}/"
        self._unused = self._sessions.invite(self._sessions.reviewers[0])
        address = f"{self._base()}/enter/{self._unused}"
        say(f"open {address}")
        say("this address lets one browser in, once; Ctrl-C ends the desk")
        return address

    def again(self) -> None:
        """A browser without a session asked: print another address, unless the last one is still unused."""
        if self._alone and not self._sessions.invited(self._unused):
            self._unused = self._sessions.invite(self._sessions.reviewers[0])
            say(f"another browser asked; to let it in, open {self._base()}/enter/{self._unused}")


def _load() -> None:
    """Load compiled kernels while the first page is read."""
    from tinclock.core.warming import warm_up

    warm_up()


def _reviewers(team: Path | None, reviewer: str) -> list[Reviewer]:
    import tomllib

    from tinclock.review.access import Reviewer

    if team is None:
        return [Reviewer(reviewer or os.environ.get("USER", "") or "reviewer", "decide")]
    try:
        tables = tomllib.loads(team.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise click.ClickException(f"{team}: can't be read: {error}") from None
    out: list[Reviewer] = []
    for name, table in tables.items():
        role, token = (table.get(key) for key in ("role", "token")) if isinstance(table, dict) else (None, None)
        if role not in ("read", "decide"):
            raise click.ClickException(f'{team}: [{name}] needs role = "read" or role = "decide"; it has {role!r}')
        if not isinstance(token, str) or len(token) < 20:
            raise click.ClickException(f"{team}: [{name}] needs a token of at least 20 characters")
        if token in [one.token for one in out]:
            raise click.ClickException(f"{team}: [{name}] has somebody else's token; each needs one of its own")
        out.append(Reviewer(name, role, token))
    if not out:
        raise click.ClickException(f"{team}: names nobody; see `tinclock review --help`")
    return out
