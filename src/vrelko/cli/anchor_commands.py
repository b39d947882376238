"""vrelko anchors: keys kept in the database, so that page numbers need no offset."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from vrelko.cli.options import counting, json_option, pages_arguments, print_result
from vrelko.core.number_format import render_many

if TYPE_CHECKING:
    from vrelko.errors import PagesFileError
    from vrelko.serving.anchors.counted import CountedAnchors
    from vrelko.serving.anchors.filed import FileAnchors
    from vrelko.serving.listing import Listing


@click.group()
def anchors() -> None:
    """Reach page numbers, the last page and totals of very large tables without walking there.

    Counted anchors stand in the database and are exact while rows change: `plan` shows what would
    be made, `build` makes it, `fold` keeps it up, `verify` checks it, `drop` takes it away. They
    are for listings with jumps = "anchors"; where one names an anchor_file, they stand in that file
    instead, and are static.
    """


_static_option = click.option(
    "--static",
    is_flag=True,
    help="Without triggers: for tables loaded at night, or that only grow at their end.",
)


@anchors.command()
@pages_arguments
@_static_option
def plan(pages: str, listings: Sequence[str], static: bool) -> None:
    """Print the statements that `build` would run, and what they cost; run nothing."""
    with _counted(pages, listings) as found:
        # Orders of one listing share a log and triggers, which would be printed for each.
        by_listing: dict[str, list[tuple[Listing, CountedAnchors | FileAnchors]]] = {}
        for listing, one in found:
            by_listing.setdefault(listing.name, []).append((listing, one))
        for several in by_listing.values():
            _show_statements(several, static)


def _show_statements(
    several: Sequence[tuple[Listing, CountedAnchors | FileAnchors]], static: bool
) -> None:
    """Print what would be made for a listing's orders: the log that they share, once."""
    listing, first = several[0]
    for _, one in several:
        click.echo(f"-- {listing.name}, order {one.order}")
    if listing.settings.anchor_file is not None:
        click.echo(f"-- into the file {listing.settings.anchor_file}; nothing is made")
        for line in (_FILE, *_STATIC):
            click.echo(f"-- {line}")
        return
    # A dict keeps the first of each statement, in the order in which they must run.
    made = dict.fromkeys(line for _, one in several for line in one.statements(static=static))
    for statement in made:
        click.echo(statement + ";")
    click.echo("-- to take all of it away:")
    for statement in dict.fromkeys(line for _, one in several for line in one.drop_statements()):
        click.echo(f"--   {statement};")
    for who, folds in (("READERS", False), ("WORKERS", True)):
        granted = (line for _, one in several for line in one.grant_statements(who, folds=folds))
        for statement in dict.fromkeys(granted):
            click.echo(f"-- for {who.lower()} of another role: {statement};")
    for line in _missing_indexes(several):
        click.echo(f"-- {line}")
    for line in _STATIC if static else (*_PRICE, *_UNSEEN):
        click.echo(f"-- {line}")
    for line in () if static else first.warnings():
        click.echo(f"--   {line}")


def _missing_indexes(
    several: Sequence[tuple[Listing, CountedAnchors | FileAnchors]],
) -> Iterator[str]:
    """Yield a line for each order that no index of the table gives, with the index that would."""
    from vrelko.core.index import IndexColumn, IndexFacts
    from vrelko.core.index_advice import create_text
    from vrelko.core.index_order import serves_order
    from vrelko.core.order import Order
    from vrelko.errors import VrelkoError
    from vrelko.serving.anchors.counted import CountedAnchors
    from vrelko.surveying.survey import survey

    for listing, one in several:
        if not isinstance(one, CountedAnchors):
            continue
        tables = one.tables
        try:
            facts = survey(one.engine, [listing])
            table = facts.table(tables.table.fullname)
        except VrelkoError as error:  # a table of an attached SQLite file
            yield f"Whether an index has the order {one.order} is not known: {error.what}"
            continue
        fixed = [column.name for column in tables.parts]
        order = Order(tuple(replace(term, name=column.name) for column, term in tables.keys))
        # The rows of a primary key lie in its order, or in its index.
        key = IndexFacts("primary key", tuple(map(IndexColumn, table.primary_key)))
        whole = [key, *(index for index in table.indexes if not index.partial)]
        if any(
            serves_order(index, order, fixed, table, facts.server.engine, lax=True)
            for index in whole
        ):
            continue
        columns = [*map(IndexColumn, fixed)]
        columns += [IndexColumn(term.name, term.descending) for term in order.terms]
        index = IndexFacts(f"{table.bare_name}_by_{'_'.join(order.names)}"[:60], tuple(columns))
        yield f"No index has the order {one.order}: each step would sort the table."
        yield f"  {create_text(index, table, facts.server.engine)};"


_PRICE = (
    "Rights: the builder needs CREATE, and TRIGGER and SELECT on the table. Triggers run with the",
    "  builder's rights, so writers need none on the log. Without SELECT pages come by offset.",
    "Writers: each row inserted, deleted or moved writes one or two log rows, for all orders once.",
)
_UNSEEN = ("Unseen by triggers, found by `vrelko anchors verify` and by `fold` in time:",)
_FILE = "Rights: SELECT on the table for who builds and who reads."
_STATIC = (
    "Writers pay nothing. Numbers are as of the last count, and pages say so:",
    "  `build` again lays anchors along rows that came at the end, `repair` counts all anew.",
)


@anchors.command()
@pages_arguments
@_static_option
@click.option(
    "--grant",
    "readers",
    multiple=True,
    metavar="ROLE",
    help="Let this role read the anchors. May be given several times.",
)
@click.option(
    "--grant-fold",
    "workers",
    multiple=True,
    metavar="ROLE",
    help="Let this role fold changes into them too.",
)
def build(
    pages: str,
    listings: Sequence[str],
    static: bool,
    readers: Sequence[str],
    workers: Sequence[str],
) -> None:
    """Make tables and triggers, and lay the anchors of all rows. Goes on where it was stopped."""
    with _counted(pages, listings) as found:
        for listing, one in found:
            # Without a length, as how many rows there are is what is being counted.
            with counting(f"laying the anchors of {listing.name}, order {one.order}") as advance:
                laid = one.build(advance, static=static)
            click.echo(f"{listing.name}, order {one.order}: {render_many(laid, 'anchor')} laid")
            for role in readers:
                one.grant(role)
            for role in workers:
                one.grant(role, folds=True)
            # Told and not dropped: an older release of the application may still read them.
            for left in one.leftovers():
                click.echo(
                    f"{listing.name}: anchors of an earlier description are left ({left}), and "
                    "writers pay for them; `vrelko anchors drop --left` takes them away",
                    err=True,
                )


@anchors.command()
@pages_arguments
@click.option(
    "--every",
    type=click.FloatRange(0.01, 3_600),
    default=None,
    metavar="SECONDS",
    help="Keep running, and look again after so many seconds.",
)
def fold(pages: str, listings: Sequence[str], every: float | None) -> None:
    """Move logged changes into the anchors' numbers. One process at a time.

    Counts two segments each time, drawn at random. Exit status 1 where one was off.
    """
    with _counted(pages, listings) as found:
        # An order without anchors is no reason to let those of the others grow old.
        kept, wrong = [(listing, one) for listing, one in found if one.exist], False
        if not kept:
            raise _nothing_to_fold()
        while True:
            folded: dict[str, int] = {}
            for listing, one in kept:
                while many := one.fold():  # into all orders that share its log
                    folded[listing.name] = folded.get(listing.name, 0) + many
                # Said once where it was asked for once; a worker that keeps running stays silent.
                if listing.name not in folded and every is None:
                    folded[listing.name] = 0
            for name, many in folded.items():
                click.echo(f"{name}: {render_many(many, 'change')} folded")
            for listing, one in kept:
                for off in filter(None, one.check()):
                    wrong = True
                    click.echo(
                        f"{listing.name}, order {one.order}: a segment is off by {off:+,} rows; "
                        "pages go by offset until `vrelko anchors repair`",
                        err=True,
                    )
            if every is None:
                # For a job that runs each night: whoever watches it sees numbers that went off.
                raise SystemExit(int(wrong))
            time.sleep(every)


@anchors.command()
@pages_arguments
@json_option
def verify(pages: str, listings: Sequence[str], as_json: bool) -> None:
    """Count every segment and compare. Exit status 1 where one is off."""
    rows: list[dict[str, Any]] = []
    with _counted(pages, listings) as found:
        for listing, one in found:
            off = one.verify()
            # Segments are off by rows too many or too few, so their sum would hide some.
            wrong = [number for number in off if number]
            rows.append(
                {
                    "listing": listing.name,
                    "order": one.order,
                    "segments": len(off),
                    "off": len(wrong),
                    "rows_off": sum(map(abs, wrong)),
                }
            )

    def show_rows() -> None:
        for row in rows:
            told = "{off:,} of {segments:,} segments off".format(**row)
            told += f", by {render_many(row['rows_off'], 'row')}"
            told = told if row["off"] else "right"
            click.echo(f"{row['listing']}, order {row['order']}: {told}")

    print_result(rows, as_json, show_rows)
    if any(row["off"] for row in rows):
        raise SystemExit(1)


@anchors.command()
@pages_arguments
def repair(pages: str, listings: Sequence[str]) -> None:
    """Count every segment, and set right those that are off."""
    with _counted(pages, listings) as found:
        for listing, one in found:
            mended = one.repair()
            click.echo(
                f"{listing.name}, order {one.order}: {render_many(mended, 'segment')} mended"
            )


@anchors.command()
@pages_arguments
@json_option
def show(pages: str, listings: Sequence[str], as_json: bool) -> None:
    """Show how many anchors there are, and how many changes wait to be folded."""
    rows: list[dict[str, Any]] = []
    with _counted(pages, listings) as found:
        for listing, one in found:
            # None, not 0: no anchors is another state than anchors of an empty table.
            laid, waiting = one.stored() if one.exist else (None, None)
            state = one.state()
            rows.append(
                {
                    "listing": listing.name,
                    "order": one.order,
                    "anchors": laid,
                    "waiting": waiting,
                    "every": state and state.every,
                    "static": state and state.static,
                    "age_s": state and round(state.age_s, 1),
                    "built": state and state.built,
                    "wrong": state and state.wrong,
                }
            )

    def show_rows() -> None:
        for row in rows:
            told = "none; build them with `vrelko anchors build`"
            if row["anchors"] is not None:
                anchors, waiting = row["anchors"], row["waiting"]
                told = f"{render_many(anchors, 'anchor')}, {render_many(waiting, 'change')}"
                told += " in the log"
                if row["age_s"] is not None:
                    what = "counted" if row["static"] else "folded"
                    told += f"; {what} {_ago(row['age_s'])} ago"
                told = f"static, {told}" if row["static"] else told
                told += "; found wrong: run `vrelko anchors repair`" if row["wrong"] else ""
                told += "" if row["built"] else "; the build has not ended: go on with `build`"
            click.echo(f"{row['listing']}, order {row['order']}: {told}")

    print_result(rows, as_json, show_rows)


def _ago(seconds: float) -> str:
    for size, unit in ((86_400, "d"), (3_600, "h"), (60, "min")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {unit}"
    return f"{seconds:.0f} s"


@anchors.command()
@pages_arguments
@click.option(
    "--left",
    is_flag=True,
    help="Only what an earlier description of the listings left, of other orders or conditions.",
)
def drop(pages: str, listings: Sequence[str], left: bool) -> None:
    """Take tables and triggers away; nothing of them is left."""
    with _counted(pages, listings) as found:
        for listing, one in found:
            for group in one.sweep():
                click.echo(f"{listing.name}: dropped what was left of {group}")
            if not left:
                one.drop()
                click.echo(f"{listing.name}, order {one.order}: dropped")


def _nothing_to_fold() -> PagesFileError:
    from vrelko.errors import PagesFileError

    return PagesFileError(
        "there are no anchors to fold changes into", "Run `vrelko anchors build`", "anchors-none"
    )


@contextmanager
def _counted(
    pages: str, listings: Sequence[str]
) -> Iterator[Iterator[tuple[Listing, CountedAnchors | FileAnchors]]]:
    """Lend the counted anchors of each order of listings that jump by them."""
    from vrelko.engines.registry import open_database
    from vrelko.errors import PagesFileError
    from vrelko.pagesfile.load import load

    with closing(load(pages)) as loaded:
        # Unasked, listings without anchors are left out; asked for by name, they are an error.
        chosen = [loaded[name] for name in listings] or [
            one for one in loaded.values() if one.settings.jumps == "anchors"
        ]
        for one in chosen:
            if one.settings.jumps != "anchors":
                raise PagesFileError(
                    f"the listing {one.name!r} does not jump by anchors",
                    f'Add jumps = "anchors" to [listing.{one.name}]',
                    "pages-anchors",
                )
        if not chosen:
            raise PagesFileError(
                f"{loaded.path} has no listing that jumps by anchors",
                'Add jumps = "anchors" to one',
                "pages-anchors",
            )
        # The pages file's own engine only reads.
        address = loaded.engine.url.render_as_string(hide_password=False)
        # (All commands but these and a copy only read, and are kept from more.)
        engine = open_database(address, read_only=False)
        try:
            yield _orders(chosen, engine)
        finally:
            engine.dispose()


def _orders(
    listings: Sequence[Listing], engine: Any
) -> Iterator[tuple[Listing, CountedAnchors | FileAnchors]]:
    for listing in listings:
        given = listing.described.given
        # Orders that a search brings along change with what is searched: no anchors fit.
        for order in given[: len(given) - listing.described.search_orders]:
            yield listing, listing.counted_anchors(engine, str(order))
