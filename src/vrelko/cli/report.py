"""vrelko report: all of it in one file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from vrelko.cli.options import (
    budget_option,
    copy_of,
    copy_option,
    described_of,
    facts_option,
    json_option,
    listing_options,
    pages_arguments,
    plans_of,
    print_result,
    progress,
    seed_option,
    walks_option,
)


@click.command()
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
@listing_options
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
    **described: Any,
) -> None:
    """Survey, plan, measure and replay, and write it all as one HTML file.

    On PostgreSQL and MariaDB walks are replayed only with --copy.
    """
    from vrelko.cli.workflows import check_report, study, write_report

    check_report(Path(output))
    studies = []
    asked = described_of(described)
    with copy_of(copy_url) as copy:
        for loaded, one in plans_of(pages, listings, facts, budget_ms=budget_ms, described=asked):
            with progress(f"walking {one.listing}", walks) as advance:
                studies.append(study(loaded.engine, one, walks, seed, advance, copy, budget_ms))
    # (`check_report` above tried the place before minutes of work were put into it.)
    path = write_report(studies, Path(output))
    print_result(
        {"report": str(path), "listings": [one.as_dict() for one in studies]},
        as_json,
        lambda: click.echo(f"report written to {path}"),
    )
