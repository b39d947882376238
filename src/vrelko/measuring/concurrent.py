"""Real readers beside real writers: what walks suffer, counted from the writers' logs.

Writers insert, delete and move rows of a copy as fast as they can, and log what they touch; readers
walk it meanwhile without a pause. Of the rows that were there when a walk began and that no writer
touched until it ended, each that the walk covers must be served exactly once.
"""

from __future__ import annotations

import random
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, field

from sqlalchemy import Connection, Engine
from sqlalchemy.exc import SQLAlchemyError

from vrelko.core.drift.walks import DELETE, INSERT, MOVE, DriftStrategy
from vrelko.engines.registry import database_errors
from vrelko.engines.views import can_hold_view
from vrelko.errors import DatabaseError
from vrelko.measuring.change_scripts import Change, WalkedRows
from vrelko.measuring.table_copies import copy_of_file
from vrelko.measuring.walked_rows import ChangingTable, copy_of_walked, gather_walked_rows
from vrelko.measuring.walkers import Walker
from vrelko.planning.plan import Plan


@dataclass(frozen=True, slots=True)
class Crowd:
    """How many writers, which strategies are walked, and for how long: seconds, or walks of each.

    `disturb` is called with the connection of the reader by key after each page; a reader whose
    connection breaks takes another one and goes on from where it was.
    """

    seconds: float = 10.0
    walks: int | None = None
    writers: int = 3
    strategies: tuple[DriftStrategy, ...] = ("offset", "ceiling", "keyset")
    seed: int = 1
    pages: int | None = None
    disturb: Callable[[Connection], None] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Crowded:
    """What walks of one strategy suffered beside `writes` concurrent changes.

    `untouched`: rows that were there and that no one touched, over all walks: of these are the
    `misses`. `repeats` of a row at one key. `resumed`: broken connections that a walk outlived.
    """

    strategy: DriftStrategy
    walks: int
    served: int
    untouched: int
    repeats: int
    misses: int
    resumed: int
    writes: int


@dataclass
class _Log:
    """Which rows are there, and which were touched when."""

    present: set[int]
    lock: threading.Lock = field(default_factory=threading.Lock)
    open: dict[int, tuple[float, tuple[int, ...]]] = field(default_factory=dict)
    done: list[tuple[float, float, tuple[int, ...]]] = field(default_factory=list)
    writes: int = 0

    def begin(self, writer: int, rows: tuple[int, ...]) -> None:
        # The lock is held for a moment alone: writers must not wait for one another here.
        with self.lock:
            self.open[writer] = time.monotonic(), rows

    def end(self, writer: int, row: int, there: bool) -> None:
        with self.lock:
            began, rows = self.open.pop(writer)
            self.done.append((began, time.monotonic(), rows))
            (self.present.add if there else self.present.discard)(row)
            self.writes += 1

    def start(self) -> tuple[float, frozenset[int]]:
        with self.lock:
            return time.monotonic(), frozenset(self.present)

    def touched(self, began: float) -> set[int]:
        """Return the rows touched since a moment, up to now."""
        with self.lock:
            found = {row for _, rows in self.open.values() for row in rows}
            for _, ended, rows in reversed(self.done):
                # They stand in the order they ended in; all before this one ended earlier still.
                if ended < began:
                    break
                found.update(rows)
            return found


def run_crowd(
    engine: Engine, plan: Plan, crowd: Crowd, copy: Engine | None = None
) -> tuple[Crowded, ...]:
    """Walk a copy of a listing's rows by several strategies while others write to it.

    The copy is made as for a replay. Raises DatabaseError where none can be, or where a writer
    fails.
    """
    plan.check_values()
    with database_errors("walks beside writers"):
        # Gathered once, before anything changes: readers and writers must mean the same rows.
        walked = gather_walked_rows(engine, plan, crowd.pages, own=copy is None)
        with ExitStack() as held:
            if copy is None:
                lent = held.enter_context(copy_of_file(engine))
            else:
                own = copy_of_walked(copy, engine, plan, walked, crowd.pages)
                lent, walked = held.enter_context(own)
            # Readers and writers would wait for one another, and nothing drift.
            if not can_hold_view(lent):
                raise DatabaseError(
                    "readers and writers would wait for one another here: the database is in "
                    "memory, or a file outside of WAL mode",
                    "Use a file with PRAGMA journal_mode = WAL, or a server",
                    "view-memory",
                )
            return _run(lent, plan, walked, crowd)


def _run(copy: Engine, plan: Plan, walked: WalkedRows, crowd: Crowd) -> tuple[Crowded, ...]:
    log, stop = _Log(set(range(len(walked.keys)))), threading.Event()
    failed: list[BaseException] = []
    threads = [
        threading.Thread(target=_write, args=(copy, plan, walked, crowd, i, log, stop, failed))
        for i in range(crowd.writers)
    ]
    readers = [
        _Reader(copy, plan, walked=walked, crowd=crowd, strategy=strategy, log=log)
        for strategy in crowd.strategies
    ]
    threads += [threading.Thread(target=reader.run, args=(stop, failed)) for reader in readers]
    for thread in threads:
        thread.start()
    ends = time.monotonic() + crowd.seconds
    while not failed and any(reader.busy for reader in readers):
        if crowd.walks is None and time.monotonic() >= ends:
            break
        time.sleep(0.02)
    stop.set()
    for thread in threads:
        thread.join()
    if failed:
        raise failed[0]
    return tuple(reader.result() for reader in readers)


def _write(
    copy: Engine,
    plan: Plan,
    walked: WalkedRows,
    crowd: Crowd,
    number: int,
    log: _Log,
    stop: threading.Event,
    failed: list[BaseException],
) -> None:
    """Change rows that are this writer's own, until told to stop.

    Half of the rows are changed by no one.
    """
    rng = random.Random(f"{crowd.seed}-{number}")
    # Writers share no row, so the log says who touched it; the odd rows nobody touches.
    own = [row for row in range(len(walked.keys)) if row % (2 * crowd.writers) == 2 * number]
    table = ChangingTable(walked)
    table.take_over(set(own))
    there = set(own)
    try:
        with copy.connect() as connection:
            while not stop.is_set() and own:
                row = rng.choice(own)
                if row not in there:
                    change = Change(0.0, INSERT, row)
                elif walked.leads and rng.random() < 0.4:
                    change = Change(0.0, MOVE, row, rng.randrange(len(walked.keys)))
                else:
                    change = Change(0.0, DELETE, row)
                # Logged before the change and after it: a walk in between cannot tell on which side
                # it was.
                log.begin(number, (row,))
                table.apply(connection, [change])
                (there.discard if change.kind == DELETE else there.add)(row)
                log.end(number, row, change.kind != DELETE)
    except Exception as error:
        failed.append(error)


class _Reader:
    """Walks by one strategy, one walk after the other."""

    def __init__(
        self,
        copy: Engine,
        plan: Plan,
        *,
        walked: WalkedRows,
        crowd: Crowd,
        strategy: DriftStrategy,
        log: _Log,
    ) -> None:
        self._copy, self._plan, self._crowd, self._strategy, self._log = (
            copy,
            plan,
            crowd,
            strategy,
            log,
        )
        identity = walked.identity
        self._rows = {tuple(k[i] for i in identity): row for row, k in enumerate(walked.keys)}
        self._identity = identity
        self._pages = crowd.pages or plan.candidates[0].drift.pages
        self._counts: Counter[str] = Counter()
        self.busy = True

    def run(self, stop: threading.Event, failed: list[BaseException]) -> None:
        """Walk until told to stop, or until the walks wanted are done."""
        most = self._crowd.walks
        try:
            while not stop.is_set() and (most is None or self._counts["walks"] < most):
                self._walk()
        except Exception as error:
            failed.append(error)
        self.busy = False

    def result(self) -> Crowded:
        """Return what all walks suffered."""
        c = self._counts
        return Crowded(
            strategy=self._strategy,
            walks=c["walks"],
            served=c["served"],
            untouched=c["untouched"],
            repeats=c["repeats"],
            misses=c["misses"],
            resumed=c["resumed"],
            writes=self._log.writes,
        )

    def _walk(self) -> None:
        plan = self._plan
        walker = Walker(plan.served, self._strategy, plan.judgement.size, plan.params, self._copy)
        began, present = self._log.start()
        connection = self._copy.connect()
        try:
            while len(walker.pages) < self._pages and not walker.ended:
                try:
                    with database_errors("walk beside writers"):
                        walker.turn(connection)
                        connection.rollback()  # a new snapshot for each page
                except DatabaseError:
                    # Nobody asked for broken connections, so this is a real failure.
                    if self._crowd.disturb is None:
                        raise
                    self._counts["resumed"] += 1
                    _drop(connection)
                    connection = self._copy.connect()
                    continue
                if self._crowd.disturb is not None and self._strategy == "keyset":
                    self._crowd.disturb(connection)
        finally:
            _drop(connection)
            walker.close()
        self._count(walker, present - self._log.touched(began))

    def _count(self, walker: Walker, untouched: frozenset[int]) -> None:
        # A row that was moved comes under another key: what identifies it stays.
        keys = [key for page in walker.pages for key in page]
        rows = [self._rows.get(tuple(key[i] for i in self._identity)) for key in keys]
        seen = {row for row in rows if row is not None}
        still = [row for row in seen if row in untouched]
        # A walk answers for what it has passed. A row that was moved may have been met anywhere, so
        # the last row at rest tells how far that is.
        cover = len(self._rows) if walker.ended else max(still, default=-1)
        covered = {row for row in untouched if row <= cover}
        self._counts["walks"] += 1
        self._counts["served"] += len(keys)
        self._counts["untouched"] += len(covered)
        self._counts["repeats"] += len(keys) - len(set(keys))
        self._counts["misses"] += len(covered - seen)


def _drop(connection: Connection) -> None:
    """Give a connection up that may be broken."""
    try:
        connection.rollback()
    except SQLAlchemyError:
        connection.invalidate()
    connection.close()
