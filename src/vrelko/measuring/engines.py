"""What measuring asks of an engine: how a page is run and counted, and an index tried.

One record an engine; the functions below it choose by the engine that a connection is of.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, Engine

from vrelko.core.index_advice import Advice
from vrelko.engines import clock
from vrelko.engines.counters import count_reads
from vrelko.engines.limits import limit_time
from vrelko.engines.mariadb.session import read_handlers
from vrelko.engines.postgresql.session import count_again
from vrelko.engines.reads import sent_on
from vrelko.engines.registry import database_errors, engine_of
from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.errors import VrelkoError
from vrelko.measuring.budget import Spending
from vrelko.measuring.index_trials import hypothetically, not_at_all, on_a_copy
from vrelko.measuring.trials import Trial, was_cut
from vrelko.planning.plan import Plan

_COUNTED_TICKS = 5_000  # calls of SQLite's step counter a statement may cost, about
_COUNTED_MS = 200.0  # SQLite's pages that took longer are not run again


@dataclass(frozen=True, slots=True)
class Run:
    """One run of a trial: what was counted, None where it was not; milliseconds; whether cut.

    `rows` it fetched, or counted.
    """

    counted: float | None
    ms: float
    cut: bool = False
    rows: float = 0.0


@dataclass(frozen=True, slots=True)
class Limits:
    """Milliseconds of a statement at most, and those around a count that is a run of its own."""

    most_ms: float
    slow_ms: float
    misjudged_ms: float


def _run_postgresql(
    connection: Connection, trial: Trial, limits: Limits, spending: Spending
) -> Run:
    began = clock.now_s()
    sent: list[tuple[str, Any]] = []
    counted, ms, cut, rows = None, 0.0, False, 0
    try:
        with limit_time(connection, limits.most_ms):
            with sent_on(connection) as sent:
                began = clock.now_s()
                rows = trial.run()
                ms = (clock.now_s() - began) * 1e3
            # A second run costs what the first did; taken where a wrong estimate must be explained,
            # or where much of the budget is left.
            spare = ms < spending.left_ms / 4
            wanted = ms <= limits.slow_ms or ms > limits.misjudged_ms or spare
            if wanted and ms <= spending.left_ms:
                counted = float(count_again(connection, sent).blocks or 0)
    except VrelkoError as error:
        if not was_cut(error):
            raise
        connection.rollback()
        # With a time the page itself had ended, and its count was cut.
        ms, cut = ms or (clock.now_s() - began) * 1e3, not ms
    return Run(counted, ms, cut, rows)


def _run_mariadb(connection: Connection, trial: Trial, limits: Limits, spending: Spending) -> Run:
    began = clock.now_s()
    # Twice: the difference is what looking at the counters counts by itself.
    first, before = read_handlers(connection), read_handlers(connection)
    ms, cut, rows = 0.0, False, 0
    try:
        with limit_time(connection, limits.most_ms):
            began = clock.now_s()
            rows = trial.run()
            ms = (clock.now_s() - began) * 1e3
    except VrelkoError as error:
        if not was_cut(error):
            raise
        connection.rollback()
        ms, cut = (clock.now_s() - began) * 1e3, True
    own = before[0] - first[0]  # what looking reads; asking for the limit before reads no row
    counted = read_handlers(connection)[0] - before[0] - own
    return Run(float(counted), ms, cut, rows)


def _run_sqlite(connection: Connection, trial: Trial, limits: Limits, spending: Spending) -> Run:
    # Counting each step would take longer than the steps.
    grain = max(int(trial.estimate.steps / _COUNTED_TICKS), 1)
    began, cut, spent, rows = clock.now_s(), False, spending.spent_ms, 0
    with count_steps(connection, grain, limits.most_ms) as steps:
        try:
            rows = trial.run()
        except VrelkoError as error:
            if not was_cut(error):
                raise
            cut = True
    ms = (clock.now_s() - began) * 1e3
    spending.add(ms - (spending.spent_ms - spent))  # it works while rows come
    if not cut and ms < _COUNTED_MS and spending.left_ms > ms:
        ms = min(ms, time_again(connection, trial, spending))  # counting takes time too
    return Run(float(steps.count), ms, cut, rows)


def _steps_of(connection: Connection, trial: Trial) -> float:
    grain = max(int(trial.estimate.steps / _COUNTED_TICKS), 1)
    with count_steps(connection, grain) as steps:
        trial.run()
    return float(steps.count)


def _buffers_of(connection: Connection, trial: Trial) -> float:
    return float(count_reads(connection, trial.run).blocks or 0)


def _handlers_of(connection: Connection, trial: Trial) -> float:
    return float(count_reads(connection, trial.run).handlers)


@dataclass(frozen=True, slots=True, kw_only=True)
class EngineMeasuring:
    """The functions of one engine; none has a default.

    `count`: what its own counter shows for a trial; `run` a trial within limits; `try_indexes`:
    advice with what trials of the indexes told. `works_on`: it works while rows are fetched, when a
    statement is said to be over.
    """

    count: Callable[[Connection, Trial], float]
    run: Callable[[Connection, Trial, Limits, Spending], Run]
    try_indexes: Callable[[Engine, Plan], tuple[Advice, ...]]
    works_on: bool


MEASURING: dict[str, EngineMeasuring] = {
    "sqlite": EngineMeasuring(
        count=_steps_of, run=_run_sqlite, try_indexes=on_a_copy, works_on=True
    ),
    "postgresql": EngineMeasuring(
        count=_buffers_of, run=_run_postgresql, try_indexes=hypothetically, works_on=False
    ),
    "mariadb": EngineMeasuring(
        count=_handlers_of, run=_run_mariadb, try_indexes=not_at_all, works_on=False
    ),
}


def count_work(connection: Connection, trial: Trial) -> float:
    """Return what the engine's own counter shows for a trial: see `core.cost.counted`."""
    return MEASURING[engine_of(connection).name].count(connection, trial)


def run_limited(
    connection: Connection,
    trial: Trial,
    most_ms: float,
    spending: Spending,
    slow_ms: float,
    misjudged_ms: float,
) -> Run:
    """Run a trial once, no statement of it longer than `most_ms`, and count what it reads.

    PostgreSQL counts by running it again, which is left out where it took more than `slow_ms` and a
    quarter of the time left, unless it took more than `misjudged_ms` too.
    """
    limits = Limits(most_ms, slow_ms, misjudged_ms)
    return MEASURING[engine_of(connection).name].run(connection, trial, limits, spending)


def time_again(connection: Connection, trial: Trial, spending: Spending) -> float:
    """Run a trial and return its milliseconds."""
    began, spent = clock.now_s(), spending.spent_ms
    trial.run()
    ms = (clock.now_s() - began) * 1e3
    if MEASURING[engine_of(connection).name].works_on:
        spending.add(ms - (spending.spent_ms - spent))
    return ms


def try_indexes(engine: Engine, given: Plan) -> Plan:
    """Return the plan with its index advice tried, if the engine can try indexes.

    SQLite: every index is built on a copy of the file, and the order's pages are timed before and
    after. PostgreSQL with the extension hypopg in this database: the server is asked whether it
    would take the index, which is never built. Otherwise the advice says why it was not tried.
    Raises DatabaseError.
    """
    if not given.indexes:
        return given
    with database_errors("trial of an index"):
        tried = MEASURING[given.facts.server.engine].try_indexes(engine, given)
    return replace(given, judgement=replace(given.judgement, advice=tried))
