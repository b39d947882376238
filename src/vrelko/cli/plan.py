"""vrelko plan: which strategy to take, which index to create, what pages cost."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from vrelko.cli.options import (
    budget_option,
    described_of,
    each,
    facts_option,
    json_option,
    listing_options,
    pages_arguments,
    plans_of,
    print_result,
    status,
)

if TYPE_CHECKING:
    from vrelko.planning.plan import Plan


@click.command()
@pages_arguments
@facts_option
@click.option("--thorough", is_flag=True, help="Run twice as many pages per listing.")
@budget_option
@click.option("--no-run", is_flag=True, help="Run no page; ask the server by EXPLAIN only.")
@click.option(
    "--since",
    type=click.Path(dir_okay=False),
    metavar="OLD.json",
    help="Show what changed since a plan that --json saved.",
)
@click.option(
    "--try-indexes",
    is_flag=True,
    help="Try the advised indexes: on a copy (SQLite), or as hypothetical ones (with hypopg).",
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

    # Before anything is asked of the database: a wrong file is told at once.
    before = read_plans(since) if since else None
    # All before the first is printed: half a JSON document, or half a table, is none.
    plans = []
    for loaded, one in plans_of(pages, listings, facts, thorough, budget_ms, not no_run, asked):
        if try_indexes:
            from vrelko.measuring.engines import try_indexes as try_indexes_

            with status(f"trying the indexes of {one.listing}"):
                one = try_indexes_(loaded.engine, one)
        plans.append(one)
    if as_csv:
        import csv

        # In one table, so that listings can be compared.
        rows = [{"listing": p.listing, **row} for p in plans for row in p.ladder_rows()]
        writer = csv.DictWriter(sys.stdout, rows[0].keys())
        writer.writeheader()
        writer.writerows(rows)
    elif before is not None:
        changes = find_changes(before, [one.as_dict() for one in plans])
        print_result(changes, as_json, lambda: show_changes(changes))
    else:
        print_result(lambda: [one.as_dict() for one in plans], as_json, lambda: each(show, plans))
