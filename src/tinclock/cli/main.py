"""The `tinclock` command. Each subcommand's module loads when it is called, so that --help stays quick."""

from __future__ import annotations

from importlib import import_module

import click

import tinclock

GROUPS = {
    "Try": ("demo", "play"),
    "Author": ("new", "check", "rig", "level", "client-bundle"),
    "Match": ("serve",),
    "Ask": ("contents", "explain", "rerule", "compare", "fairness", "batch", "rule-logs"),
    "Review": ("review", "doctor", "weigh", "follow", "cases", "calibrate", "detection"),
}
"""The commands by what one wants, in the order of a project's life."""

COMMANDS = {
    "demo": ("tinclock.cli.demo", "demo", "Play the garden match, rule it, and show what was decided and why."),
    "play": ("tinclock.cli.play", "play", "Play a garden match into a recording."),
    "new": ("tinclock.cli.new", "new", "Write a small working project: rules, a server loop, a client, a test."),
    "review": ("tinclock.cli.review", "review", "Look at matches and work through cases in a browser."),
    "check": ("tinclock.cli.check", "check", "Check rules files: mistakes, unusual settings, what weapons come to."),
    "rig": ("tinclock.cli.rig", "rig", "Fit hitboxes to a skinned glTF character, and say how well they fit."),
    "level": ("tinclock.cli.level", "level", "Look a level file over: triangles, holes, surfaces, a picture."),
    "client-bundle": ("tinclock.cli.client_bundle", "client_bundle", "Write what a client build is given of rules."),
    "serve": ("tinclock.cli.serve", "serve", "Rule on matches for a server in another language."),
    "contents": ("tinclock.cli.contents", "contents", "Say what a recording holds, and whether it is whole."),
    "explain": ("tinclock.cli.explain", "explain", "Explain any claim of a recording, step by step, and draw it."),
    "rerule": ("tinclock.cli.rerule", "rerule", "Rule a recording again, by the same rules or by others."),
    "compare": ("tinclock.cli.compare", "compare", "Rulings beside what your own server made of the same claims."),
    "fairness": ("tinclock.cli.fairness", "fairness", "How fair a match was to those who shot and were shot at."),
    "batch": ("tinclock.cli.batch", "batch", "Rule again, check fairness or weigh, over many recordings."),
    "rule-logs": ("tinclock.cli.rule_logs", "rule_logs", "Rule on another server's logs: CSV, JSON Lines, Parquet."),
    "doctor": ("tinclock.cli.doctor", "doctor", "Say what in recordings is a mistake of the integration."),
    "follow": ("tinclock.cli.follow", "follow", "Weigh matches while they are recorded, and open cases."),
    "weigh": ("tinclock.cli.weigh", "weigh", "Weigh recordings for and against each account, and open cases."),
    "cases": ("tinclock.cli.cases", "cases", "Review cases: list, show, page, decide, export, forget."),
    "calibrate": ("tinclock.cli.calibrate", "calibrate", "Make a table of weights from labelled recordings."),
    "detection": ("tinclock.cli.detection", "detection", "What is found of each kind of unfairness, and how fast."),
}

EPILOG = """
\b
Examples:
  tinclock demo
      play 20 s of the garden match and rule it
  tinclock demo --seed 3 --json
      the summary as JSON, for scripts
  tinclock demo --shot 57
      draw and explain ruling 57
  tinclock demo flights
      a mortar's arc, one dodge under three compensations, a fast dart
  tinclock play evening
      a match of a minute, recorded
  tinclock explain evening 58
      why ruling 58 went as it did
  tinclock rerule evening
      the same rulings once more, bit for bit
  tinclock weigh evening
      evidence by account; cases wait for a person
  tinclock cases list
      the queue of a reviewer
  tinclock batch weigh matches --out results
      the same of thousands, on all cores or a cluster
  tinclock rule-logs logs.toml evening
      your own server's logs, ruled and recorded
  tinclock check garden.toml
      every mistake of a rules file, and how many hits each weapon needs
"""


class _Lazy(click.Group):
    """A group whose commands are imported when they are used."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        module, name, _ = COMMANDS[cmd_name]
        command: click.Command = getattr(import_module(module), name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        widest = max(map(len, COMMANDS))
        for group, names in GROUPS.items():
            with formatter.section(group):
                formatter.write_dl([(f"{name:{widest}}", COMMANDS[name][2]) for name in names])


@click.group(cls=_Lazy, epilog=EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(tinclock.__version__, prog_name="tinclock")
def main() -> None:
    """Rule on what clients of a multiplayer combat server claim, and say why."""
