"""measure: the pages of a plan, run on the database, beside what was estimated."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import Connection, Engine

from vrelko.core.cost.counted import UNITS, counted_as
from vrelko.core.cost.rates import Clock, Time
from vrelko.core.cost.work import Work
from vrelko.core.outline import Strategy
from vrelko.engines.registry import database_errors
from vrelko.measuring.memory import MOST_HELD, Footprint, measure_memory
from vrelko.measuring.trials import Bench, Trial, count_work, time_trials
from vrelko.serving.planning import Plan

SCHEMA = "vrelko.measurement/2"

MOST_ROWS = 1_000_000
"""A listing of more rows is not loaded whole to be measured."""

MOST_MS = 20_000.0
"""A page expected to take longer is not run."""

MOST_READERS = 10
"""Readers whose memory is measured at once; a connection pool has 15 by default."""

_ROUNDS = 3


@dataclass(frozen=True, slots=True)
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

    def as_dict(self) -> dict[str, Any]:
        """Return the measurement as plain data (schema `vrelko.measurement/2`)."""
        pages = [
            {**asdict(page), "ratio": page.ratio, "ms_ratio": page.ms_ratio, "inside": page.inside}
            for page in self.pages
        ]
        return {
            "schema": SCHEMA, "listing": self.listing, "unit": self.unit, "pages": pages,
            "memory": [asdict(one) for one in self.memory], "notes": self.notes,
        }  # fmt: skip

    def to_json(self) -> str:
        """Return the measurement as JSON text."""
        return json.dumps(self.as_dict(), indent=2)

    def to_frame(self) -> Any:
        """Return the measurement as a pandas DataFrame, a row for each page."""
        import pandas

        return pandas.DataFrame(
            {"strategy": p.strategy, "page": p.page, "offset": p.offset, "rows": p.rows,
             "expected": p.expected, "counted": p.counted, "ratio": p.ratio,
             "expected_ms": p.time.ms, "low_ms": p.time.low, "high_ms": p.time.high, "ms": p.ms}
            for p in self.pages
        )  # fmt: skip


def measure(engine: Engine, plan: Plan, readers: int | None = None) -> Measurement:
    """Run the pages of every candidate of a plan; count their work, time them, weigh their rows.

    Reads only; each page runs five times, on PostgreSQL also under EXPLAIN ANALYZE. Memory is
    measured for one reader and for `readers` at once (None: the plan's users, at most 10).
    Raises PageError where a parameter has no value, DatabaseError when the database refuses.
    """
    plan.check_values()
    notes: list[str] = []
    engine_name = plan.facts.server.engine
    at_once = min(readers or plan.given.readers.users, MOST_READERS)
    with database_errors("measurement"), engine.connect() as connection:
        pages = tuple(_pages(connection, plan, notes))
    few = plan.judgement.rows <= MOST_HELD
    memory = tuple(measure_memory(engine, plan, at_once, few, notes))
    return Measurement(plan.listing, UNITS[engine_name], pages, memory, tuple(notes))


def _pages(connection: Connection, plan: Plan, notes: list[str]) -> Iterator[Measured]:
    bench = Bench(connection, plan)
    clock = Clock(plan.judgement.rates, plan.facts.server)
    size = plan.judgement.size
    for candidate in plan.candidates:
        if candidate.strategy == "whole" and plan.judgement.rows > MOST_ROWS:
            notes.append(f"whole was not run: {plan.judgement.rows:,.0f} rows")
            continue
        rungs = candidate.ladder[:1] if candidate.strategy == "whole" else candidate.ladder
        for rung in rungs:
            if rung.time.ms > MOST_MS:
                notes.append(
                    f"{candidate.strategy}, page {rung.page:,} was not run: about "
                    f"{rung.time.ms / 1000:,.0f} s"
                )
                continue
            trial = bench.page(candidate.strategy, rung.offset, size)
            yield _measured(connection, trial, rung.page, clock)
    if plan.judgement.count is not None:
        cap = plan.outline.cap if plan.outline.total == "capped" else None
        trial = bench.total(cap)
        found = _measured(connection, trial, 0, clock)
        yield Measured(f"total ({plan.outline.total})", 0, 0, trial.estimate, found.expected,
                       found.counted, found.time, found.ms, 1)  # fmt: skip


def _measured(connection: Connection, trial: Trial, page: int, clock: Clock) -> Measured:
    engine = clock.rates.engine
    rows = trial.run()
    counted = count_work(connection, trial)
    ((_, ms),) = time_trials([trial], _ROUNDS)
    return Measured(
        trial.strategy, page, trial.offset, trial.estimate, counted_as(engine, trial.estimate),
        counted, clock.time(trial.estimate, trial.passing, trial.path), ms, rows,
    )  # fmt: skip
