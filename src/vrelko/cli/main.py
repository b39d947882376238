"""The commands of `vrelko`, their options, and how errors end."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from vrelko.errors import EXIT_STATUS, FactsError, PagesFileError, VrelkoError, find_status

if TYPE_CHECKING:
    from collections.abc import Iterator

    from vrelko.serving.pages_file import Pages
    from vrelko.serving.planning import Plan

F = TypeVar("F", bound=Callable[..., Any])


class _Group(click.Group):
    """Commands that end in a plain message and an exit status, never in a stack trace."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except VrelkoError as error:
            click.echo(f"vrelko: {error}", err=True)
            ctx.exit(find_status(error, EXIT_STATUS))

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.commands)  # in the order of work, not of the alphabet


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="vrelko", prog_name="vrelko")
def main() -> None:
    """Plan, measure and serve the pages of large database tables.

    The order of work: survey a database, describe its listings in a pages file, plan them, measure
    them, see how they drift, report. `vrelko demo` does all of it on a made-up database.

    Exit status: 0 fine, 2 bad input, 3 trouble with the database.
    """


_as_json = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of tables.")
_facts = click.option(
    "--facts",
    type=click.Path(dir_okay=False),
    help="Plan from a facts file that `vrelko survey -o` wrote; otherwise survey first.",
)
_walks = click.option(
    "--walks", type=click.IntRange(1, 10_000), default=20, show_default=True,
    help="Walks to replay on a copy of the database.",
)  # fmt: skip
_seed = click.option("--seed", type=int, default=1, show_default=True, help="Seed of the replay.")


def _pages_arguments(command: F) -> F:
    named = click.argument("listings", nargs=-1, metavar="[LISTING]...")(command)
    return click.argument("pages", type=click.Path(), metavar="PAGES")(named)


@main.command()
@click.argument("database")
@click.argument("table", required=False)
@click.option("-o", "--output", type=click.Path(dir_okay=False), help="Write the facts here.")
@click.option(
    "--budget-ms", type=click.IntRange(10, 600_000), default=1_000, show_default=True,
    help="Milliseconds that sampling may take in all.",
)  # fmt: skip
@_as_json
def survey(
    database: str, table: str | None, output: str | None, budget_ms: int, as_json: bool
) -> None:
    """Tell what a database knows of TABLE, or of every table.

    DATABASE is a URL or the path of an SQLite file. Reads the catalog and a bounded sample of
    rows; changes nothing, scans nothing.
    """
    from vrelko.cli.tables import show_facts
    from vrelko.engines.registry import open_database
    from vrelko.surveying.survey import survey as survey_

    engine = open_database(database)
    with _status("surveying"):
        facts = survey_(engine, table, budget_ms)
    engine.dispose()
    if output:
        _write(output, facts.to_json())
    if as_json:
        click.echo(facts.to_json())
    else:
        show_facts(facts)
        if output:
            click.echo(f"facts written to {output}")


@main.command()
@_pages_arguments
@_facts
@click.option("--thorough", is_flag=True, help="Time twelve pages a listing, not four.")
@click.option(
    "--since", type=click.Path(dir_okay=False), metavar="OLD.json",
    help="Tell what changed since a plan that --json once wrote.",
)  # fmt: skip
@click.option(
    "--try-indexes", is_flag=True,
    help="Try the indexes advised: on a copy (SQLite), or as hypothetical ones (with hypopg).",
)  # fmt: skip
@click.option("--csv", "as_csv", is_flag=True, help="Print the ladders as CSV.")
@_as_json
def plan(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    thorough: bool,
    since: str | None,
    try_indexes: bool,
    as_csv: bool,
    as_json: bool,
) -> None:
    """Plan the listings of a pages file: what each strategy costs, and which to take.

    PAGES is a TOML file (see docs/pages-file.md); LISTING names some of its listings. The server is
    asked which access paths it takes, and a few pages are timed; with --facts no database is
    needed, and times are rough.
    """
    from vrelko.cli.plan_tables import show_plan
    from vrelko.cli.since import find_changes, read_plans, show_changes

    before = read_plans(since) if since else None
    plans = []
    for loaded, one in _plans(pages, listings, facts, thorough):
        if try_indexes:
            from vrelko.measuring.trying import try_indexes as try_indexes_

            with _status(f"trying the indexes of {one.listing}"):
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
        _print(changes, as_json, lambda: show_changes(changes))
    else:
        _print([one.as_dict() for one in plans], as_json, lambda: _each(show_plan, plans))


@main.command()
@_pages_arguments
@click.option(
    "--dialect", default=None, metavar="NAME",
    help="postgresql, mariadb, sqlite, mssql or oracle; otherwise that of the database.",
)  # fmt: skip
@click.option("--strategy", default="keyset", show_default=True, help="How pages are fetched.")
@click.option(
    "--page", "shape", default=None, metavar="WHICH",
    help="first, last, after, before, offset or whole; otherwise the strategy's usual one.",
)  # fmt: skip
@click.option("--order", default=None, help="One of the listing's orders; otherwise its first.")
@click.option("--routine", is_flag=True, help="Write a stored routine with page and size instead.")
@_as_json
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
    from vrelko.cli.tables import show_statements
    from vrelko.serving.pages_file import load
    from vrelko.serving.planning import routine_text, statements_text

    loaded = load(pages)
    name = dialect or loaded.dialect
    found = []
    for listing in (loaded[one] for one in listings or loaded):
        params = listing.workload.params
        if routine:
            texts: tuple[str, ...] = (routine_text(listing, name, params, order),)
        else:
            texts = statements_text(listing, strategy, name, params, shape, order)
        found.append({"listing": listing.name, "dialect": name, "statements": texts})
    loaded.close()
    _print(found, as_json, lambda: _each(show_statements, found))


@main.command()
@_pages_arguments
@_facts
@_as_json
def measure(pages: str, listings: Sequence[str], facts: str | None, as_json: bool) -> None:
    """Run the planned pages on the database: work counted, time taken, beside the estimates.

    Counted are SQLite's VM steps, PostgreSQL's buffers or MariaDB's handler rows. Memory is
    measured for one reader and for several at once.
    """
    from vrelko.cli.tables import show_measurement
    from vrelko.measuring.measure import measure as measure_

    results = []
    for loaded, one in _plans(pages, listings, facts):
        with _status(f"measuring {one.listing}"):
            results.append(measure_(loaded.engine, one))
    _print(
        [one.as_dict() for one in results], as_json,
        lambda: _each(show_measurement, results),
    )  # fmt: skip


@main.command()
@_pages_arguments
@_facts
@_walks
@_seed
@click.option("--expect-only", is_flag=True, help="Do not replay: closed forms and simulation.")
@click.option(
    "--copy", "copy_url", metavar="URL", default=None,
    help="A database to copy the rows to for the replay; SQLite files are copied by themselves.",
)  # fmt: skip
@_as_json
def drift(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    walks: int,
    seed: int,
    expect_only: bool,
    copy_url: str | None,
    as_json: bool,
) -> None:
    """Tell what readers suffer while rows change: expected, simulated, replayed on a copy.

    The replay runs the listing's own pages while rows are taken out and put back, on a copy: an
    SQLite file is copied for the time; for the servers name a database with --copy, where a table
    is made and dropped again. Without one, PostgreSQL and MariaDB are not replayed.
    """
    from vrelko.cli.tables import show_drift
    from vrelko.engines.registry import open_database
    from vrelko.measuring.drifting import drift as drift_

    results = []
    for loaded, one in _plans(pages, listings, facts):
        replays = not expect_only and loaded.facts is None
        replays = replays and (copy_url is not None or loaded.dialect == "sqlite")
        engine = loaded.engine if replays else None
        copy = open_database(copy_url, read_only=False) if replays and copy_url else None
        with _progress(f"walking {one.listing}", walks if replays else 0) as advance:
            results.append(drift_(one, engine, walks, seed, advance, copy))
    _print([one.as_dict() for one in results], as_json, lambda: _each(show_drift, results))


@main.command()
@_pages_arguments
@click.option("--show", is_flag=True, help="Show what is stored; build nothing.")
@_as_json
def anchors(pages: str, listings: Sequence[str], show: bool, as_json: bool) -> None:
    """Build the anchors of listings served by the strategy "anchored", or build them anew.

    Reads every key of the listing's variants in use once, in order, and writes the bounds of pages
    to the file that steady.anchors names. The database is only read.
    """
    from vrelko.cli.anchors import build, show_anchors, stored

    with _status("reading keys"):
        found = stored(pages, listings) if show else build(pages, listings)
    _print(found, as_json, lambda: show_anchors(found))


@main.command()
@_pages_arguments
@_facts
@_walks
@_seed
@click.option(
    "-o", "--output", type=click.Path(dir_okay=False), default="report.html", show_default=True,
    help="Where to write the report.",
)  # fmt: skip
@_as_json
def report(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    walks: int,
    seed: int,
    output: str,
    as_json: bool,
) -> None:
    """Survey, plan, measure and replay, and write it all as one HTML file."""
    from vrelko.cli.work import check_writable, study, write_report

    check_writable(Path(output))
    studies = []
    for loaded, one in _plans(pages, listings, facts):
        with _progress(f"walking {one.listing}", walks) as advance:
            studies.append(study(loaded.engine, one, walks, seed, advance))
    path = write_report(studies, Path(output))
    _print(
        {"report": str(path), "listings": [one.as_dict() for one in studies]}, as_json,
        lambda: click.echo(f"report written to {path}"),
    )  # fmt: skip


@main.command()
@click.option(
    "--folder", type=click.Path(file_okay=False), default="larkmere", show_default=True,
    help="Where the demo keeps its database, pages file and report.",
)  # fmt: skip
@click.option(
    "--rows", type=click.IntRange(20_000, 50_000_000), default=200_000, show_default=True,
    help="Captures in the demo database.",
)  # fmt: skip
@_walks
@_as_json
def demo(folder: str, rows: int, walks: int, as_json: bool) -> None:
    """Make the Larkmere demo database and do the whole job on it: survey to report."""
    from vrelko.cli.demo import run_demo

    result = run_demo(Path(folder), rows, walks, quiet=as_json)
    if as_json:
        click.echo(json.dumps(result, indent=2, default=str))


def _plans(
    pages: str, listings: Sequence[str], facts: str | None, thorough: bool = False
) -> Iterator[tuple[Pages, Plan]]:
    """Yield a plan for each listing asked for, or for all of the file."""
    from vrelko.cli.work import fitted_plans
    from vrelko.serving.pages_file import load
    from vrelko.serving.pages_tables import read_facts
    from vrelko.serving.planning import plan as plan_
    from vrelko.surveying.survey import survey as survey_

    loaded = load(pages)
    chosen = [loaded[name] for name in listings or loaded]
    if not chosen:
        raise PagesFileError(
            f"{pages} describes no listing", "Add a [listing.NAME] table", "pages-empty"
        )
    given = read_facts(Path(facts)) if facts else loaded.facts
    if given is not None:
        plans = list(plan_(chosen, given))
    else:
        with _status("surveying"):
            known = survey_(loaded.engine, chosen)
        with _status("asking the server, and timing a few pages"):
            plans = fitted_plans(loaded.engine, chosen, known, thorough)
    for one in plans:
        yield loaded, one
    loaded.close()


def _write(path: str, text: str) -> None:
    try:
        Path(path).write_text(text, encoding="utf-8")
    except OSError as error:
        raise FactsError(
            f"{path!r} cannot be written: {error.strerror}", "Choose another place", "not-writable"
        ) from error


def _print(data: Any, as_json: bool, show: Callable[[], Any]) -> None:
    if as_json:
        click.echo(json.dumps(data, indent=2, default=str))
    else:
        show()


def _each(show: Callable[[Any], None], items: Sequence[Any]) -> None:
    for item in items:
        show(item)


@contextmanager
def _status(text: str) -> Iterator[None]:
    """Show on stderr that work goes on."""
    from rich.console import Console

    with Console(stderr=True).status(text):
        yield


@contextmanager
def _progress(text: str, total: int) -> Iterator[Callable[[int], None] | None]:
    """Show a progress bar on stderr, and lend what moves it on."""
    if not total:
        yield None
        return
    from vrelko.cli.work import progress_bar

    with progress_bar(text, total) as advance:
        yield advance
