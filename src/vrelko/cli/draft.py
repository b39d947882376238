"""vrelko draft: a pages file to start from."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import TextIO

import click

from vrelko.cli.files import write_text
from vrelko.cli.options import json_option, opened, status
from vrelko.core.engine_traits import TRAITS
from vrelko.core.number_format import render_many
from vrelko.engines.text_only import CAPABILITIES


@click.command()
@click.argument("database", metavar="DATABASE")
@click.argument("tables", nargs=-1, metavar="[TABLE]...")
@click.option(
    "--from",
    "queries",
    type=click.File("r", encoding="utf-8"),
    metavar="FILE.sql",
    help="Draft from the page queries of a file, or of stdin (-), instead of the tables.",
)
@click.option(
    "--dialect",
    type=click.Choice([*TRAITS, *CAPABILITIES]),
    help="What the queries of --from are written for, if not for the database's own engine.",
)
@click.option("-o", "--output", metavar="FILE", help="Write it to a file instead of stdout.")
@json_option
def draft(
    database: str,
    tables: Sequence[str],
    queries: TextIO | None,
    dialect: str | None,
    output: str | None,
    as_json: bool,
) -> None:
    """Write a commented pages file to start from.

    DATABASE is a URL or the path of an SQLite file. Listings are proposed from keys, indexes,
    columns and statistics, of each TABLE or of all; nothing is scanned. With --from each query that
    can be read becomes a listing, and what cannot be read is said.
    """
    from vrelko.pagesfile.described import address_for
    from vrelko.pagesfile.draft import draft_pages, draft_queries
    from vrelko.surveying.survey import survey

    if tables and queries is not None:
        raise click.UsageError("--from reads queries, so name no tables beside it")
    source = address_for(database)
    with opened(database) as engine:
        if queries is not None:
            text = draft_queries(engine, queries.read(), source, dialect)
        else:
            with status("surveying"):
                facts = survey(engine, list(tables) or None)
            text = draft_pages(engine, facts, source)
    if as_json:
        # What is written is read back, so that JSON and the file cannot differ.
        found = tomllib.loads(text)
        click.echo(json.dumps({"text": text, **found}, indent=2, ensure_ascii=False))
    elif output is None:
        click.echo(text, nl=False)
    if output is None:
        return
    write_text(output, text)
    # Those behind a # wait for their reader, and are none yet.
    count = sum(line.startswith("[listing.") for line in text.splitlines())
    if not as_json:
        click.echo(
            f"{render_many(count, 'listing')} written to {output}\nNext: vrelko plan {Path(output)}"
        )
