"""measure: the pages of a plan, run on the database, beside what was estimated."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from time import perf_counter
from typing import Any

from sqlalchemy import Connection, Engine

from vrelko.core.cost import Work
from vrelko.core.outline import Strategy
from vrelko.core.spot import Spot
from vrelko.engines.registry import check_engine
from vrelko.engines.sqlite import count_steps
from vrelko.serving.planning import Plan
from vrelko.serving.reading import PageReader
from vrelko.serving.running import Runner
from vrelko.serving.variants import Variant

SCHEMA = "vrelko.measurement/1"

MOST_ROWS = 1_000_000
"""A listing of more rows is not loaded whole to be measured."""

_REPEATS = 3
_COUNTED_TICKS = 200_000  # calls of the step counter a statement may cost, about


@dataclass(frozen=True, slots=True)
class Measured:
    """One page: what was estimated, what was counted.

    `steps` VM steps of SQLite, `ms` the fastest of three runs with everything in cache, `rows`
    fetched (one more than the page holds). `page` 0 stands for telling the total.
    """

    strategy: Strategy | str
    page: int
    offset: int
    estimate: Work
    steps: int
    ms: float
    rows: int

    @property
    def ratio(self) -> float:
        """Counted steps over estimated ones."""
        return self.steps / max(self.estimate.steps, 1.0)


@dataclass(frozen=True, slots=True)
class Measurement:
    """Every page of a plan's ladders, measured. `notes` say what was not run and why."""

    listing: str
    pages: tuple[Measured, ...]
    notes: tuple[str, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the measurement as plain data (schema `vrelko.measurement/1`)."""
        pages = [{**asdict(page), "ratio": page.ratio} for page in self.pages]
        return {"schema": SCHEMA, "listing": self.listing, "pages": pages, "notes": self.notes}

    def to_json(self) -> str:
        """Return the measurement as JSON text."""
        return json.dumps(self.as_dict(), indent=2)

    def to_frame(self) -> Any:
        """Return the measurement as a pandas DataFrame, a row for each page."""
        import pandas

        return pandas.DataFrame(
            {"strategy": p.strategy, "page": p.page, "offset": p.offset, "rows": p.rows,
             "estimated_steps": p.estimate.steps, "steps": p.steps, "ratio": p.ratio, "ms": p.ms}
            for p in self.pages
        )  # fmt: skip


def measure(engine: Engine, plan: Plan) -> Measurement:
    """Run the pages of every candidate of a plan, count SQLite's VM steps and time them.

    Reads only; each page runs five times. Raises PageError where a parameter has no
    value, DatabaseError when the database refuses.
    """
    check_engine(engine, "measured")
    plan.check_values()
    notes: list[str] = []
    with engine.connect() as connection:
        pages = tuple(_pages(connection, plan, notes))
    return Measurement(plan.listing, pages, tuple(notes))


def _pages(connection: Connection, plan: Plan, notes: list[str]) -> Iterator[Measured]:
    variant = plan.served.variant("sqlite", None, plan.params)
    size = plan.judgement.size
    for candidate in plan.candidates:
        if candidate.strategy == "whole" and plan.judgement.rows > MOST_ROWS:
            notes.append(f"whole was not run: {plan.judgement.rows:,.0f} rows")
            continue
        rungs = candidate.ladder[:1] if candidate.strategy == "whole" else candidate.ladder
        for rung in rungs:
            run = _runner(connection, plan, variant, size, candidate.strategy, rung.offset)
            steps, ms, rows = _count_and_time(connection, run, rung.work.steps)
            yield Measured(candidate.strategy, rung.page, rung.offset, rung.work, steps, ms, rows)
    if plan.judgement.count is not None:
        cap = plan.outline.cap if plan.outline.total == "capped" else None

        def total() -> int:
            Runner(connection, plan.params).value(variant.count(cap))
            return 1

        steps, ms, rows = _count_and_time(connection, total, plan.judgement.count.steps)
        yield Measured(f"total ({plan.outline.total})", 0, 0, plan.judgement.count, steps, ms, rows)


def _runner(
    connection: Connection, plan: Plan, variant: Variant, size: int, strategy: str, offset: int
) -> Callable[[], int]:
    """Return a function that reads one page as it would be served, and says how many rows came."""
    runner = Runner(connection, plan.params)
    spot = Spot.start() if offset == 0 else Spot.offset(offset)
    if strategy == "keyset" and offset > 0:
        before = PageReader(runner, variant, size).read(Spot.offset(max(offset - size, 0)), None)
        spot = Spot.end()
        if before.full:
            near = variant.near(before.full, -1, 0, not before.before)
            spot = Spot("after", variant.key_from(before.full[-1]), near=near)

    def page() -> int:
        runner.asked.clear()
        if strategy == "whole":
            runner.fetch(variant.whole(), None, {})
        else:
            PageReader(runner, variant, size).read(spot, None)
        return sum(asked.rows for asked in runner.asked)

    return page


def _count_and_time(
    connection: Connection, run: Callable[[], int], expected: float
) -> tuple[int, float, int]:
    rows = run()
    with count_steps(connection, max(int(expected / _COUNTED_TICKS), 1)) as steps:
        run()
    times = []
    for _ in range(_REPEATS):
        began = perf_counter()
        run()
        times.append(perf_counter() - began)
    return steps.count, min(times) * 1e3, rows
