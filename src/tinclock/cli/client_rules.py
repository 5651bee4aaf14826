"""`tinclock client-rules`: what a client build is given of a rules file."""

from __future__ import annotations

import json
from itertools import count
from pathlib import Path

import click

from tinclock.cli.reading import progress, told_plainly

EPILOG = """
\b
Examples:
  tinclock client-rules garden.toml
      to the screen
  tinclock client-rules garden.toml --out client.json
      into a file, for the client's build
  tinclock client-rules garden.toml --search build
      what a client's build holds that only the server should have
  tinclock client-rules garden.toml --compare client.json
      where a client's rules differ, down to the hitbox

\b
It holds what an honest client needs to draw and to predict (rates, rigs,
weapons in hand, flights, items) and a digest of each part, which the
client states when it joins. Allowances, limits, damage, and entries that have
for_clients = false, stay here.
"""


@click.command(epilog=EPILOG)
@click.argument("rules_file", metavar="RULES", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="File to write instead of printing.")
@click.option(
    "--search", type=click.Path(exists=True, file_okay=False, path_type=Path),
    help="Folder of a client's build to search for the server's names, keys and damage tables.",
)  # fmt: skip
@click.option(
    "--compare", type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Client's rules to compare with the server's.",
)  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="Results of --search and --compare as JSON.")
def client_rules(rules_file: Path, out: Path | None, search: Path | None, compare: Path | None, as_json: bool) -> None:
    """Write the part of a rules file that clients may know, or check a client's build against it."""
    import msgspec

    if search is not None or compare is not None:
        _check(rules_file, search, compare, as_json)
        return

    from tinclock.intake.rules_file import load_rules
    from tinclock.wire.bundled_rules import client_rules

    with told_plainly():
        text = msgspec.json.format(msgspec.json.encode(client_rules(load_rules(rules_file))), indent=2).decode()
    if out is None:
        click.echo(text)
        return
    try:
        out.write_text(text + "\n", encoding="utf-8")
    except OSError as error:
        raise click.ClickException(f"{out}: can't be written: {error.strerror}") from None


def _check(rules_file: Path, search: Path | None, compare: Path | None, as_json: bool) -> None:
    """Print what a client's build has of the server's, and where its rules differ; exits with 1 if anything is."""
    from rich.console import Console

    from tinclock.intake.client_build import client_differences, leaks_in
    from tinclock.intake.rules_file import load_rules

    with told_plainly():
        rules = load_rules(rules_file)
        differences = [] if compare is None else client_differences(rules, compare.read_bytes())
    leaks = []
    if search is not None:
        files = sum(path.is_file() for path in search.rglob("*"))
        done = count(1)
        with progress(Console(stderr=True), "searching") as show:
            leaks = list(leaks_in(search, rules, on_file=lambda _: show(next(done) / files)))
    if as_json:
        report = {"leaks": [one._asdict() for one in leaks], "differences": [one._asdict() for one in differences]}
        click.echo(json.dumps(report))
    else:
        for one in leaks:
            click.echo(f"{one.file}, byte {one.offset:,}: {one.what}")
        for other in differences:
            click.echo(f"{other.key}: client {_shown(other.client)}, server {_shown(other.server)}")
        if search is not None and not leaks:
            click.echo(f"{search}: nothing of the server's found")
        if compare is not None and not differences:
            click.echo(f"{compare}: the same as the server's")
    if leaks or differences:
        raise SystemExit(1)


def _shown(value: object) -> str:
    text = "has none" if value is None else json.dumps(value)
    return text if len(text) <= 60 else text[:57] + "..."
