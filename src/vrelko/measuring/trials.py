"""Trials: the pages of a plan as statements that can be run, beside what is expected of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from typing import Any, TypeVar

from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

from vrelko.core.access_path import AccessPath
from vrelko.core.arithmetic import Total
from vrelko.core.cost.model import CostModel
from vrelko.core.cost.work import Work
from vrelko.core.judgement import VariantUse
from vrelko.core.spot import Spot
from vrelko.engines import clock
from vrelko.engines.limits import is_time_limit, limit_time
from vrelko.errors import PageError, TimeLimitError, VrelkoError
from vrelko.planning.access_paths import Asking
from vrelko.planning.plan import Plan
from vrelko.serving.pages.request import lend, note_move
from vrelko.serving.pages.rows import PageReader
from vrelko.serving.variants.moved import CatalogMovedError
from vrelko.serving.variants.runner import Asked, Runner
from vrelko.serving.variants.store import VariantStore
from vrelko.serving.variants.variant import Variant

_Answer = TypeVar("_Answer")


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


class _WithoutEndCheck:
    """What is known of the tables, without the look into the catalog behind a walk's last page.

    Only the page's own statements are counted.
    """

    def __init__(self, variants: VariantStore) -> None:
        self.forget = variants.forget
        self.read_as_texts = variants.read_as_texts

    def sees(self, lender: Any, variant: Any) -> bool:
        """Return True: a plan's connection keeps its schemas."""
        return True

    def check_end(self, lender: Any, variant: Any) -> None:
        """Do nothing."""


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
        # The same order as the server has it: its NULLs are placed by the engine's own habit.
        self._allowed = listing.orders(plan.facts.server.engine)[names.index(str(self.use.order))]
        self.variant = self._open()
        self.values = listing.run_values(self.use.outline.params)

    def _open(self) -> Variant:
        params = self.use.outline.params
        return self.plan.served.lent_variant(self.connection, str(self._allowed), params)

    def _runner(self, lender: Any) -> Runner:
        known = _WithoutEndCheck(self.plan.served.settings.variants)
        return Runner(lender, self.values, known, self.variant)

    def _as_known(self, read: Callable[[], _Answer]) -> _Answer:
        """Return what is read; again, where the tables are not those that were known."""
        try:
            return read()
        except CatalogMovedError as moved:
            note_move(self.plan.served.settings, moved, again=False)
            self.variant = self._open()
            return read()

    def page(self, strategy: str, offset: int, size: int, most_ms: float | None = None) -> Trial:
        """Return the trial of a page behind `offset` rows.

        The key that it begins behind is read at once, in `most_ms` milliseconds at most.
        """
        # The first page of every strategy is read alike where groups are.
        by_groups = offset == 0 and self.variant.grouping is not None and strategy == "offset"
        work = self.model.strategy("keyset" if by_groups else strategy, offset, size)
        path = self.path(strategy, offset, size)
        # Without conditions to test there is nothing that rows fail.
        passing = path.passing if path.residual else 1.0
        limited = limit_time(self.connection, most_ms) if most_ms else nullcontext()
        with limited:
            # The limit covers the reading of the key too: deep in a table without an index that is
            # the slow part.
            run, asked = self._as_known(lambda: self._reader(strategy, offset, size))
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
        # Facts without a server have no plan to compare with; a first page has no path but one.
        if not routes.explained or trial.unknown or trial.grouped or trial.offset <= 0:
            return None
        # Several statements a page: none of them alone says how it was read.
        if strategy == "keyset" and (routes.seek.branches != 1 or routes.ties is not None):
            return None
        asking = Asking(
            self.connection,
            self.plan.served,
            outline=self.use.outline,
            allowed=self._allowed,
            order=self.use.order,
            facts=self.plan.facts,
        )
        return asking.taken(strategy, trial.asked)

    def total(self, cap: int | None) -> Trial:
        """Return the trial of telling the total."""

        def run() -> int:
            with self._lent() as lender:
                return int(self._runner(lender).value(self.variant.count(cap)))

        # A capped count takes the same path, and stops sooner.
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

    def _reader(
        self, strategy: str, offset: int, size: int
    ) -> tuple[Callable[[], int], Sequence[Asked]]:
        """Return a function that reads one page as it is served, and says how many rows came.

        With it the statements of its last run.
        """
        asked = list[Asked]()
        # The key is read before and not counted: a reader brings it along.
        if strategy == "keyset" and offset > 0:
            with self._lent() as lender:
                spot = self._key_before(self._runner(lender), offset, size)
        elif offset == 0 and strategy not in ("two-ended", "far-end"):
            spot = Spot.start()
        elif strategy == "far-end":
            spot = Spot.offset(max(round(self.model.matching) - offset - size, 0))
        else:
            spot = Spot.offset(offset)

        def read() -> Sequence[Asked]:
            total, variant = None, self.variant
            with self._lent() as lender:
                runner = self._runner(lender)
                if strategy == "two-ended":  # which counts first
                    total = Total(int(runner.value(variant.count(None))), "exact")
                if strategy == "far-end":
                    total = Total(round(self.model.matching), "exact")
                # (Its rows are not cut into pages, so there is no spot to read from.)
                if strategy == "whole":
                    runner.fetch(variant.whole(), None, {})
                else:
                    by = "two-ended" if strategy == "far-end" else strategy
                    PageReader(runner, variant, size, strategy=by).read(spot, total)
            return runner.asked

        def page() -> int:
            # It may run several times; only the last run's statements are compared.
            asked[:] = self._as_known(read)
            return sum(one.rows for one in asked)

        return page, asked

    def _lent(self) -> AbstractContextManager[Any]:
        """Lend what the pages are served by: rows of entities come from a Session alone."""
        return lend(self.connection, self.plan.served.settings)

    def _key_before(self, runner: Runner, offset: int, size: int) -> Spot:
        """Return the spot behind the row ahead of an offset, as the page before it has it."""
        start = max(offset - size, 0)
        before = PageReader(runner, self.variant, offset - start).read(Spot.offset(start), None)
        if not before.full:
            raise PageError(
                f"row {offset:,} is past the end", "Ask for a row that is there", "page-past-end"
            )
        # As a served cursor would carry it, or ties would be read otherwise than in service.
        near = self.variant.near(before.full, -1, 0, not before.before)
        return Spot("after", self.variant.key_from(before.full[-1]), near=near)


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
    # The fastest, not the mean: what delays a run is never the page itself.
    best = [float("inf")] * len(trials)
    for trial in trials:
        trial.run()
    # Round by round, so that a busy moment of the machine hits all of them.
    for _ in range(rounds):
        for i, trial in enumerate(trials):
            began = clock.now_s()
            trial.run()
            best[i] = min(best[i], (clock.now_s() - began) * 1e3)
    yield from zip(trials, best, strict=True)
