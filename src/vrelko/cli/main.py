"""The commands of `vrelko`, their options, and how errors end."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import click

from vrelko.cli.about import about
from vrelko.cli.anchor_commands import anchors
from vrelko.cli.draft import draft
from vrelko.cli.drift import drift, settle
from vrelko.cli.measure import measure
from vrelko.cli.options import (
    json_option,
    walks_option,
)
from vrelko.cli.plan import plan
from vrelko.cli.report import report
from vrelko.cli.serve import serve
from vrelko.cli.sql import sql
from vrelko.cli.survey import survey
from vrelko.errors import EXIT_STATUS, VrelkoError, find_status

_ORDER = (
    "draft",
    "survey",
    "plan",
    "sql",
    "measure",
    "drift",
    "settle",
    "anchors",
    "report",
    "serve",
    "demo",
    "about",
)
"""The order of work."""


class _Group(click.Group):
    """Commands that end in a plain message and an exit status, never in a stack trace."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except VrelkoError as error:
            click.echo(f"vrelko: {error} [{error.code}]", err=True)
            # Scripts tell bad input from a database in trouble by the status alone.
            ctx.exit(find_status(error, EXIT_STATUS))

    def list_commands(self, ctx: click.Context) -> list[str]:
        # click would sort them by name, which tells a newcomer nothing.
        return sorted(self.commands, key=_ORDER.index)


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="vrelko", prog_name="vrelko")
def main() -> None:
    """Plan, measure and serve the pages of large database tables.

    The order of work: draft the listings of a database, plan them, measure them, see how they
    drift, serve them. To begin: `vrelko plan DATABASE TABLE --order=-created_at` needs no file;
    `vrelko draft DATABASE -o pages.toml` writes one; `vrelko demo` does all of it on made-up data;
    `vrelko about` explains every term and code.

    Exit status: 0 fine, 2 bad input, 3 trouble with the database.
    """


@main.command()
@click.option(
    "--folder",
    type=click.Path(file_okay=False),
    default="larkmere",
    show_default=True,
    help="Where the demo keeps its database, pages file and report.",
)
@click.option(
    "--rows",
    type=click.IntRange(20_000, 50_000_000),
    default=200_000,
    show_default=True,
    help="Captures in the demo database.",
)
@walks_option
@json_option
@click.pass_context
def demo(ctx: click.Context, folder: str, rows: int, walks: int, as_json: bool) -> None:
    """Build the Larkmere demo database and do the whole job on it, from survey to report."""
    from vrelko.cli.demo import run_demo

    result = run_demo(Path(folder), rows, walks, quiet=as_json)
    if as_json:
        click.echo(json.dumps(result, indent=2, default=str))
    # In a script nobody answers.
    elif _at_terminal() and click.confirm("Open the demo page now?", default=True):
        ctx.invoke(serve, folder=folder, port=8_080, host="127.0.0.1", opens=True)


def _at_terminal() -> bool:
    # Both: a question into a pipe is never seen, and one from a pipe never answered.
    return sys.stdin.isatty() and sys.stdout.isatty()


_COMMANDS = (draft, survey, plan, sql, measure, drift, settle, anchors, report, serve, about)
for _command in _COMMANDS:
    main.add_command(_command)
