"""What several commands share: their options, how plans come to them, how results are printed."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from vrelko.errors import FactsError, PagesFileError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from sqlalchemy import Engine

    from vrelko.pagesfile.described import Described
    from vrelko.pagesfile.load import Pages
    from vrelko.planning.plan import Plan

F = TypeVar("F", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of tables.")
facts_option = click.option(
    "--facts",
    type=click.Path(dir_okay=False),
    help="Plan from a facts file that `vrelko survey -o` wrote; otherwise survey first.",
)
budget_option = click.option(
    "--budget-ms",
    type=click.IntRange(10, 600_000),
    default=2_000,
    show_default=True,
    help="Milliseconds of database time that running pages may take.",
)
copy_option = click.option(
    "--copy",
    "copy_url",
    metavar="URL",
    default=None,
    help="A database to copy the rows to for the replay; SQLite files are copied by themselves.",
)
walks_option = click.option(
    "--walks",
    type=click.IntRange(1, 10_000),
    default=20,
    show_default=True,
    help="Walks to replay on a copy of the database.",
)
seed_option = click.option(
    "--seed", type=int, default=1, show_default=True, help="Seed of the replay."
)


def pages_arguments(command: F) -> F:
    """Take a pages file and some of its listings."""
    # Put on last comes first: the source stands before its listings.
    named = click.argument("listings", nargs=-1, metavar="[LISTING|TABLE]...")(command)
    return click.argument("pages", type=click.Path(), metavar="SOURCE")(named)


def listing_options(command: F) -> F:
    """Take what describes a listing of a database that no pages file describes yet."""
    # click lists options in the order they were put on last.
    for option in reversed(_LISTING_OPTIONS):
        command = option(command)
    return command


_LISTING_OPTIONS = (
    click.option(
        "--order",
        "orders",
        multiple=True,
        metavar="COLUMNS",
        help="Order of a database's table: -created_at or a,-b; may be given several times.",
    ),
    click.option("--where", default="", metavar="SQL", help="Condition, with :named parameters."),
    click.option("--size", type=click.IntRange(min=1), default=None, help="Rows per page."),
    click.option(
        "--param",
        "params",
        multiple=True,
        metavar="NAME=VALUE",
        help="Typical value of a parameter; may be given several times.",
    ),
    click.option(
        "--query", default="", metavar="SQL", help="A SELECT, or a .sql file, instead of a table."
    ),
    click.option("--unique", multiple=True, metavar="COLUMN", help="Column that identifies a row."),
)


def described_of(given: dict[str, Any]) -> Described:
    """Return what the listing options say, taken out of a command's arguments."""
    from vrelko.pagesfile.described import Described

    params = {}
    for one in given.pop("params"):
        # A value may hold further equal signs.
        name, equals, value = one.partition("=")
        if not (name and equals):
            raise PagesFileError(
                f"--param {one!r} is not NAME=VALUE", "Write --param station=3", "source-options"
            )
        params[name] = value
    # What is left over are the command's own arguments, which it takes by name.
    named = ("orders", "where", "size", "query", "unique")
    return Described(params=params, **{name: given.pop(name) for name in named})


def plans_of(
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    thorough: bool = False,
    budget_ms: float = 2_000.0,
    run: bool = True,
    described: Described | None = None,
) -> Iterator[tuple[Pages, Plan]]:
    """Yield a plan for each listing asked for, or for all of the file."""
    from vrelko.pagesfile.described import Described, load_source

    # Whatever was given, file or database, comes out as a pages file's listings.
    loaded, listings = load_source(pages, listings, described or Described())
    try:
        # A caller that stops after the first plan closes the file's connections all the same.
        yield from _plans(loaded, pages, listings, facts, thorough, budget_ms, run)
    finally:
        loaded.close()


def _plans(
    loaded: Pages,
    pages: str,
    listings: Sequence[str],
    facts: str | None,
    thorough: bool,
    budget_ms: float,
    run: bool,
) -> Iterator[tuple[Pages, Plan]]:
    # Imported when a command runs: `vrelko --help` should not wait for numpy.
    from vrelko.measuring.plans import plan as plan_
    from vrelko.pagesfile.tables import read_facts
    from vrelko.surveying.survey import survey as survey_

    chosen = [loaded[name] for name in listings or loaded]
    if not chosen:
        raise PagesFileError(
            f"{pages} describes no listing", "Add a [listing.NAME] table", "pages-empty"
        )
    # Facts that were named go before those of the pages file.
    # (They are a what-if: how it would be with other sizes or another server.)
    given = read_facts(Path(facts)) if facts else loaded.facts
    if given is not None:
        # Facts are plans' whole world then: no server is there to be asked.
        plans = list(plan_(chosen, given))
    else:
        with status("surveying"):
            known = survey_(loaded.engine, chosen)
        with status("asking the server, and running a few pages" if run else "asking the server"):
            plans = list(
                plan_(
                    chosen,
                    known,
                    engine=loaded.engine,
                    run=run,
                    thorough=thorough,
                    budget_ms=budget_ms,
                )
            )
    for one in plans:
        yield loaded, one


@contextmanager
def opened(database: str) -> Iterator[Engine]:
    """Lend an engine on a database, for reading only. Raises DatabaseError."""
    from vrelko.engines.registry import open_database

    # (Commands end at once, but tests and notebooks call them in one process.)
    engine = open_database(database)
    try:
        yield engine
    finally:
        engine.dispose()


@contextmanager
def copy_of(url: str | None) -> Iterator[Engine | None]:
    """Lend an engine on the database to copy rows to; None where none was named."""
    if url is None:
        yield None
        return
    from vrelko.engines.registry import open_database

    # The user named it as the place to write to; every other engine of a command only reads.
    engine = open_database(url, read_only=False)
    try:
        yield engine
    finally:
        engine.dispose()


def read_lines(path: str) -> list[str]:
    """Return a text file's lines. Raises FactsError."""
    try:
        # Logs hold whatever clients sent: one odd byte must not lose the rest.
        return Path(path).read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError as error:
        raise FactsError(
            f"{path!r} cannot be read: {error.strerror}",
            "Name another file",
            "not-readable",
        ) from error


def print_result(data: Any, as_json: bool, show: Callable[[], Any]) -> None:
    """Print a result as JSON, or as tables. `data` may be a function that makes it."""
    if as_json:
        # Only then: as plain data a plan is larger than what tables show of it.
        click.echo(json.dumps(data() if callable(data) else data, indent=2, default=str))
    else:
        show()


def each(show: Callable[[Any], None], items: Sequence[Any]) -> None:
    """Show each of several results."""
    for item in items:
        show(item)


@contextmanager
def status(text: str) -> Iterator[None]:
    """Show on stderr that work goes on."""
    from rich.console import Console

    # On stderr, so that stdout holds the result alone, for a pipe or a file.
    with Console(stderr=True).status(text):
        yield


@contextmanager
def counting(text: str) -> Iterator[Callable[[int], None]]:
    """Show on stderr how far work of unknown length is, and lend what counts it."""
    from rich.console import Console

    done = 0
    with Console(stderr=True).status(text) as shown:

        def advance(more: int) -> None:
            nonlocal done
            done += more
            shown.update(f"{text}: {done:,}")

        yield advance


@contextmanager
def progress(text: str, total: int) -> Iterator[Callable[[int], None] | None]:
    """Show a progress bar on stderr, and lend what moves it on."""
    # A bar of nothing would stand there for ever.
    if not total:
        yield None
        return
    from vrelko.cli.workflows import progress_bar

    with progress_bar(text, total) as advance:
        yield advance
