"""vrelko sql: the statements of pages as text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import click

from vrelko.cli.options import (
    described_of,
    each,
    json_option,
    listing_options,
    pages_arguments,
    print_result,
)


@click.command()
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
@listing_options
@click.option("--routine", is_flag=True, help="Write a stored routine with page and size instead.")
@json_option
def sql(
    pages: str,
    listings: Sequence[str],
    dialect: str | None,
    strategy: str,
    shape: str | None,
    routine: bool,
    as_json: bool,
    **described: Any,
) -> None:
    """Write the statements of a listing's pages, for any dialect.

    Of a pages file --order chooses one of the listing's orders, otherwise its first. Key values
    stand as :key_0, :key_1 …; several statements are run one after the other until the page is
    full. Rows of "before" and "last" come in reversed order.
    """
    from vrelko.cli.needs import check_dialect
    from vrelko.cli.tables import show_statements
    from vrelko.pagesfile.described import load_source
    from vrelko.pagesfile.source import is_pages_file
    from vrelko.planning.plan import routine_text, statements_text

    asked, order = described_of(described), None
    if is_pages_file(pages) and asked.orders:
        # A file's listings have orders already; there the option only chooses.
        order, asked = asked.orders[0], replace(asked, orders=())
    loaded, names = load_source(pages, listings, asked)
    try:
        # Any dialect, whatever database is at hand: the text is for somebody else's.
        name = dialect or loaded.dialect
        check_dialect(name)
        found = []
        for listing in (loaded[one] for one in names):
            params = listing.workload.params
            if routine:
                texts: tuple[str, ...] = (routine_text(listing, name, params, order),)
            else:
                texts = statements_text(listing, strategy, name, params, shape, order)
            found.append({"listing": listing.name, "dialect": name, "statements": texts})
    finally:
        loaded.close()
    print_result(found, as_json, lambda: each(show_statements, found))
