"""Replaying drift: readers walk a copy of the database while its own rows come and go.

Rows that will arrive are taken out of the copy before a walk and put back during it, at places
drawn from the writers' landing; deletes hit rows drawn alike from the whole order. So every row
that comes is a real one, whatever the table's constraints. Time is virtual: nothing sleeps.
"""

from __future__ import annotations

import random
import shutil
import tempfile
from collections.abc import Callable, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Engine, Table, bindparam, create_engine, event, select

from vrelko.core.drift.expecting import Stream, count_walk
from vrelko.engines.registry import database_errors
from vrelko.errors import DatabaseError, ListingError
from vrelko.serving.listing import Listing
from vrelko.serving.planning import Plan
from vrelko.serving.reading import PageReader
from vrelko.serving.running import Runner
from vrelko.sql.statements import LIMIT

if TYPE_CHECKING:
    from collections.abc import Iterator

MOST_BYTES = 2_000_000_000
"""Larger database files are not copied for a replay."""

STRATEGIES = ("offset", "keyset")


@dataclass(frozen=True, slots=True)
class Replayed:
    """What the walks of one strategy suffered, in all and a walk, with the standard error."""

    strategy: str
    walks: int
    pages: int
    served: int
    repeats: int
    misses: int
    unseen: int
    repeats_error: float
    misses_error: float


@dataclass(frozen=True, slots=True)
class _Event:
    time: float
    inserts: bool
    row: int  # position in the order of all rows that take part


@dataclass(frozen=True, slots=True)
class _Script:
    """One walk's changes: which rows start outside, and what happens when."""

    outside: frozenset[int]
    events: tuple[_Event, ...]


def replay(
    engine: Engine,
    plan: Plan,
    walks: int,
    seed: int,
    progress: Callable[[int], None] | None = None,
) -> tuple[Replayed, ...]:
    """Walk a copy of an SQLite database by offset and by keyset while its rows change.

    Both readers ask at the same moments of the same stream of changes. The database itself is
    only read. Raises DatabaseError when it cannot be copied, PageError where a parameter has no
    value.
    """
    plan.check_values()
    with _copy_of(engine) as copy, database_errors("replay"):
        theatre = _Theatre(copy, plan)
        totals: dict[str, list[tuple[int, int, int, int]]] = {name: [] for name in STRATEGIES}
        rng = random.Random(seed)
        for _ in range(walks):
            for strategy, counted in theatre.play(rng).items():
                totals[strategy].append(counted)
            if progress is not None:
                progress(1)
    return tuple(_sum(name, found, theatre.pages) for name, found in totals.items())


class _Theatre:
    """The copied table, the rows that take part, and the readers."""

    def __init__(self, copy: Engine, plan: Plan) -> None:
        self._copy = copy
        self._plan = plan
        self._size = plan.judgement.size
        self.pages = plan.candidates[0].drift.pages
        self._dwell = plan.given.readers.dwell_s
        self._stream = Stream.of(plan.judgement.rows, plan.given.writers)
        self._table = _paged_table(plan.served)
        self._delete = self._table.delete().where(
            *(
                column == bindparam(f"vrelko_{column.name}", type_=column.type)
                for column in self._table.primary_key.columns
            )
        )
        span = self._dwell * max(self.pages - 1, 0)
        self._inserts = self._stream.inserts * span
        self._deletes = self._stream.deletes * span
        reach = (self.pages + 1) * self._size + int(2 * (self._inserts + self._deletes)) + 50
        self._keys, self._rows = self._cast(reach)

    def _cast(self, reach: int) -> tuple[list[tuple[Any, ...]], list[dict[str, Any]]]:
        """Return the order keys and the full rows of the first `reach` rows of the listing."""
        listing, plan = self._plan.served, self._plan
        variant = listing.variant("sqlite", None, plan.params)
        keys = list(self._table.primary_key.columns)
        with self._copy.connect() as connection:
            runner = Runner(connection, plan.params)
            reader = PageReader(runner, variant, reach)
            with_key = variant.edge(False)[0].add_columns(
                *(column.label(f"vrelko_row_{i}") for i, column in enumerate(keys))
            )
            rows = connection.execute(with_key, {**plan.params, LIMIT: reach}).all()
            order = reader.keys_of(rows)
            ids = [tuple(row[-len(keys) :]) for row in rows]
            full = []
            for one in ids:
                where = [c == value for c, value in zip(keys, one, strict=True)]
                full.append(connection.execute(select(self._table).where(*where)).one())
        return order, [dict(row._mapping) for row in full]

    def play(self, rng: random.Random) -> dict[str, tuple[int, int, int, int]]:
        """Run one walk and return served rows, repeats, misses and unseen rows by strategy."""
        script = self._write(rng)
        present = set(range(len(self._keys))) - script.outside
        readers = {name: _Reader(self._plan, name, self._size) for name in STRATEGIES}
        with self._copy.connect() as writer, self._copy.connect() as connection:
            self._apply(writer, [(False, row) for row in sorted(script.outside)])
            alive = set(present)
            inserted: set[int] = set()
            deleted: set[int] = set()
            waiting = list(script.events)
            for page in range(self.pages):
                due = []
                while waiting and waiting[0].time <= page * self._dwell:
                    event = waiting.pop(0)
                    if event.inserts or event.row in present:
                        due.append((event.inserts, event.row))
                        (present.add if event.inserts else present.discard)(event.row)
                        (inserted if event.inserts else deleted).add(event.row)
                self._apply(writer, due)
                for reader in readers.values():
                    reader.turn(connection)
            missing = set(range(len(self._keys))) - present
            self._apply(writer, [(True, row) for row in sorted(missing)])
        keys = self._keys
        initial, gone, new = ({keys[i] for i in group} for group in (alive, deleted, inserted))
        found = {}
        for name, reader in readers.items():
            counted = count_walk(reader.served, keys, initial, gone, new, reader.short)
            found[name] = (sum(map(len, reader.served)), *counted)
        return found

    def _write(self, rng: random.Random) -> _Script:
        """Draw one walk's changes."""
        span = self._dwell * max(self.pages - 1, 0)
        inserts = _times(rng, self._stream.inserts, span)
        ranks = sorted(self._stream.rank_of(rng.random()) for _ in inserts)
        # The i-th of the sorted ranks stands i places further down in the order of all rows.
        places = [int(rank) + i for i, rank in enumerate(ranks)]
        places = [place for place in places if place < len(self._keys)]
        times = rng.sample(inserts, len(places))
        outside = frozenset(places)
        events = [_Event(t, True, row) for t, row in zip(times, places, strict=True)]
        for t in _times(rng, self._stream.deletes, span):
            row = int(rng.random() * self._stream.rows)
            if row < len(self._keys) and row not in outside:
                events.append(_Event(t, False, row))
        return _Script(outside, tuple(sorted(events, key=lambda event: event.time)))

    def _apply(self, writer: Any, changes: Sequence[tuple[bool, int]]) -> None:
        """Insert (True) or delete (False) rows on the copy, in one transaction."""
        coming = [self._rows[row] for inserts, row in changes if inserts]
        going = [self._rows[row] for inserts, row in changes if not inserts]
        if coming:
            writer.execute(self._table.insert(), coming)
        if going:
            keys = [column.name for column in self._table.primary_key.columns]
            named = [{f"vrelko_{key}": row[key] for key in keys} for row in going]
            writer.execute(self._delete, named)
        writer.commit()


class _Reader:
    """One reader's walk: the next page by a strategy, and what it was served."""

    def __init__(self, plan: Plan, strategy: str, size: int) -> None:
        self._listing: Listing = plan.served.with_strategy(strategy)
        self._params = plan.params
        self._size = size
        self._at: str | None = None
        self.served: list[list[tuple[Any, ...]]] = []
        self.short = False

    def turn(self, connection: Any) -> None:
        """Read the next page, unless the walk has ended."""
        if self.short:
            return
        page = self._listing.read(
            connection, self._at, params=self._params, size=self._size, total=False
        )
        self.served.append(list(page.keys))
        self._at = page.next
        self.short = self._at is None


def _times(rng: random.Random, rate: float, span: float) -> list[float]:
    """Return the times of a Poisson process of `rate` a second over `span` seconds."""
    times = []
    t = rng.expovariate(rate) if rate > 0 else span
    while t < span:
        times.append(t)
        t += rng.expovariate(rate)
    return times


def _sum(strategy: str, found: Sequence[tuple[int, int, int, int]], pages: int) -> Replayed:
    served, repeats, misses, unseen = (sum(column) for column in zip(*found, strict=True))
    return Replayed(
        strategy, len(found), pages, served, repeats, misses, unseen,
        _error([row[1] for row in found]), _error([row[2] for row in found]),
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


@contextmanager
def _copy_of(engine: Engine) -> Iterator[Engine]:
    """Lend an engine on a temporary copy of an SQLite database file."""
    source = engine.url.database
    if engine.dialect.name != "sqlite" or not source or source == ":memory:":
        raise DatabaseError(
            "only an SQLite file can be copied for a replay",
            "Ask for the expected drift alone: drift(plan)",
            "replay-engine",
        )
    size = Path(source).stat().st_size
    if size > MOST_BYTES:
        raise DatabaseError(
            f"the database file of {size / 1e9:.1f} GB is too large to copy for a replay",
            "Replay on a smaller copy of your own",
            "replay-size",
        )
    with tempfile.TemporaryDirectory(prefix="vrelko-") as folder:
        path = Path(folder) / "copy.db"
        _backup(source, path)
        copy = create_engine(f"sqlite:///{path}")
        event.listen(copy, "connect", _forgo_safety)
        try:
            yield copy
        finally:
            copy.dispose()
            shutil.rmtree(folder, ignore_errors=True)


def _forgo_safety(connection: Any, _record: Any) -> None:
    """Make commits cheap: the copy need not survive a crash."""
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("PRAGMA journal_mode = MEMORY")


def _backup(source: str, path: Path) -> None:
    """Copy a database consistently, whoever writes to it meanwhile."""
    import sqlite3

    with sqlite3.connect(source) as from_, sqlite3.connect(path) as to:
        from_.backup(to)
    from_.close()
    to.close()
