"""The commands of `vrelko`, their options, and how errors end."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vrelko.cli.draft import draft
from vrelko.cli.drift import anchors, drift, settle
from vrelko.cli.files import write_text
from vrelko.cli.options import (
    budget_option,
    copy_of,
    copy_option,
    described_of,
    each,
    facts_option,
    json_option,
    listing_options,
    opened,
    pages_arguments,
    plans_of,
    print_result,
    progress,
    seed_option,
    status,
    walks_option,
)
from vrelko.cli.serve import serve
from vrelko.errors import EXIT_STATUS, FactsError, VrelkoError, find_status

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
)
"""The order of work."""

if TYPE_CHECKING:
    from vrelko.planning.plan import Plan


class _Group(click.Group):
    """Commands that end in a plain message and an exit status, never in a stack trace."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except VrelkoError as error:
            click.echo(f"vrelko: {error}", err=True)
            ctx.exit(find_status(error, EXIT_STATUS))

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(self.commands, key=_ORDER.index)


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="vrelko", prog_name="vrelko")
def main() -> None:
    """Plan, measure and serve the pages of large database tables.

    The order of work: draft the listings of a database, plan them, measure them, see how they
    drift, serve them. To begin: `vrelko plan DATABASE TABLE --order=-created_at` needs no file;
    `vrelko draft DATABASE -o pages.toml` writes one; `vrelko demo` does all of it on made-up data.

    Exit status: 0 fine, 2 bad input, 3 trouble with the database.
    """


@main.command()
@click.argument("database")
@click.argument("table", required=False)
@click.option("-o", "--output", type=click.Path(dir_okay=False), help="Write the facts here.")
@click.option(
    "--budget-ms",
    type=click.IntRange(10, 600_000),
    default=1_000,
    show_default=True,
    help="Milliseconds that sampling may take in all.",
)
@click.option(
    "--writes",
    is_flag=False,
    flag_value="",
    default=None,
    metavar="[COLUMN]",
    help="Tell instead how TABLE is written to: rates by hour and lateness, by a column of times.",
)
@json_option
def survey(
    database: str,
    table: str | None,
    output: str | None,
    budget_ms: int,
    writes: str | None,
    as_json: bool,
) -> None:
    """Tell what a database knows of TABLE, or of every table.

    DATABASE is a URL or the path of an SQLite file. Reads the catalog and a bounded sample of
    rows; changes nothing, scans nothing.
    """
    from vrelko.cli.tables import show_facts
    from vrelko.surveying.survey import survey as survey_

    if writes is not None:
        _survey_writes(database, table, writes or None, output, as_json)
        return
    with opened(database) as engine, status("surveying"):
        facts = survey_(engine, table, budget_ms)
    if output:
        write_text(output, facts.to_json())
    if as_json:
        click.echo(facts.to_json())
    else:
        show_facts(facts)
        if output:
            click.echo(f"facts written to {output}")


def _survey_writes(
    database: str, table: str | None, column: str | None, output: str | None, as_json: bool
) -> None:
    from vrelko.cli.drift_tables import show_writes
    from vrelko.surveying.writes import survey_writes

    if table is None:
        raise FactsError(
            "writes are those of one table", "Name the table before --writes", "writes-table"
        )
    with opened(database) as engine:
        found = survey_writes(engine, table, column)
    if output:
        write_text(output, json.dumps(found.as_dict(), indent=2))
    print_result(found.as_dict, as_json, lambda: show_writes(found))


@main.command()
@pages_arguments
@facts_option
@click.option("--thorough", is_flag=True, help="Run twice as many pages of each listing.")
@budget_option
@click.option("--no-run", is_flag=True, help="Run no page: ask the server by EXPLAIN alone.")
@click.option(
    "--since",
    type=click.Path(dir_okay=False),
    metavar="OLD.json",
    help="Tell what changed since a plan that --json once wrote.",
)
@click.option(
    "--try-indexes",
    is_flag=True,
    help="Try the indexes advised: on a copy (SQLite), or as hypothetical ones (with hypopg).",
)
@click.option("--details", is_flag=True, help="Print every number, finding and statement too.")
@click.option("--csv", "as_csv", is_flag=True, help="Print the ladders as CSV.")
@listing_options
@json_option
def plan(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    thorough: bool,
    budget_ms: int,
    no_run: bool,
    since: str | None,
    try_indexes: bool,
    details: bool,
    as_csv: bool,
    as_json: bool,
    **described: Any,
) -> None:
    """Plan listings: which strategy to take, which index to create, and what pages cost.

    SOURCE is a pages file (see docs/pages-file.md), of which LISTING names some listings; or a
    database URL or the path of an SQLite file, of which a TABLE or a --query is planned with no
    file at all. The server is asked by EXPLAIN how it reads each page, and a few pages are run and
    counted to check that. With --facts no database is needed, and times are rough.
    """
    from vrelko.cli.plan_diff import find_changes, read_plans, show_changes
    from vrelko.cli.plan_summary import show_summary
    from vrelko.cli.plan_tables import show_plan
    from vrelko.pagesfile.described import without_password

    if as_csv and (as_json or since):
        raise click.UsageError("--csv prints ladders alone: give it without --json and --since")
    asked = described_of(described)

    def show(one: Plan) -> None:
        show_summary(one, without_password(pages), asked.words(listings))
        if details:
            show_plan(one)

    before = read_plans(since) if since else None
    plans = []
    for loaded, one in plans_of(pages, listings, facts, thorough, budget_ms, not no_run, asked):
        if try_indexes:
            from vrelko.measuring.index_trials import try_indexes as try_indexes_

            with status(f"trying the indexes of {one.listing}"):
                one = try_indexes_(loaded.engine, one)
        plans.append(one)
    if as_csv:
        import csv

        rows = [{"listing": p.listing, **row} for p in plans for row in p.ladder_rows()]
        writer = csv.DictWriter(sys.stdout, rows[0].keys())
        writer.writeheader()
        writer.writerows(rows)
    elif before is not None:
        changes = find_changes(before, [one.as_dict() for one in plans])
        print_result(changes, as_json, lambda: show_changes(changes))
    else:
        print_result(lambda: [one.as_dict() for one in plans], as_json, lambda: each(show, plans))


@main.command()
@pages_arguments
@click.option(
    "--dialect",
    default=None,
    metavar="NAME",
    help="postgresql, mariadb, sqlite, mssql or oracle; otherwise that of the database.",
)
@click.option("--strategy", default="keyset", show_default=True, help="How pages are fetched.")
@click.option(
    "--page",
    "shape",
    default=None,
    metavar="WHICH",
    help="first, last, after, before, offset or whole; otherwise the strategy's usual one.",
)
@click.option("--order", default=None, help="One of the listing's orders; otherwise its first.")
@click.option("--routine", is_flag=True, help="Write a stored routine with page and size instead.")
@json_option
def sql(
    pages: str,
    listings: Sequence[str],
    dialect: str | None,
    strategy: str,
    shape: str | None,
    order: str | None,
    routine: bool,
    as_json: bool,
) -> None:
    """Write the statements of a listing's pages, for any dialect.

    Key values stand as :key_0, :key_1 …; several statements are run one after the other until the
    page is full. Rows of "before" and "last" come in reversed order.
    """
    from vrelko.cli.needs import check_dialect
    from vrelko.cli.tables import show_statements
    from vrelko.pagesfile.load import load
    from vrelko.planning.plan import routine_text, statements_text

    loaded = load(pages)
    try:
        name = dialect or loaded.dialect
        check_dialect(name)
        found = []
        for listing in (loaded[one] for one in listings or loaded):
            params = listing.workload.params
            if routine:
                texts: tuple[str, ...] = (routine_text(listing, name, params, order),)
            else:
                texts = statements_text(listing, strategy, name, params, shape, order)
            found.append({"listing": listing.name, "dialect": name, "statements": texts})
    finally:
        loaded.close()
    print_result(found, as_json, lambda: each(show_statements, found))


@main.command()
@pages_arguments
@facts_option
@budget_option
@listing_options
@json_option
def measure(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    budget_ms: int,
    as_json: bool,
    **described: Any,
) -> None:
    """Run the planned pages on the database: work counted, time taken, beside the estimates.

    Counted are SQLite's VM steps, PostgreSQL's buffers or MariaDB's handler rows. Memory is
    measured for one reader and for several at once.
    """
    from vrelko.cli.tables import show_measurement
    from vrelko.measuring.measure import measure as measure_

    results = []
    asked = described_of(described)
    for loaded, one in plans_of(pages, listings, facts, budget_ms=budget_ms, described=asked):
        with status(f"measuring {one.listing}"):
            results.append(measure_(loaded.engine, one, budget_ms=budget_ms))
    print_result(
        [one.as_dict() for one in results],
        as_json,
        lambda: each(show_measurement, results),
    )


@main.command()
@pages_arguments
@facts_option
@walks_option
@seed_option
@budget_option
@copy_option
@click.option(
    "-o",
    "--output",
    type=click.Path(dir_okay=False),
    default="report.html",
    show_default=True,
    help="Where to write the report.",
)
@json_option
def report(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    walks: int,
    seed: int,
    budget_ms: int,
    copy_url: str | None,
    output: str,
    as_json: bool,
) -> None:
    """Survey, plan, measure and replay, and write it all as one HTML file.

    On PostgreSQL and MariaDB walks are replayed with --copy alone.
    """
    from vrelko.cli.workflows import check_report, study, write_report

    check_report(Path(output))
    studies = []
    with copy_of(copy_url) as copy:
        for loaded, one in plans_of(pages, listings, facts, budget_ms=budget_ms):
            with progress(f"walking {one.listing}", walks) as advance:
                studies.append(study(loaded.engine, one, walks, seed, advance, copy, budget_ms))
    path = write_report(studies, Path(output))
    print_result(
        {"report": str(path), "listings": [one.as_dict() for one in studies]},
        as_json,
        lambda: click.echo(f"report written to {path}"),
    )


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
    """Make the Larkmere demo database and do the whole job on it: survey to report."""
    from vrelko.cli.demo import run_demo

    result = run_demo(Path(folder), rows, walks, quiet=as_json)
    if as_json:
        click.echo(json.dumps(result, indent=2, default=str))
    elif _at_terminal() and click.confirm("Open the demo page now?", default=True):
        ctx.invoke(serve, folder=folder, port=8_080, host="127.0.0.1", opens=True)


def _at_terminal() -> bool:
    return sys.stdin.isatty() and sys.stdout.isatty()


for _command in (draft, drift, settle, anchors, serve):
    main.add_command(_command)
