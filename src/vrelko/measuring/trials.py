"""Trials: the pages of a plan as statements that can be run, beside what is expected of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from time import perf_counter

from sqlalchemy import Connection

from vrelko.core.arithmetic import Total
from vrelko.core.cost.model import CostModel, make_model
from vrelko.core.cost.work import Work
from vrelko.core.planner import VariantUse
from vrelko.core.spot import Spot
from vrelko.engines.counting import count_reads
from vrelko.engines.sqlite import count_steps
from vrelko.serving.planning import Plan
from vrelko.serving.reading import PageReader
from vrelko.serving.running import Runner
from vrelko.serving.variants import Variant

_COUNTED_TICKS = 200_000  # calls of SQLite's step counter a statement may cost, about


@dataclass(frozen=True)
class Trial:
    """One page that can be run: how, where it begins, what is expected, by which access path.

    `passing` is the share of rows that pass conditions the index does not hold.
    """

    strategy: str
    offset: int
    estimate: Work
    path: str
    passing: float
    run: Callable[[], int]


class Bench:
    """Runs one variant of a plan on a connection."""

    def __init__(self, connection: Connection, plan: Plan, use: VariantUse | None = None) -> None:
        self.connection = connection
        self.plan = plan
        self.use = use or plan.uses[0]
        table = plan.facts.table(self.use.outline.table)
        self.model: CostModel = make_model(
            self.use.outline, self.use.order, table, plan.facts.server, self.use.routes,
            self.use.rows,
        )  # fmt: skip
        listing = plan.served
        names = [str(order) for order in self.use.outline.orders]
        allowed = listing.orders(plan.facts.server.engine)[names.index(str(self.use.order))]
        self.variant: Variant = listing.lent_variant(
            connection, str(allowed), self.use.outline.params
        )
        self.values = listing.run_values(self.use.outline.params)

    def page(self, strategy: str, offset: int, size: int) -> Trial:
        """Return the trial of a page behind `offset` rows."""
        work = self.model.strategy(strategy, offset, size)
        model = self.model
        path = model.seek_at(offset) if strategy == "keyset" else model.path_at(offset, size)
        passing = path.passing if path.residual else 1.0
        return Trial(strategy, offset, work, path.signature, passing,
                     self._runner(strategy, offset, size))  # fmt: skip

    def total(self, cap: int | None) -> Trial:
        """Return the trial of telling the total."""

        def run() -> int:
            Runner(self.connection, self.values).value(self.variant.count(cap))
            return 1

        path = self.model.routes.count
        name = "count" if cap is None else "capped count"
        return Trial(name, 0, self.model.count(cap), f"count {path.signature}",
                     path.passing if path.residual else 1.0, run)  # fmt: skip

    def _runner(self, strategy: str, offset: int, size: int) -> Callable[[], int]:
        """Return a function that reads one page as it is served, and says how many rows came."""
        runner, variant = Runner(self.connection, self.values), self.variant
        if strategy == "keyset" and offset > 0:
            spot = self._key_before(runner, offset, size)
        elif offset == 0 and strategy != "two-ended":
            spot = Spot.start()
        else:
            spot = Spot.offset(offset)

        def page() -> int:
            runner.asked.clear()
            total = None
            if strategy == "two-ended":  # which counts first
                total = Total(int(runner.value(variant.count(None))), "exact")
            if strategy == "whole":
                runner.fetch(variant.whole(), None, {})
            else:
                PageReader(runner, variant, size, strategy).read(spot, total)
            return sum(asked.rows for asked in runner.asked)

        return page

    def _key_before(self, runner: Runner, offset: int, size: int) -> Spot:
        """Return the spot behind the row ahead of an offset, as the page before it has it."""
        start = max(offset - size, 0)
        before = PageReader(runner, self.variant, offset - start).read(Spot.offset(start), None)
        if not before.full:
            return Spot.end()
        near = self.variant.near(before.full, -1, 0, not before.before)
        return Spot("after", self.variant.key_from(before.full[-1]), near=near)


def count_work(connection: Connection, trial: Trial) -> float:
    """Return what the engine's own counter shows for a trial: see `core.cost.counted`."""
    name = connection.dialect.name
    if name == "sqlite":
        grain = max(int(trial.estimate.steps / _COUNTED_TICKS), 1)
        with count_steps(connection, grain) as steps:
            trial.run()
        return float(steps.count)
    reads = count_reads(connection, trial.run)
    return float(reads.blocks or 0) if name == "postgresql" else float(reads.handlers)


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
