"""Replaying drift: readers walk a copy of the database while its own rows come, go and move.

Time is virtual: nothing sleeps. The same changes are simulated too (`core.drift`), and every count
of every walk must be the same.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Column, Connection, Engine, MetaData, Table, bindparam, select

from vrelko.core.drift import reference
from vrelko.core.drift.walks import (
    DELETE,
    DRIFT_STRATEGIES,
    INSERT,
    MOVE,
    Counts,
    Course,
    DriftStrategy,
)
from vrelko.engines.registry import database_errors
from vrelko.engines.views import can_hold_view
from vrelko.errors import DatabaseError, ListingError
from vrelko.measuring.change_scripts import (
    Change,
    WalkedRows,
    can_compare,
    make_course,
    write_script,
)
from vrelko.measuring.table_copies import copy_of_file, copy_of_rows
from vrelko.measuring.walkers import Walker
from vrelko.planning.plan import Plan
from vrelko.serving.listing import Listing
from vrelko.serving.pages.request import lend
from vrelko.serving.variants.runner import Runner
from vrelko.sql.keys import RAW, raw
from vrelko.sql.parameters import LIMIT

STORING: tuple[DriftStrategy, ...] = ("frozen-ids",)
"""Strategies that read every row's key once per walk."""

MOST_STORED = 20_000
"""Rows up to which the strategies that store something are replayed when none are named."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Replayed:
    """What the walks of one strategy suffered in all, with the standard errors of a walk's mean.

    `alike`: all ten counts of every walk equal those of the simulator on the same changes.
    """

    strategy: DriftStrategy
    walks: int
    pages: int
    served: int
    repeats: int
    misses: int
    unseen: int
    dodges: int
    repeats_error: float
    misses_error: float
    alike: bool


@dataclass(frozen=True, slots=True)
class Walks:
    """How many walks are replayed, from which seed, by which strategies (None: all that fit)."""

    count: int = 20
    seed: int = 1
    strategies: tuple[DriftStrategy, ...] | None = None

    def for_rows(self, rows: float) -> tuple[DriftStrategy, ...]:
        """Return the strategies that a listing of so many rows is walked by."""
        if self.strategies is not None:
            return self.strategies
        return tuple(
            strategy
            for strategy in DRIFT_STRATEGIES
            if rows <= MOST_STORED or strategy not in STORING
        )


def replay(
    engine: Engine,
    plan: Plan,
    walks: Walks,
    progress: Callable[[int], None] | None = None,
    copy: Engine | None = None,
) -> tuple[Replayed, ...]:
    """Walk a copy of a listing's rows by several strategies while they change.

    All readers ask at the same moments of the same stream of changes. The database itself is only
    read: an SQLite file is copied whole; else the rows that take part go into a table of the same
    name that is made in the database of `copy` for the time. Raises DatabaseError when they cannot
    be copied, PageError where a parameter has no value.
    """
    plan.check_values()
    with database_errors("replay"):
        # The file itself is the copy's source, and what its triggers and constraints do stays the
        # same.
        if copy is None:
            with copy_of_file(engine) as lent:
                own = gather_walked_rows(lent, plan, own=True)
                return _play_all(lent, plan, own, walks, progress)
        walked = gather_walked_rows(engine, plan)
        with copy_of_walked(copy, engine, plan, walked) as (lent, there):
            return _play_all(lent, plan, there, walks, progress)


def _play_all(
    copy: Engine,
    plan: Plan,
    walked: WalkedRows,
    walks: Walks,
    progress: Callable[[int], None] | None,
) -> tuple[Replayed, ...]:
    # Some strategies read the key of every row at each walk: minutes on a large table.
    strategies = walks.for_rows(plan.judgement.rows)
    if not can_hold_view(copy):
        strategies = tuple(strategy for strategy in strategies if strategy != "frozen-view")
    run = _Replay(copy, plan, walked, strategies)
    found: dict[DriftStrategy, list[tuple[Counts, bool]]] = {
        strategy: [] for strategy in run.strategies
    }
    rng = random.Random(walks.seed)
    for _ in range(walks.count):
        for strategy, counted in run.play(rng).items():
            found[strategy].append(counted)
        if progress is not None:
            progress(1)
    return tuple(_sum(strategy, many, run.pages) for strategy, many in found.items())


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
    with copy_of_rows(copy, source, table, walked.rows) as lent:
        with lent.connect() as connection:
            variant = plan.served.lent_variant(connection, None, plan.params)
            found = _first_rows(connection, plan, variant, pages)
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
        variant = plan.served.lent_variant(connection, None, plan.params)
        found = _first_rows(connection, plan, variant, pages)
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


def _first_rows(
    connection: Connection, plan: Plan, variant: Any, pages: int | None = None
) -> list[Any]:
    """Return the listing's first rows, with the primary key of each behind."""
    primary = paged_table(plan.served).primary_key.columns
    reach = _reach(plan) if pages is None else (pages + 1) * plan.judgement.size
    rows: list[Any] = []
    # As the select calls the table, which may be an alias.
    shown = [plan.served.described.sources.tables[0].c[column.key] for column in primary]
    named = [raw(column).label(f"vrelko_row_{i}") for i, column in enumerate(shown)]
    with lend(connection, plan.served.settings) as lender:  # rows of entities: by a Session
        runner = Runner(lender, plan.served.run_values(plan.params))
        # NULL keys come in a statement of their own, before or after the others.
        for one in variant.edge(False):
            given = {LIMIT: reach - len(rows)}
            found, _ = runner.fetch(one.add_columns(*named), None, given, variant.apart)
            rows += found
            if len(rows) >= reach:
                break
    return rows


def _full_rows(
    connection: Connection, table: Table, rows: Sequence[Any]
) -> Iterator[dict[str, Any]]:
    """Yield all values of rows that have their primary key behind them."""
    primary = list(table.primary_key.columns)
    for row in rows:
        # The listing may not show its primary key, so it was added behind.
        own = row[-len(primary) :]
        where = [raw(column) == value for column, value in zip(primary, own, strict=True)]
        values = connection.execute(select(table).where(*where)).one()
        # By the model's names, which need not be those of the database.
        yield dict(zip(table.c.keys(), values, strict=True))


def _untyped(table: Table) -> Table:
    """Return a table whose values are read and written as they are stored."""
    columns = [
        Column(one.name, RAW, primary_key=one.primary_key, key=one.key)
        for one in table.columns
        if one.computed is None
    ]
    return Table(table.name, MetaData(), *columns, schema=table.schema)


class _Replay:
    """The copied table, the rows that take part, and the readers."""

    def __init__(
        self, copy: Engine, plan: Plan, walked: WalkedRows, strategies: Sequence[DriftStrategy]
    ) -> None:
        self._copy, self._plan, self._walked = copy, plan, walked
        self.strategies = tuple(strategies)
        self.pages = plan.candidates[0].drift.pages
        self._dwell = plan.given.readers.dwell_s
        self._stream, self._overlap = plan.stream, plan.overlap
        self._table = ChangingTable(walked)

    def play(self, rng: random.Random) -> dict[DriftStrategy, tuple[Counts, bool]]:
        """Run one walk of each strategy; return what each suffered, and whether simulated alike."""
        size = self._plan.judgement.size
        times = tuple(page * self._dwell for page in range(self.pages))
        script = write_script(self._walked, self._stream, times[-1], rng)
        # The same changes for the simulator, so that every count can be compared.
        course, known = make_course(self._walked, script, size, times, self._overlap)
        listing, params = self._plan.served, self._plan.params
        walkers = [
            Walker(
                listing=listing,
                strategy=strategy,
                size=size,
                params=params,
                engine=self._copy,
                overlap=self._overlap,
            )
            for strategy in self.strategies
        ]
        waiting = list(script.changes)
        with (
            ExitStack() as held,
            self._copy.connect() as writer,
            self._copy.connect() as connection,
        ):
            # Whatever fails: a view that is still held would keep the copy from being dropped.
            for walker in walkers:
                held.callback(walker.close)
            self._table.prepare(writer, script.outside)
            for time in times:
                due = []
                # All that happens until this page is asked for, in one transaction.
                while waiting and waiting[0].time <= time:
                    due.append(waiting.pop(0))
                self._table.apply(writer, due)
                for walker in walkers:
                    if not walker.ended:
                        walker.turn(connection)
                connection.rollback()  # each page sees what is committed by then
            for walker in walkers:
                walker.close()
            self._table.restore(writer)
        return {walker.strategy: _count(walker, course, known) for walker in walkers}


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


def _count(
    walker: Walker, course: Course, known: dict[tuple[Any, ...], tuple[int, int]]
) -> tuple[Counts, bool]:
    from vrelko.core.drift.fast import play
    from vrelko.core.drift.timeline import Timeline

    pages = [[known[key] for key in page] for page in walker.pages]
    # A frozen list covers rows where they stood when it was made, whatever happened to them since.
    listed = {row: key for key, row in known.values() if key % (1 << 32) == 0}
    frozen = walker.strategy == "frozen-ids"
    covered = [listed[row] if frozen else key for page in pages for key, row in page]
    served = reference.Served(pages, max(covered, default=-1), walker.ended)
    counts = reference.count(course, served)
    return counts, counts == play(Timeline(course), walker.strategy)


def _sum(strategy: DriftStrategy, found: Sequence[tuple[Counts, bool]], pages: int) -> Replayed:
    counts = [one for one, _ in found]
    return Replayed(
        strategy=strategy,
        walks=len(counts),
        pages=pages,
        served=sum(one.served for one in counts),
        repeats=sum(one.repeats for one in counts),
        misses=sum(one.misses for one in counts),
        unseen=sum(one.unseen for one in counts),
        dodges=sum(one.dodges for one in counts),
        repeats_error=_error([one.repeats for one in counts]),
        misses_error=_error([one.misses for one in counts]),
        alike=all(alike for _, alike in found),
    )


def _error(values: Sequence[int]) -> float:
    """Return the standard error of the mean."""
    n = len(values)
    if n < 2:
        return float("inf")
    mean = sum(values) / n
    return float((sum((value - mean) ** 2 for value in values) / (n - 1) / n) ** 0.5)


def paged_table(listing: Listing) -> Table:
    """Return the table whose rows come and go. Raises ListingError where it has no primary key."""
    table = listing.paged_table
    if table is None or not len(table.primary_key.columns):
        raise ListingError(
            "rows of this listing cannot be taken out and put back: its table has no primary key",
            "Replay a listing of a table that has one",
            "replay-key",
        )
    return table
