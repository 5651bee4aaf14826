"""Options that the commands about cases share: paths of store and log, and the reviewer."""

from __future__ import annotations

import getpass
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.core.errors import EvidenceError

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.cases.evidence_log import EvidenceLog
    from tinclock.cases.store import CaseStore
    from tinclock.core.evidence.calibration_table import Calibration

LOG_WAIT_S = 60.0
"""Seconds that another command with the log open is waited for."""
STATE_STYLES = {"open": "yellow", "waiting": "cyan", "cleared": "green", "confirmed": "magenta"}

store_option = click.option(
    "--store", default="cases", show_default=True, envvar="TINCLOCK_CASES",
    help="Case store: a folder, or a URL such as postgresql+psycopg://user@host/name.",
)  # fmt: skip
log_option = click.option(
    "--log",
    "log_folder",
    type=click.Path(path_type=Path),
    help="The evidence log; default: `log` in the store's folder.",
)
calibration_option = click.option(
    "--calibration", "calibration_file", type=click.Path(path_type=Path), help="Your own calibration, see `calibrate`."
)
recordings_option = click.option(
    "--recordings",
    type=click.Path(path_type=Path),
    help="Folder of recordings that were moved since they were weighed.",
)


def store_at(
    address: str, on_case: Callable[..., None] | None = None, alpha: float | None = None, *, must_exist: bool = False,
    keep_notices: bool = False,
) -> CaseStore:  # fmt: skip
    """Open the case store at an address; a folder holds it as `cases.db`.

    must_exist : for commands that only read and decide; raises `EvidenceError` where there is no store
    """
    from tinclock.cases.store import ALPHA, CaseStore

    where = address if "://" in address else Path(address) / "cases.db"
    if must_exist and isinstance(where, Path) and not where.exists():
        raise EvidenceError(address, f"holds no case store; `tinclock weigh RECORDING --store {address}` makes one")
    store = CaseStore(where, alpha=ALPHA if alpha is None else alpha, on_case=on_case, keep_notices=keep_notices)
    _close_later(store)
    return store


def _close_later(opened: CaseStore | EvidenceLog) -> None:
    """Close it when the command ends, however it ends."""
    click.get_current_context().call_on_close(opened.close)


def log_folder_of(address: str, given: Path | None) -> Path:
    """Path of the evidence log."""
    if given is not None:
        return given
    return Path("evidence-log") if "://" in address else Path(address) / "log"


def log_at(address: str, given: Path | None, sync: Any = "each") -> EvidenceLog:
    """Open the evidence log for appending until the command ends."""
    log = log_for_now(address, given, sync)
    _close_later(log)
    return log


def log_for_now(address: str, given: Path | None, sync: Any) -> EvidenceLog:
    """Open the evidence log for appending; the caller closes it, since others wait for it."""
    from tinclock.cases.evidence_log import EvidenceLog

    log = EvidenceLog(log_folder_of(address, given), sync=sync, wait_s=LOG_WAIT_S)
    if log.set_aside is not None:
        click.echo(f"the log's end was torn; what was left of that record is in {log.set_aside}", err=True)
    return log


def calibration_at(file: Path | None) -> Calibration:
    """The calibration: the user's own or the built-in one."""
    from tinclock.intake.calibration_file import load_calibration

    return load_calibration(file)


def reviewer_option(command: Any) -> Any:
    """`--reviewer`, by default the user who is logged in."""
    return click.option("--reviewer", default=_user, help="Name of the reviewer (default: your login name).")(command)


def _user() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError):  # no such user: a container without names
        return ""


def when(at: float) -> str:
    """A unix time for people."""
    return time.strftime("%Y-%m-%d %H:%M", time.gmtime(at))


def table(*names: str, right: tuple[str, ...] = ()) -> Any:
    """An empty table without lines, whose numbers are never cut: words wrap where there is no room."""
    from rich.table import Table

    out = Table(box=None, pad_edge=False, header_style="bold")
    for name in names:
        out.add_column(name, justify="right" if name in right else "left", no_wrap=name in right, overflow="fold")
    return out
