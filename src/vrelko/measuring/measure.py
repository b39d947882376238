"""measure: the pages of a plan, run on the database, beside what was estimated."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from typing import Any

from sqlalchemy import Connection, Engine

from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.rates import Clock, Time
from vrelko.core.cost.work import Work
from vrelko.core.engine_traits import TRAITS
from vrelko.core.number_format import render_ms
from vrelko.core.strategies import Strategy
from vrelko.engines.registry import database_errors
from vrelko.errors import PageError, VrelkoError
from vrelko.measuring.budget import BUDGET_MS, Spending
from vrelko.measuring.engines import run_limited, time_again
from vrelko.measuring.memory import MOST_HELD, Footprint, measure_memory
from vrelko.measuring.trials import Bench, Trial, was_cut
from vrelko.planning.plan import Plan

SCHEMA = "vrelko.measurement/2"

MOST_ROWS = 1_000_000
"""A listing of more rows is not loaded whole to be measured."""

MOST_READERS = 10
"""Readers whose memory is measured at once; a connection pool has 15 by default."""

_ROUNDS = 3
_SLOWER = 0.2  # of the pages may take longer than their interval says; one in twenty should
_QUICK_MS = 50.0  # a page that took longer is not run again for its time


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """One page: what was estimated, what was counted.

    `expected` and `counted` in the engine's own unit (see `Measurement.unit`), `time` as estimated
    with its bounds, `ms` the fastest of three runs with everything in cache that finds room, `rows`
    fetched (one more than the page holds). `page` 0 stands for telling the total.
    """

    strategy: Strategy | str
    page: int
    offset: int
    estimate: Work
    expected: float
    counted: float
    time: Time
    ms: float
    rows: int

    @property
    def ratio(self) -> float:
        """Counted over expected."""
        return float(self.counted / max(self.expected, 1.0))

    @property
    def ms_ratio(self) -> float:
        """Milliseconds measured over those expected."""
        return float(self.ms / max(self.time.ms, 1e-6))

    @property
    def inside(self) -> bool:
        """Whether the time lies within its bounds."""
        return self.time.low <= self.ms <= self.time.high


@dataclass(frozen=True, slots=True)
class Measurement:
    """Every page of a plan's ladders, measured. `notes` say what was not run and why.

    `unit` is what is counted: VM steps, shared buffers or handler rows. `memory` holds what pages
    and whole loads took in the application, for one reader and for several at once.
    """

    listing: str
    unit: str
    pages: tuple[Measured, ...]
    memory: tuple[Footprint, ...]
    notes: tuple[str, ...]

    @property
    def outcome(self) -> tuple[str, str]:
        """Whether the plan held, and how many times lie where, with the one furthest off."""
        pages = self.pages
        inside = sum(page.inside for page in pages)
        slower = sum(page.ms > page.time.high for page in pages)
        held = "the plan held" if slower <= _SLOWER * len(pages) else "the plan did not hold"
        told = (
            f"{inside} of {len(pages)} times are within their 90 % interval, "
            f"{len(pages) - inside - slower} below and {slower} above."
        )
        if pages:
            worst = max(pages, key=lambda one: max(one.ms_ratio, 1 / max(one.ms_ratio, 1e-9)))
            place = "all rows, " if worst.strategy == "whole" else ""
            # A total is of no page.
            place = place or (f"page {worst.page:,}, " if worst.page else "")
            told += (
                f" Furthest off: {worst.strategy}, {place}estimated {render_ms(worst.time.ms)} "
                f"ms, measured {render_ms(worst.ms)}."
            )
        return f"{self.listing}: {held}.", told

    def as_dict(self) -> dict[str, Any]:
        """Return the measurement as plain data (schema `vrelko.measurement/2`)."""
        pages = [
            {**asdict(page), "ratio": page.ratio, "ms_ratio": page.ms_ratio, "inside": page.inside}
            for page in self.pages
        ]
        return {
            "schema": SCHEMA,
            "listing": self.listing,
            "unit": self.unit,
            "pages": pages,
            "memory": [asdict(one) for one in self.memory],
            "notes": self.notes,
        }

    def to_json(self) -> str:
        """Return the measurement as JSON text."""
        return json.dumps(self.as_dict(), indent=2)

    def to_frame(self) -> Any:
        """Return the measurement as a pandas DataFrame, a row for each page."""
        import pandas

        return pandas.DataFrame(
            {
                "strategy": p.strategy,
                "page": p.page,
                "offset": p.offset,
                "rows": p.rows,
                "expected": p.expected,
                "counted": p.counted,
                "ratio": p.ratio,
                "expected_ms": p.time.ms,
                "low_ms": p.time.low,
                "high_ms": p.time.high,
                "ms": p.ms,
            }
            for p in self.pages
        )


def measure(
    engine: Engine, plan: Plan, readers: int | None = None, budget_ms: float = BUDGET_MS
) -> Measurement:
    """Run the pages of every candidate of a plan; count their work, time them, weigh their rows.

    Reads only, for `budget_ms` milliseconds of database time in all, a quarter of them by one
    statement at most. A page runs up to five times, on PostgreSQL also under EXPLAIN ANALYZE; what
    is slow runs once, and what is left out is noted. Memory is measured for one reader and for
    `readers` at once (None: the plan's users, at most 10). Raises PageError where a parameter has
    no value or for a budget that is not above 0, DatabaseError when the database refuses.
    """
    plan.check_values()
    notes: list[str] = []
    spending = Spending(budget_ms)
    engine_name = plan.facts.server.engine
    at_once = min(readers or plan.given.readers.users, MOST_READERS)
    with (
        database_errors("measurement"),
        spending.watch(engine),
        engine.connect() as connection,
    ):
        # One connection for all pages, so that what is in its cache is alike for each.
        pages = tuple(_pages(connection, plan, notes, spending))
    # A whole load of more would take the memory that it is to measure.
    few = plan.judgement.rows <= MOST_HELD
    memory: tuple[Footprint, ...] = ()
    if spending.left_ms > 0:
        memory = tuple(measure_memory(engine, plan, at_once, few, notes))
    else:
        notes.append("memory was not measured: the budget of database time was spent")
    return Measurement(plan.listing, TRAITS[engine_name].unit, pages, memory, tuple(notes))


def _pages(
    connection: Connection, plan: Plan, notes: list[str], spending: Spending
) -> Iterator[Measured]:
    """Yield the ladders' pages, in the order of the candidates; first pages are run first."""
    bench = Bench(connection, plan)
    clock = Clock(plan.judgement.rates, plan.facts.server)
    size, asked = plan.judgement.size, []
    for place, candidate in enumerate(plan.candidates):
        if candidate.strategy == "whole" and plan.judgement.rows > MOST_ROWS:
            notes.append(f"whole was not run: {plan.judgement.rows:,.0f} rows")
            continue
        # All rows are all rows, whichever page is asked for.
        rungs = candidate.ladder[:1] if candidate.strategy == "whole" else candidate.ladder
        asked += [(i, place, candidate.strategy, rung) for i, rung in enumerate(rungs)]
    found = {}
    left_out: dict[str, list[int]] = {}
    # First pages of all before any deep one: what is left when the budget ends still compares
    # strategies.
    for i, place, strategy, rung in sorted(asked, key=lambda one: one[:2]):
        name = f"{strategy}, page {rung.page:,}"
        # Predicted too slow: not even started.
        if rung.time.ms > max(spending.one_ms, 1.0) or spending.one_ms <= 0:
            left_out.setdefault(strategy, []).append(rung.page)
            continue
        try:
            trial = bench.page(strategy, rung.offset, size, spending.one_ms)
        except PageError:
            notes.append(f"{name} was not run: the listing has fewer rows than the plan says")
            continue
        except VrelkoError as error:  # the key that it begins behind took too long
            if not was_cut(error):
                raise
            # PostgreSQL refuses all else in a transaction whose statement was cut off.
            connection.rollback()
            notes.append(f"{name} was not run: its key was not found in {spending.one_ms:,.0f} ms")
            continue
        measured = _measured(connection, trial, rung.page, clock, spending)
        if measured is None:
            notes.append(f"{name} took longer than the time limit")
        else:
            found[place, i] = measured
    yield from (found[key] for key in sorted(found))
    if left_out:
        named = "; ".join(
            name if name == "whole" else f"{name} {', '.join(f'{page:,}' for page in pages)}"
            for name, pages in left_out.items()
        )
        notes.append(
            f"pages not run, to keep within {spending.budget_ms:,.0f} ms of database time: {named}"
        )
    # The total last: it is one figure, and may take as long as all pages.
    if plan.judgement.count is not None and plan.judgement.count_time is not None:
        if plan.judgement.count_time.ms > spending.one_ms:
            notes.append(f"the total was not counted: about {plan.judgement.count_time.ms:,.0f} ms")
            return
        cap = plan.outline.cap if plan.outline.total == "capped" else None
        trial = bench.total(cap)
        total = _measured(connection, trial, 0, clock, spending)
        if total is not None:
            yield replace(total, strategy=f"total ({plan.outline.total})", rows=1)


def _measured(
    connection: Connection, trial: Trial, page: int, clock: Clock, spending: Spending
) -> Measured | None:
    """Return a page as measured; None where it ran into its time limit, or was not counted."""
    engine = clock.rates.engine
    # Counted in the first run, timed in those after it: counting slows a page.
    run = run_limited(connection, trial, spending.one_ms, spending, spending.one_ms, 0.0)
    if run.cut or run.counted is None:
        return None
    ms = run.ms
    for _ in range(_ROUNDS):
        # Quick pages are mostly noise at the first run; slow ones are too dear to repeat.
        if ms < _QUICK_MS and ms < spending.one_ms:
            ms = min(ms, time_again(connection, trial, spending))
    return Measured(
        strategy=trial.strategy,
        page=page,
        offset=trial.offset,
        estimate=trial.estimate,
        expected=counted_as(engine, trial.estimate),
        counted=run.counted,
        time=clock.time(trial.estimate, trial.passing, trial.path),
        ms=ms,
        rows=int(run.rows),
    )
