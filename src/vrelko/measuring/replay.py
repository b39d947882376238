"""Replaying drift: readers walk a copy of the database while its own rows come, go and move.

Time is virtual: nothing sleeps. The same changes are simulated too (`core.drift`), and every count
of every walk must be the same.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Engine

from vrelko.core.drift import reference
from vrelko.core.drift.walks import DRIFT_STRATEGIES, Counts, Course, DriftStrategy
from vrelko.engines.registry import database_errors
from vrelko.engines.views import can_hold_view
from vrelko.measuring.change_scripts import WalkedRows, make_course, write_script
from vrelko.measuring.table_copies import copy_of_file
from vrelko.measuring.walked_rows import ChangingTable, copy_of_walked, gather_walked_rows
from vrelko.measuring.walkers import Walker
from vrelko.planning.plan import Plan

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
