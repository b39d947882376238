"""The commands about rows that change: drift, settle."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vrelko.cli.options import (
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
    read_lines,
    seed_option,
    status,
    walks_option,
)

if TYPE_CHECKING:
    from vrelko.core.access_log import LogReaders
    from vrelko.core.drift.recorded import Events
    from vrelko.measuring.drift import Drift
    from vrelko.pagesfile.load import Pages
    from vrelko.planning.plan import Plan


@click.command()
@pages_arguments
@facts_option
@walks_option
@seed_option
@click.option("--expect-only", is_flag=True, help="Estimate and simulate only; replay nothing.")
@click.option("--replay", is_flag=True, help="Fail if no replay is possible, and say why.")
@copy_option
@click.option(
    "--concurrent",
    "seconds",
    type=click.FloatRange(0.1, 86_400),
    default=None,
    metavar="SECONDS",
    help="Also page through the copy beside real writers, for so many seconds.",
)
@click.option(
    "--events",
    type=click.Path(dir_okay=False),
    metavar="CSV",
    help="Recorded changes (time_s,change,row,to), instead of the writers' rates.",
)
@click.option(
    "--access-log",
    type=click.Path(dir_okay=False),
    metavar="FILE",
    help="Take the readers' depth, dwell and rate from a web access log (Common or Combined).",
)
@click.option("--log-path", default="", metavar="PATH", help="What the listing's address ends in.")
@click.option(
    "--log-parameter",
    default="page",
    show_default=True,
    metavar="NAME",
    help="The query parameter that says which page is asked for.",
)
@click.option(
    "--log-means",
    default="page",
    show_default=True,
    metavar="WHAT",
    help="What that parameter carries: page, offset or cursor.",
)
@click.option("--details", is_flag=True, help="Print every figure and table too.")
@listing_options
@json_option
def drift(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    walks: int,
    seed: int,
    expect_only: bool,
    replay: bool,
    copy_url: str | None,
    seconds: float | None,
    events: str | None,
    access_log: str | None,
    log_path: str,
    log_parameter: str,
    log_means: str,
    details: bool,
    as_json: bool,
    **described: Any,
) -> None:
    """Show how many rows readers see twice (repeats) or never (misses) while rows change.

    Both are estimated, simulated, and replayed on a copy.

    The replay runs the listing's own pages while rows are taken out and put back, on a copy: an
    SQLite file is copied for the time; for the servers name a database with --copy, where a table
    is made and dropped again. Without one, PostgreSQL and MariaDB are not replayed.
    """
    from vrelko.measuring.drift import drift as drift_

    question = log_parameter, log_means, log_path
    results, logs = [], []
    asked = described_of(described)
    with copy_of(copy_url) as copy:
        for loaded, one in plans_of(pages, listings, facts, described=asked):
            if access_log:
                log = _readers_from(access_log, question, one)
                one = one.with_readers(log.readers)
                logs.append(log)
            # Facts describe a table that may be nowhere near; and a server's own tables are never
            # written to, so without a copy nothing is replayed.
            can = facts is None and _can_walk(loaded, one, copy_url)
            if not can and (replay or seconds):
                raise _cannot_replay(one)
            # Read for each listing: rows are numbered among its own.
            recording = None if events is None else _recorded(events, one)
            # --concurrent asks for real readers by itself, whatever else is only expected.
            engine = loaded.engine if can and not (expect_only and not seconds) else None
            # What was recorded cannot happen again to the rows there are now.
            turns = walks if engine is not None and not expect_only and recording is None else 0
            walked = partial(drift_, recording=recording, concurrent_s=seconds or 0.0)
            with progress(f"walking {one.listing}", turns) as advance:
                results.append(walked(one, engine, turns, seed, advance, copy))
    print_result(
        [one.as_dict() for one in results], as_json, lambda: _show_all(results, logs, details)
    )


def _show_all(results: Sequence[Drift], logs: Sequence[LogReaders], details: bool) -> None:
    from vrelko.cli.drift_tables import show_drift, show_log

    # One log for all listings: what it says of readers is said once.
    for log in logs[:1]:
        show_log(log)
    each(partial(show_drift, details=details), results)


def _cannot_replay(plan: Plan) -> click.UsageError:
    from vrelko.measuring.walked_rows import paged_table

    # Which says so itself where no key tells the rows apart.
    paged_table(plan.served)
    return click.UsageError(
        f"walks over {plan.listing} cannot be replayed: that needs an SQLite file, or a server "
        "with --copy URL for a copy of the rows; facts hold no rows"
    )


def _can_walk(loaded: Pages, plan: Plan, copy_url: str | None) -> bool:
    """Tell whether the rows of a listing can be copied, to be walked over."""
    from vrelko.engines.registry import database_file
    from vrelko.measuring.walked_rows import keyed_table

    # Of a view, or a table without a key: what can be estimated is shown all the same.
    if keyed_table(plan.served) is None:
        return False
    # A pages file with `facts` has no database either.
    return loaded.facts is None and (
        copy_url is not None or database_file(loaded.engine.url) is not None
    )


def _readers_from(path: str, question: tuple[str, str, str], plan: Plan) -> LogReaders:
    from vrelko.core.access_log import LogQuestion, readers_from_log

    parameter, means, address = question
    # Offsets of a log become pages by the size that this listing has.
    asked = LogQuestion(parameter, means, address, plan.judgement.size)  # type: ignore[arg-type]
    return readers_from_log(read_lines(path), asked, plan.given.readers)


def _recorded(path: str, plan: Plan) -> Events:
    from vrelko.core.drift.recorded import read_events

    # By how many rows there are: a recording of another table would name rows that are not there.
    return read_events(read_lines(path), round(plan.judgement.rows))


@click.command()
@click.argument("database")
@click.argument("table")
@click.argument("column")
@click.option(
    "--seconds",
    type=click.FloatRange(0.1, 86_400),
    default=30.0,
    show_default=True,
    help="How long to watch.",
)
@click.option(
    "--every-ms",
    type=click.IntRange(1, 60_000),
    default=50,
    show_default=True,
    help="Pause between looks: how exact the delays are.",
)
@click.option(
    "--poll-s",
    type=click.FloatRange(0, 86_400),
    default=1.0,
    show_default=True,
    help="Seconds between two requests of your reader.",
)
@click.option(
    "--figure",
    type=click.Path(dir_okay=False),
    metavar="FILE.svg",
    help="Draw the rows lost by the seconds waited.",
)
@json_option
def settle(
    database: str,
    table: str,
    column: str,
    seconds: float,
    every_ms: int,
    poll_s: float,
    figure: str | None,
    as_json: bool,
) -> None:
    """Watch how late new rows become visible, and say how long a reader of new rows should wait.

    COLUMN of TABLE holds when a row was written. A reader that goes on from the last row it saw
    loses rows that commit late; one that waits for a settle delay loses fewer. Only reads.
    """
    from vrelko.cli.drift_tables import show_settling
    from vrelko.core.drift.settle_delay import advise_settling
    from vrelko.engines.registry import engine_name
    from vrelko.measuring.commits import watch_commits

    with opened(database) as engine, status(f"watching {table} for {seconds:g} s"):
        delays = watch_commits(engine, table, column, seconds, every_ms / 1_000)
        name = engine_name(engine.dialect)
    found = advise_settling(delays, seconds, poll_s)
    if figure:
        # (Rows a second, as they came while it watched.)
        _draw(figure, delays, len(delays.seconds) / seconds, poll_s)
    result: dict[str, Any] = {
        "schema": "vrelko.settling/1",
        "table": table,
        "column": column,
        "engine": name,
        **found.as_dict(),
    }
    print_result(result, as_json, lambda: show_settling(found, table, column, name))


def _draw(path: str, delays: Any, rate: float, poll_s: float) -> None:
    from vrelko.cli.files import write_text
    from vrelko.cli.needs import needs_extra

    with needs_extra("report", "a report or figure"):
        from vrelko.reporting.drift_figures import draw_settling
    write_text(path, draw_settling(delays, rate, poll_s))
    click.echo(f"figure written to {Path(path)}", err=True)
