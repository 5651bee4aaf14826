"""`tinclock new`: a small working project to begin from."""

from __future__ import annotations

import json
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path

import click

from tinclock.cli.reading import console_for, json_option

EPILOG = """
\b
Examples:
  tinclock new arena
      then: cd arena; python -m pytest -q; python server.py; and
      beside it python client.py
  tinclock new arena --server typescript
      the loop in TypeScript besides, with `tinclock serve` beside it
  tinclock new . --json
      into a folder that is there, as long as it holds none of the files

\b
What it writes: rules and a rig, a level, a match without sockets, a UDP
server around it, a client to play, a test that plays it.
"""
TYPESCRIPT = "server.ts"
NAMES = ("README.md", "arena.py", "client.py", "level.toml", "rules.toml", "server.py", "test_arena.py")


@click.command(epilog=EPILOG)
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@click.option("--server", type=click.Choice(["python", "typescript"]), default="python", show_default=True,
              help="Language of the server loop; typescript uses `tinclock serve`.")  # fmt: skip
@json_option
def new(folder: Path, server: str, as_json: bool) -> None:
    """Create a small working project: rules, a rig, a level, a server loop, a client and a test."""
    names = NAMES if server == "python" else (*NAMES, TYPESCRIPT)
    there = [name for name in names if (folder / name).exists()]
    if there:
        raise click.ClickException(f"{folder}: holds {', '.join(there)} already; nothing was written")
    source = files("tinclock.cli") / "starter"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in names:
            (folder / name).write_bytes((source / name).read_bytes())
    except OSError as error:
        raise click.ClickException(f"{folder}: can't be written: {error.strerror}") from None
    if as_json:
        click.echo(json.dumps({"folder": str(folder), "files": list(names)}, indent=2))
        return
    console = console_for(False)
    console.print(f"{folder}: {', '.join(names)}", highlight=False, soft_wrap=True)
    tests = "python -m pytest -q"
    if find_spec("pytest") is None:
        tests = f"pip install 'tinclock[testing]'; {tests}"
    loop = "python server.py" if server == "python" else f"tinclock serve & node {TYPESCRIPT}"
    console.print(f"next: cd {folder}; {tests}; {loop} & python client.py", highlight=False, soft_wrap=True)
