"""vrelko measure: the planned pages, run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

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


@click.command()
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
    """Run the planned pages, and compare their work and time with the estimates.

    Work is SQLite's VM steps, PostgreSQL's buffers or MariaDB's handler rows. Memory is
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
