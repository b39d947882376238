"""Replaying drift: readers walk a copy of the database while its own rows come and go.

Rows that will arrive are taken out of the copy before a walk and put back during it, at places
drawn from the writers' landing; deletes hit rows drawn alike from the whole order. So every row
that comes is a real one, whatever the table's constraints. Time is virtual: nothing sleeps. The
same changes are simulated too (`core.drift`), and the counts must be the same.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from sqlalchemy import Connection, Engine, Table, bindparam, select

from vrelko.core.drift.expecting import Stream, count_walk
from vrelko.core.drift.walks import DELETE, INSERT, SPACE, Course, Event, Way
from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors
from vrelko.errors import ListingError
from vrelko.measuring.copying import copy_of_file, copy_of_rows
from vrelko.serving.listing import Listing
from vrelko.serving.planning import Plan
from vrelko.serving.running import Runner
from vrelko.sql.statements import LIMIT

if TYPE_CHECKING:
    from contextlib import AbstractContextManager

STRATEGIES: tuple[Way, ...] = ("offset", "keyset")
"""The strategies that are replayed."""


@dataclass(frozen=True, slots=True)
class Replayed:
    """What the walks of one strategy suffered, in all and a walk, with the standard error.

    `alike`: every count of every walk equals that of the simulator on the same changes.
    """

    strategy: str
    walks: int
    pages: int
    served: int
    repeats: int
    misses: int
    unseen: int
    repeats_error: float
    misses_error: float
    alike: bool


@dataclass(frozen=True, slots=True)
class _Change:
    time: float
    inserts: bool
    row: int  # place in the order of all rows that take part


@dataclass(frozen=True, slots=True)
class _Script:
    """One walk's changes: which rows start outside, and what happens when."""

    outside: frozenset[int]
    changes: tuple[_Change, ...]


@dataclass(frozen=True, slots=True)
class _Cast:
    """The rows that take part, in order: their keys in the order, and their values."""

    keys: list[tuple[Any, ...]]
    rows: list[dict[str, Any]]


def replay(
    engine: Engine,
    plan: Plan,
    walks: int,
    seed: int,
    progress: Callable[[int], None] | None = None,
    copy: Engine | None = None,
) -> tuple[Replayed, ...]:
    """Walk a copy of a listing's rows by offset and by keyset while they change.

    Both readers ask at the same moments of the same stream of changes. The database itself is only
    read: an SQLite file is copied whole; else the rows that take part go into a table of the same
    name that is made in the database of `copy` for the time. Raises DatabaseError when they cannot
    be copied, PageError where a parameter has no value.
    """
    plan.check_values()
    with database_errors("replay"):
        if copy is None:
            with copy_of_file(engine) as lent:
                return _play_all(lent, lent, plan, walks, seed, progress)
        _, reach = _terms(plan)
        table = _paged_table(plan.served)
        with engine.connect() as connection:
            cast = _cast(connection, plan, table, reach)
        lends: AbstractContextManager[Engine] = copy_of_rows(copy, table, cast.rows)
        with lends as lent:
            return _play_all(lent, engine, plan, walks, seed, progress, cast)


def _play_all(
    copy: Engine,
    source: Engine,
    plan: Plan,
    walks: int,
    seed: int,
    progress: Callable[[int], None] | None,
    cast: _Cast | None = None,
) -> tuple[Replayed, ...]:
    if cast is None:
        _, reach = _terms(plan)
        with source.connect() as connection:
            cast = _cast(connection, plan, _paged_table(plan.served), reach)
    theatre = _Theatre(copy, plan, cast)
    found: dict[Way, list[_Counted]] = {name: [] for name in STRATEGIES}
    rng = random.Random(seed)
    for _ in range(walks):
        for strategy, counted in theatre.play(rng).items():
            found[strategy].append(counted)
        if progress is not None:
            progress(1)
    return tuple(_sum(name, many, theatre.pages) for name, many in found.items())


def _terms(plan: Plan) -> tuple[Stream, int]:
    """Return the plan's stream of changes, and how many rows a walk can come to meet."""
    stream = Stream.of(plan.judgement.rows, plan.given.writers)
    pages = plan.candidates[0].drift.pages
    span = plan.given.readers.dwell_s * max(pages - 1, 0)
    changes = (stream.inserts + stream.deletes) * span
    return stream, (pages + 1) * plan.judgement.size + int(2 * changes) + 50


def _cast(connection: Connection, plan: Plan, table: Table, reach: int) -> _Cast:
    """Return the order keys and the full rows of the first `reach` rows of the listing."""
    variant = plan.served.lent_variant(connection, None, plan.params)
    values = plan.served.run_values(plan.params)
    keys = list(table.primary_key.columns)
    edge = variant.edge(False)
    with_key = [
        one.add_columns(*(c.label(f"vrelko_row_{i}") for i, c in enumerate(keys))) for one in edge
    ]
    rows: list[Any] = []
    runner = Runner(connection, values)
    for one in with_key:
        found, _ = runner.fetch(one, None, {LIMIT: reach - len(rows)})
        rows += found
        if len(rows) >= reach:
            break
    order = [variant.key_from(row) for row in rows]
    full = []
    for row in rows:
        identity = row[-len(keys) :]
        where = [column == value for column, value in zip(keys, identity, strict=True)]
        full.append(dict(connection.execute(select(table).where(*where)).one()._mapping))
    return _Cast(order, full)


@dataclass(frozen=True, slots=True)
class _Counted:
    served: int
    repeats: int
    misses: int
    unseen: int
    alike: bool


@dataclass
class _Reader:
    """One reader's walk: the next page by a strategy, and what it was served."""

    plan: Plan
    strategy: Way
    size: int
    served: list[list[tuple[Any, ...]]] = field(default_factory=list)
    at: Any = None
    changed: tuple[frozenset[int], frozenset[int]] | None = None  # inserted, deleted, at its end

    def __post_init__(self) -> None:
        # A grid takes any offset; the statements are those of the listing's own kind.
        self.listing: Listing = self.plan.served.with_strategy(self.strategy, "grid")

    def turn(self, connection: Connection) -> None:
        """Read the next page."""
        page = self.listing.read(
            connection, self.at, params=self.plan.params, size=self.size, total=False
        )
        self.served.append(list(page.keys))
        if self.strategy == "offset":
            self.at = Spot.offset(len(self.served) * self.size)
        else:
            self.at = page.after

    @property
    def ended(self) -> bool:
        """Whether the last page was not full."""
        return bool(self.served) and len(self.served[-1]) < self.size


class _Theatre:
    """The copied table, the rows that take part, and the readers."""

    def __init__(self, copy: Engine, plan: Plan, cast: _Cast) -> None:
        self._copy, self._plan, self._cast = copy, plan, cast
        self._size = plan.judgement.size
        self.pages = plan.candidates[0].drift.pages
        self._dwell = plan.given.readers.dwell_s
        self._stream, _ = _terms(plan)
        self._table = _paged_table(plan.served)
        self._delete = self._table.delete().where(
            *(
                column == bindparam(f"vrelko_{column.name}", type_=column.type)
                for column in self._table.primary_key.columns
            )
        )

    def play(self, rng: random.Random) -> dict[Way, _Counted]:
        """Run one walk of each strategy, and count it."""
        script = self._write(rng)
        keys = self._cast.keys
        present = set(range(len(keys))) - script.outside
        readers = [_Reader(self._plan, name, self._size) for name in STRATEGIES]
        alive = frozenset(present)
        inserted: set[int] = set()
        deleted: set[int] = set()
        waiting = list(script.changes)
        with self._copy.connect() as writer, self._copy.connect() as connection:
            self._apply(writer, [(False, row) for row in sorted(script.outside)])
            for page in range(self.pages):
                due = []
                while waiting and waiting[0].time <= page * self._dwell:
                    change = waiting.pop(0)
                    if change.inserts or change.row in present:
                        due.append((change.inserts, change.row))
                        (present.add if change.inserts else present.discard)(change.row)
                        (inserted if change.inserts else deleted).add(change.row)
                self._apply(writer, due)
                for reader in readers:
                    if not reader.ended:
                        reader.turn(connection)
                        reader.changed = frozenset(inserted), frozenset(deleted)
                connection.rollback()  # each page sees what is committed by then
            missing = set(range(len(keys))) - present
            self._apply(writer, [(True, row) for row in sorted(missing)])
        course = self._course(script)
        return {reader.strategy: self._count(reader, alive, course) for reader in readers}

    def _count(self, reader: _Reader, alive: frozenset[int], course: Course) -> _Counted:
        from vrelko.core.drift.fast import play
        from vrelko.core.drift.stage import Stage

        keys = self._cast.keys
        inserted, deleted = reader.changed or (frozenset(), frozenset())
        there, gone, new = ({keys[i] for i in group} for group in (alive, deleted, inserted))
        served = sum(map(len, reader.served))
        counted = count_walk(reader.served, keys, there, gone, new, reader.ended)
        simulated = play(Stage(course), reader.strategy)
        same = (served, *counted) == (
            simulated.served, simulated.repeats, simulated.misses, simulated.unseen,
        )  # fmt: skip
        return _Counted(served, *counted, same)

    def _course(self, script: _Script) -> Course:
        """Return the same walk as the simulator takes it."""
        start = [row for row in range(len(self._cast.keys)) if row not in script.outside]
        number = {row: i for i, row in enumerate(start)}
        key: dict[int, int] = {}
        ahead, between = 0, 0
        for row in range(len(self._cast.keys)):
            if row in number:
                ahead, between = ahead + 1, 0
            else:
                between += 1
                key[row] = ahead * SPACE + between
                number[row] = len(start) + len(key) - 1
        events = tuple(
            Event(change.time, INSERT, number[change.row], key[change.row])
            if change.inserts
            else Event(change.time, DELETE, number[change.row])
            for change in script.changes
        )
        times = tuple(page * self._dwell for page in range(self.pages))
        return Course(len(start), self._size, times, events)

    def _write(self, rng: random.Random) -> _Script:
        """Draw one walk's changes."""
        span = self._dwell * max(self.pages - 1, 0)
        inserts = _times(rng, self._stream.inserts, span)
        ranks = sorted(self._stream.rank_of(rng.random()) for _ in inserts)
        # The i-th of the sorted ranks stands i places further down in the order of all rows.
        places = [int(rank) + i for i, rank in enumerate(ranks)]
        places = [place for place in places if place < len(self._cast.keys)]
        times = rng.sample(inserts, len(places))
        outside = frozenset(places)
        changes = [_Change(t, True, row) for t, row in zip(times, places, strict=True)]
        for t in _times(rng, self._stream.deletes, span):
            row = int(rng.random() * self._stream.rows)
            if row < len(self._cast.keys) and row not in outside:
                changes.append(_Change(t, False, row))
        return _Script(outside, tuple(sorted(changes, key=lambda change: change.time)))

    def _apply(self, writer: Connection, changes: Sequence[tuple[bool, int]]) -> None:
        """Insert (True) or delete (False) rows on the copy, in one transaction."""
        rows = self._cast.rows
        coming = [rows[row] for inserts, row in changes if inserts]
        going = [rows[row] for inserts, row in changes if not inserts]
        if coming:
            writer.execute(self._table.insert(), coming)
        if going:
            keys = [column.name for column in self._table.primary_key.columns]
            named = [{f"vrelko_{key}": row[key] for key in keys} for row in going]
            writer.execute(self._delete, named)
        writer.commit()


def _times(rng: random.Random, rate: float, span: float) -> list[float]:
    """Return the times of a Poisson process of `rate` a second over `span` seconds."""
    times = []
    t = rng.expovariate(rate) if rate > 0 else span
    while t < span:
        times.append(t)
        t += rng.expovariate(rate)
    return times


def _sum(strategy: str, found: Sequence[_Counted], pages: int) -> Replayed:
    return Replayed(
        strategy, len(found), pages,
        sum(one.served for one in found), sum(one.repeats for one in found),
        sum(one.misses for one in found), sum(one.unseen for one in found),
        _error([one.repeats for one in found]), _error([one.misses for one in found]),
        all(one.alike for one in found),
    )  # fmt: skip


def _error(values: Sequence[int]) -> float:
    """Return the standard error of the mean."""
    n = len(values)
    if n < 2:
        return float("inf")
    mean = sum(values) / n
    return float((sum((value - mean) ** 2 for value in values) / (n - 1) / n) ** 0.5)


def _paged_table(listing: Listing) -> Table:
    table = listing.paged_table
    if table is None or not len(table.primary_key.columns):
        raise ListingError(
            "rows of this listing cannot be taken out and put back: its table has no primary key",
            "Replay a listing of a table that has one",
            "replay-key",
        )
    return table
