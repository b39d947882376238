"""The rows that take part in a replay: gathered, copied elsewhere, and changed there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

from sqlalchemy import (
    Boolean,
    Column,
    Connection,
    Engine,
    Integer,
    LargeBinary,
    MetaData,
    Numeric,
    Select,
    String,
    Table,
    Text,
    Uuid,
    bindparam,
    cast,
    select,
)
from sqlalchemy.exc import DataError

from vrelko.core.drift.walks import DELETE, INSERT, MOVE
from vrelko.errors import DatabaseError, ListingError
from vrelko.measuring.change_scripts import Change, WalkedRows, can_compare
from vrelko.measuring.table_copies import copy_of_rows
from vrelko.planning.plan import Plan
from vrelko.serving.listing import Listing
from vrelko.serving.pages.request import as_known, lend
from vrelko.serving.variants.runner import Runner
from vrelko.serving.variants.variant import Variant
from vrelko.sql.keys import RAW, raw
from vrelko.sql.parameters import LIMIT
from vrelko.sql.portable_types import fit_other_engines


def keyed_table(listing: Listing) -> Table | None:
    """Return the table that a listing pages, None where no key tells its rows apart."""
    table = listing.paged_table
    return table if table is not None and len(table.primary_key.columns) else None


def paged_table(listing: Listing) -> Table:
    """Return the table whose rows come and go. Raises ListingError where it has no primary key."""
    table = keyed_table(listing)
    if table is None:
        raise ListingError(
            "rows of this listing cannot be taken out and put back: its table has no primary key",
            "Replay a listing of a table that has one",
            "replay-key",
        )
    return table


def _reach(plan: Plan) -> int:
    """Return how many rows a walk can come to meet."""
    stream, pages = plan.stream, plan.candidates[0].drift.pages
    # The first page is asked for at once, so a walk lasts one dwell less than it has pages.
    span = plan.given.readers.dwell_s * max(pages - 1, 0)
    # Each change shifts a walk by one row at most; twice that and 50 leave room for chance.
    changes = (stream.inserts + stream.deletes + stream.moves) * span
    return (pages + 1) * plan.judgement.size + int(2 * changes) + 50


@contextmanager
def copy_of_walked(
    copy: Engine, source: Engine, plan: Plan, walked: WalkedRows, pages: int | None = None
) -> Iterator[tuple[Engine, WalkedRows]]:
    """Lend an engine on a table with the rows that take part, and these as they are there.

    Raises DatabaseError.
    """
    table = paged_table(plan.served)
    # The listing's statements run there too, over the table as it was reflected here.
    fit_other_engines(table)
    with copy_of_rows(copy, source, table, walked.rows) as lent:
        with lent.connect() as connection:
            variant, found = _first_rows(connection, plan, pages)
            there = list(_full_rows(connection, table, found))
        primary = [column.key for column in table.primary_key.columns]
        given, got = (
            [[row[name] for name in primary] for row in rows] for rows in (walked.rows, there)
        )
        # A shorter type, or another collation: walks would be compared with those of other rows.
        if given != got:
            raise DatabaseError(
                "the database to copy to does not give the rows back as they are, or sorts them "
                "otherwise",
                "Copy to a database of the same engine, with the same collation",
                "replay-copy",
            )
        # A value may be written otherwise there, such as a time without its fraction.
        yield lent, replace(walked, keys=[variant.key_from(row) for row in found])


def gather_walked_rows(
    engine: Engine, plan: Plan, pages: int | None = None, own: bool = False
) -> WalkedRows:
    """Return the order keys and the full rows of the first rows of the listing.

    As many as walks of `pages` pages, or of the plan's, can come to meet. `own`: to be put back
    into the very table, so as they are stored, and without what the database computes.
    """
    table = paged_table(plan.served)
    with engine.connect() as connection:
        variant, found = _first_rows(connection, plan, pages)
        keys = [variant.key_from(row) for row in found]
        if own:
            # SQLite keeps a time as the text that it was given, which need not be SQLAlchemy's.
            table = _untyped(table)
        rows = list(_full_rows(connection, table, found))
    identity = variant.identity
    leads = [name for i, name in enumerate(variant.order.names) if i not in identity]
    # A move writes the order's leading columns: possible where no key is among them, and where
    # their values can be sorted here as the database sorts them.
    movable = (
        all(name in table.c and not table.c[name].primary_key for name in leads)
        and all(map(can_compare, keys))
        and plan.given.writers.moves_per_minute > 0
    )
    return WalkedRows(
        table=table,
        order=variant.order,
        keys=keys,
        rows=rows,
        identity=identity,
        leads=tuple(leads) if movable else (),
    )


def _first_rows(connection: Connection, plan: Plan, pages: int | None) -> tuple[Variant, list[Any]]:
    """Return the listing's variant and first rows, with the primary key of each behind."""
    return as_known(plan.served.settings, lambda: _read_first(connection, plan, pages))


def _read_first(connection: Connection, plan: Plan, pages: int | None) -> tuple[Variant, list[Any]]:
    variant = plan.served.lent_variant(connection, None, plan.params)
    primary = paged_table(plan.served).primary_key.columns
    reach = _reach(plan) if pages is None else (pages + 1) * plan.judgement.size
    rows: list[Any] = []
    # As the select calls the table, which may be an alias.
    shown = [plan.served.described.sources.tables[0].c[column.key] for column in primary]
    named = [raw(column).label(f"vrelko_row_{i}") for i, column in enumerate(shown)]
    with lend(connection, plan.served.settings) as lender:  # rows of entities: by a Session
        values, known = plan.served.run_values(plan.params), plan.served.settings.variants
        runner = Runner(lender, values, known, variant)
        # NULL keys come in a statement of their own, before or after the others.
        for one in variant.edge(False):
            given = {LIMIT: reach - len(rows)}
            found, _ = runner.fetch(one.add_columns(*named), None, given, variant.apart)
            rows += found
            if len(rows) >= reach:
                break
    return variant, rows


def _full_rows(
    connection: Connection, table: Table, rows: Sequence[Any]
) -> Iterator[dict[str, Any]]:
    """Yield all values of rows that have their primary key behind them."""
    primary = list(table.primary_key.columns)
    for row in rows:
        # The listing may not show its primary key, so it was added behind.
        own = row[-len(primary) :]
        where = [raw(column) == value for column, value in zip(primary, own, strict=True)]
        try:
            values = connection.execute(select(table).where(*where)).one()
        except DataError:  # an infinite date: as the text that the database writes
            values = connection.execute(_as_texts(table).where(*where)).one()
        # By the model's names, which need not be those of the database.
        yield dict(zip(table.c.keys(), values, strict=True))


_PLAIN = (Integer, Numeric, String, Boolean, Uuid, LargeBinary)


def _as_texts(table: Table) -> Select[Any]:
    columns = table.c
    return select(*[one if isinstance(one.type, _PLAIN) else cast(one, Text) for one in columns])


def _untyped(table: Table) -> Table:
    """Return a table whose values are read and written as they are stored."""
    columns = [
        Column(one.name, RAW, primary_key=one.primary_key, key=one.key)
        for one in table.columns
        if one.computed is None
    ]
    return Table(table.name, MetaData(), *columns, schema=table.schema)


class ChangingTable:
    """The table of a copy, whose rows come, go and move."""

    def __init__(self, walked: WalkedRows) -> None:
        table = walked.table
        self._walked, self._insert = walked, table.insert()
        self._present: set[int] = set()
        self._moved: set[int] = set()
        self._keys = [column.key for column in table.primary_key.columns]
        own = [
            column == bindparam(f"vrelko_{column.key}", type_=column.type)
            for column in table.primary_key.columns
        ]
        self._delete = table.delete().where(*own)
        leads = {name: bindparam(f"to_{name}", type_=table.c[name].type) for name in walked.leads}
        self._move = table.update().where(*own).values(leads) if leads else None

    def take_over(self, present: set[int]) -> None:
        """Answer for these rows, which are all there."""
        self._present = set(present)

    def prepare(self, writer: Connection, outside: frozenset[int]) -> None:
        """Take rows out."""
        self._present = set(range(len(self._walked.keys)))
        self.apply(writer, [Change(0.0, DELETE, row) for row in sorted(outside)])

    def apply(self, writer: Connection, changes: Sequence[Change]) -> None:
        """Make changes in one transaction; those of rows that are not there are none."""
        rows = self._walked.rows
        for change in changes:
            if change.kind == INSERT:
                self._present.add(change.row)
                writer.execute(self._insert, rows[change.row])
            elif change.row in self._present:
                own = {f"vrelko_{key}": rows[change.row][key] for key in self._keys}
                if change.kind == DELETE:
                    self._present.discard(change.row)
                    writer.execute(self._delete, own)
                elif self._move is not None:
                    self._moved.add(change.row)
                    to = self._walked.lead_values(change.to)
                    values = {f"to_{name}": value for name, value in to.items()}
                    writer.execute(self._move, {**own, **values})
        writer.commit()

    def restore(self, writer: Connection) -> None:
        """Put everything back as it was."""
        # Moves first: a row that is missing may hold values that a moved one still has.
        back = [Change(0.0, MOVE, row, row) for row in sorted(self._moved & self._present)]
        missing = set(range(len(self._walked.keys))) - self._present
        self.apply(writer, [*back, *(Change(0.0, INSERT, row) for row in sorted(missing))])
        self._moved.clear()
