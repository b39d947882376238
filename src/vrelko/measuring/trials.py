"""Trials: the pages of a plan as statements that can be run, beside what is expected of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from time import perf_counter
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

from vrelko.core.access_path import AccessPath
from vrelko.core.arithmetic import Total
from vrelko.core.cost.model import CostModel
from vrelko.core.cost.work import Work
from vrelko.core.planner import VariantUse
from vrelko.core.spot import Spot
from vrelko.engines.counters import count_reads
from vrelko.engines.limits import is_time_limit, limit_time
from vrelko.engines.mariadb.session import read_handlers
from vrelko.engines.postgresql.session import count_again
from vrelko.engines.reads import sent_on
from vrelko.engines.registry import engine_of
from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.errors import PageError, TimeLimitError, VrelkoError
from vrelko.measuring.budget import Spending
from vrelko.planning.access_paths import Asking
from vrelko.planning.plan import Plan
from vrelko.serving.pages.rows import PageReader
from vrelko.serving.variants.runner import Asked, Runner
from vrelko.serving.variants.variant import Variant

_COUNTED_TICKS = 5_000  # calls of SQLite's step counter a statement may cost, about


_COUNTED_MS = 200.0  # SQLite's pages that took longer are not run again


@dataclass(frozen=True, kw_only=True)
class Trial:
    """One page that can be run: how, where it begins, what is expected, by which access path.

    `passing` is the share of rows that pass conditions the index does not hold; `unknown` is what
    the server said of the page that is not understood. `grouped`: it is a first page, read by
    groups though its strategy is by offset. `asked` holds the statements of the last run.
    """

    strategy: str
    offset: int
    estimate: Work
    path: str
    passing: float
    run: Callable[[], int]
    unknown: str = ""
    grouped: bool = False
    asked: Sequence[Asked] = ()


class Bench:
    """Runs one variant of a plan on a connection."""

    def __init__(self, connection: Connection, plan: Plan, use: VariantUse | None = None) -> None:
        self.connection = connection
        self.plan = plan
        self.use = use or plan.uses[0]
        table = plan.facts.table(self.use.outline.table)
        self.model: CostModel = self.use.model(table, plan.facts.server)
        listing = plan.served
        names = [str(order) for order in self.use.outline.orders]
        self._allowed = listing.orders(plan.facts.server.engine)[names.index(str(self.use.order))]
        self.variant: Variant = listing.lent_variant(
            connection, str(self._allowed), self.use.outline.params
        )
        self.values = listing.run_values(self.use.outline.params)

    def page(self, strategy: str, offset: int, size: int, most_ms: float | None = None) -> Trial:
        """Return the trial of a page behind `offset` rows.

        The key that it begins behind is read at once, in `most_ms` milliseconds at most.
        """
        by_groups = offset == 0 and self.variant.grouping is not None and strategy == "offset"
        work = self.model.strategy("keyset" if by_groups else strategy, offset, size)
        path = self.path(strategy, offset, size)
        passing = path.passing if path.residual else 1.0
        limited = limit_time(self.connection, most_ms) if most_ms else nullcontext()
        with limited:
            run, asked = self._runner(strategy, offset, size)
        grouped = offset == 0 and self.variant.grouping is not None
        return Trial(
            strategy=strategy,
            offset=offset,
            estimate=work,
            path=path.signature,
            passing=passing,
            run=run,
            unknown=path.unknown,
            grouped=grouped,
            asked=asked,
        )

    def path(self, strategy: str, offset: int, size: int) -> AccessPath:
        """Return the access path of a page."""
        return self.model.path_of(strategy, offset, size)

    def taken(self, trial: Trial) -> AccessPath | None:
        """Ask by which access path the page of a trial that was run is read; None where unsure."""
        routes, strategy = self.model.routes, trial.strategy
        if not routes.seen or trial.unknown or trial.grouped or trial.offset <= 0:
            return None
        if strategy == "keyset" and (routes.seek.branches != 1 or routes.ties is not None):
            return None
        asking = Asking(
            self.connection,
            self.plan.served,
            self.use.outline,
            self._allowed,
            self.use.order,
            self.plan.facts,
        )
        return asking.taken(strategy, trial.asked)

    def total(self, cap: int | None) -> Trial:
        """Return the trial of telling the total."""

        def run() -> int:
            return int(Runner(self.connection, self.values).value(self.variant.count(cap)))

        path = self.model.routes.count
        name = "count" if cap is None else "capped count"
        return Trial(
            strategy=name,
            offset=0,
            estimate=self.model.count(cap),
            path=f"count {path.signature}",
            passing=path.passing if path.residual else 1.0,
            run=run,
            unknown=path.unknown,
        )

    def _runner(
        self, strategy: str, offset: int, size: int
    ) -> tuple[Callable[[], int], Sequence[Asked]]:
        """Return a function that reads one page as it is served, and says how many rows came.

        With it the statements of its last run.
        """
        runner, variant = Runner(self.connection, self.values), self.variant
        if strategy == "keyset" and offset > 0:
            spot = self._key_before(runner, offset, size)
        elif offset == 0 and strategy not in ("two-ended", "far-end"):
            spot = Spot.start()
        elif strategy == "far-end":
            spot = Spot.offset(max(round(self.model.matching) - offset - size, 0))
        else:
            spot = Spot.offset(offset)

        def page() -> int:
            runner.asked.clear()
            total = None
            if strategy == "two-ended":  # which counts first
                total = Total(int(runner.value(variant.count(None))), "exact")
            if strategy == "far-end":
                total = Total(round(self.model.matching), "exact")
            if strategy == "whole":
                runner.fetch(variant.whole(), None, {})
            else:
                by = "two-ended" if strategy == "far-end" else strategy
                PageReader(runner, variant, size, by).read(spot, total)
            return sum(asked.rows for asked in runner.asked)

        return page, runner.asked

    def _key_before(self, runner: Runner, offset: int, size: int) -> Spot:
        """Return the spot behind the row ahead of an offset, as the page before it has it."""
        start = max(offset - size, 0)
        before = PageReader(runner, self.variant, offset - start).read(Spot.offset(start), None)
        if not before.full:
            raise PageError(
                f"row {offset:,} is past the end", "Ask for a row that is there", "page-past-end"
            )
        near = self.variant.near(before.full, -1, 0, not before.before)
        return Spot("after", self.variant.key_from(before.full[-1]), near=near)


def count_work(connection: Connection, trial: Trial) -> float:
    """Return what the engine's own counter shows for a trial: see `core.cost.counted`."""
    return _WORK[engine_of(connection).name](connection, trial)


def _steps_of(connection: Connection, trial: Trial) -> float:
    grain = max(int(trial.estimate.steps / _COUNTED_TICKS), 1)
    with count_steps(connection, grain) as steps:
        trial.run()
    return float(steps.count)


def _buffers_of(connection: Connection, trial: Trial) -> float:
    return float(count_reads(connection, trial.run).blocks or 0)


def _handlers_of(connection: Connection, trial: Trial) -> float:
    return float(count_reads(connection, trial.run).handlers)


_WORK: dict[str, Callable[[Connection, Trial], float]] = {
    "sqlite": _steps_of,
    "postgresql": _buffers_of,
    "mariadb": _handlers_of,
}


@dataclass(frozen=True, slots=True)
class Run:
    """One run of a trial: what was counted, None where it was not; milliseconds; whether cut.

    `rows` it fetched, or counted.
    """

    counted: float | None
    ms: float
    cut: bool = False
    rows: float = 0.0


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
    limits = _Limits(most_ms, slow_ms, misjudged_ms)
    return _RUNS[engine_of(connection).name](connection, trial, limits, spending)


@dataclass(frozen=True, slots=True)
class _Limits:
    """Milliseconds of a statement at most, and those around a count that is a run of its own."""

    most_ms: float
    slow_ms: float
    misjudged_ms: float


def _run_postgresql(
    connection: Connection, trial: Trial, limits: _Limits, spending: Spending
) -> Run:
    began = perf_counter()
    sent: list[tuple[str, Any]] = []
    counted, ms, cut, rows = None, 0.0, False, 0
    try:
        with limit_time(connection, limits.most_ms):
            with sent_on(connection) as sent:
                began = perf_counter()
                rows = trial.run()
                ms = (perf_counter() - began) * 1e3
            spare = ms < spending.left_ms / 4
            wanted = ms <= limits.slow_ms or ms > limits.misjudged_ms or spare
            if wanted and ms <= spending.left_ms:
                counted = float(count_again(connection, sent).blocks or 0)
    except VrelkoError as error:
        if not was_cut(error):
            raise
        connection.rollback()
        ms, cut = ms or (perf_counter() - began) * 1e3, not ms
    except DBAPIError as error:  # the count, which took longer than the page
        if not is_time_limit(error):
            raise
        connection.rollback()
    return Run(counted, ms, cut, rows)


def _run_mariadb(connection: Connection, trial: Trial, limits: _Limits, spending: Spending) -> Run:
    began = perf_counter()
    first, before = read_handlers(connection), read_handlers(connection)
    ms, cut, rows = 0.0, False, 0
    try:
        with limit_time(connection, limits.most_ms):
            began = perf_counter()
            rows = trial.run()
            ms = (perf_counter() - began) * 1e3
    except VrelkoError as error:
        if not was_cut(error):
            raise
        connection.rollback()
        ms, cut = (perf_counter() - began) * 1e3, True
    own = before[0] - first[0]  # what looking reads; asking for the limit before reads no row
    counted = read_handlers(connection)[0] - before[0] - own
    return Run(float(counted), ms, cut, rows)


def _run_sqlite(connection: Connection, trial: Trial, limits: _Limits, spending: Spending) -> Run:
    grain = max(int(trial.estimate.steps / _COUNTED_TICKS), 1)
    began, cut, spent, rows = perf_counter(), False, spending.spent_ms, 0
    with count_steps(connection, grain, limits.most_ms) as steps:
        try:
            rows = trial.run()
        except VrelkoError as error:
            if not was_cut(error):
                raise
            cut = True
    ms = (perf_counter() - began) * 1e3
    spending.add(ms - (spending.spent_ms - spent))  # it works while rows come
    if not cut and ms < _COUNTED_MS and spending.left_ms > ms:
        ms = min(ms, time_again(connection, trial, spending))  # counting takes time too
    return Run(float(steps.count), ms, cut, rows)


_RUNS: dict[str, Callable[[Connection, Trial, _Limits, Spending], Run]] = {
    "sqlite": _run_sqlite,
    "postgresql": _run_postgresql,
    "mariadb": _run_mariadb,
}


_WORKS_ON = frozenset({"sqlite"})
"""Engines whose work goes on while rows are fetched, when a statement is said to be over."""


def time_again(connection: Connection, trial: Trial, spending: Spending) -> float:
    """Run a trial and return its milliseconds."""
    began, spent = perf_counter(), spending.spent_ms
    trial.run()
    ms = (perf_counter() - began) * 1e3
    if engine_of(connection).name in _WORKS_ON:
        spending.add(ms - (spending.spent_ms - spent))
    return ms


def was_cut(error: VrelkoError) -> bool:
    """Tell whether a statement ran into its time limit."""
    cause = error.__cause__
    return isinstance(error, TimeLimitError) or (
        isinstance(cause, DBAPIError) and is_time_limit(cause)
    )


def time_trials(trials: list[Trial], rounds: int) -> Iterator[tuple[Trial, float]]:
    """Yield each trial with its fastest time in milliseconds; rounds are interleaved.

    Each is run once before, so that everything is in cache that finds room.
    """
    best = [float("inf")] * len(trials)
    for trial in trials:
        trial.run()
    for _ in range(rounds):
        for i, trial in enumerate(trials):
            began = perf_counter()
            trial.run()
            best[i] = min(best[i], (perf_counter() - began) * 1e3)
    yield from zip(trials, best, strict=True)
