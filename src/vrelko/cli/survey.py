"""vrelko survey: what a database knows of its tables."""

from __future__ import annotations

import json

import click

from vrelko.cli.files import write_text
from vrelko.cli.options import (
    json_option,
    opened,
    print_result,
    status,
)
from vrelko.errors import FactsError


@click.command()
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
    help="Show how TABLE is written to instead: rates by hour and lateness, by a date/time column.",
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
    """Show what the database knows about TABLE, or about every table.

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
    # (A facts file is this very JSON, so that it can be piped as well.)
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
